package prooftest

import (
	"cmp"
	"fmt"
	"maps"
	"os"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"

	"hodstone/internal/proof"
)

// Words collects what the checks say of brokers that a test puts them to, and holds it to a file, testdata/NAME.txt: by it
// one sees that a fault is found by the assertion that is meant for it, and that what is said of a sound broker is so. Of a
// broker without a fault it is what differs from what is said of the plain stand-in.
//
// WORDS=new in the environment writes the files anew, and WORDS=keep leaves open what is not the same in this run: what
// hangs on the order in which goroutines get their turn is not held to anything. Safe for concurrent use.
type Words struct {
	name string
	mu   sync.Mutex
	said map[saying]string
}

// faults is the file of the matrix of faults. plain is what the checks say there of a stand-in without any, and varies
// what is not the same in every run.
const faults, plain, varies = "words", "none", "*"

type saying struct{ broker, check, version string }

var random = []struct {
	is *regexp.Regexp
	as string
}{
	{regexp.MustCompile(`hodstone/[a-z0-9]{6}\b`), "hodstone/RUN"},
	{regexp.MustCompile(`\bhod[a-z0-9]{6}n\d+`), "CLIENT"},
	{regexp.MustCompile(`\s+`), " "},
	{regexp.MustCompile(`standin-\d+`), "GIVEN"},
	{regexp.MustCompile(`/broker/\S+`), "/broker/TOPIC"},
	{
		regexp.MustCompile(` \| watched for \S+ in all`),
		"",
	}, // what else the broker does meanwhile
	{
		regexp.MustCompile(`(0x[01]0 and )?0x[01]0 where nobody subscribes`),
		"CODE where nobody subscribes",
	}, // other checks' clients may
	{regexp.MustCompile(`\S+ after its last packet, \d+ messages later`), "later"},
}

// NewWords returns those of a file.
func NewWords(name string) *Words { return &Words{name: name, said: map[saying]string{}} }

// Of takes in a proof's results: all of a sound broker, and those that are broken under a fault.
func (w *Words) Of(broker string, sound bool, p *proof.Proof) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for i := range p.Results {
		r := &p.Results[i]
		if r.Verdict == proof.Skipped || r.Verdict != proof.Broken && !sound {
			continue
		}
		text := strings.Join(append([]string{r.Seen}, r.Notes...), " | ")
		for _, x := range random {
			text = x.is.ReplaceAllString(text, x.as)
		}
		w.said[saying{broker, r.Check.Name, r.Version.String()}] = text
	}
}

// Compare holds what was said to the file.
func (w *Words) Compare(t *testing.T) {
	t.Helper()
	if Raced && w.name != faults { // 'make test' runs the whole without the race detector too
		return
	}
	as := map[saying]string{} // of the plain stand-in
	if w.name != faults {
		for k, text := range read(t, faults) {
			if k.broker == plain {
				as[saying{"", k.check, k.version}] = text
			}
		}
	}
	mode := os.Getenv("WORDS")
	held := map[saying]string{}
	if mode != "new" {
		held = read(t, w.name)
	}
	for k, text := range w.said {
		usual := as[saying{"", k.check, k.version}]
		want, is := held[k]
		switch {
		case mode == "new" && text != usual:
			held[k] = text
		case mode == "new",
			want == varies,
			want == text,
			w.name == faults && !is,
			!is && (text == usual || usual == varies):
		case mode == "keep":
			held[k] = varies
		default:
			t.Errorf("of %s, %s in %s says\n%s, want\n%s", k.broker, k.check, k.version, text, cmp.Or(want, usual))
		}
	}
	if mode == "" {
		return
	}
	if err := os.WriteFile(file(w.name), []byte(written(held)), 0o644); err != nil {
		t.Fatal(err)
	}
}

func file(name string) string { return "testdata/" + name + ".txt" }

// read reads a file: a line for each broker, check and text, with the versions in which it is said.
func read(t *testing.T, name string) map[saying]string {
	t.Helper()
	b, err := os.ReadFile(file(name))
	if err != nil {
		t.Fatal(err)
	}
	held := map[saying]string{}
	for line := range strings.Lines(string(b)) {
		part := strings.SplitN(strings.TrimSuffix(line, "\n"), "\t", 4)
		if len(part) != 4 {
			t.Fatalf("%s: %q", file(name), line)
		}
		for _, v := range strings.Fields(part[2]) {
			held[saying{part[0], part[1], v}] = part[3]
		}
	}
	return held
}

// written is what a file holds.
func written(said map[saying]string) string {
	type line struct{ broker, check, text string }
	in := map[line][]string{}
	for _, v := range proof.Versions() {
		for k, text := range said {
			if k.version == v.String() {
				x := line{k.broker, k.check, text}
				in[x] = append(in[x], k.version)
			}
		}
	}
	all := slices.SortedFunc(maps.Keys(in), func(a, b line) int {
		return cmp.Or(
			strings.Compare(a.broker, b.broker),
			strings.Compare(a.check, b.check),
			strings.Compare(a.text, b.text),
		)
	})
	var out strings.Builder
	for _, x := range all {
		fmt.Fprintf(&out, "%s\t%s\t%s\t%s\n", x.broker, x.check, strings.Join(in[x], " "), x.text)
	}
	return out.String()
}
