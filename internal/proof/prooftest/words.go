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

// wordsFile holds what the checks say, for each fault: by it one sees that a fault is found by the assertion that is meant
// for it, and that what is said of it is so. Without a fault it is what each check says that it has seen, with its notes.
//
// WORDS=new in the environment writes it anew, and WORDS=keep drops what is not the same in this run: what hangs on the
// order in which goroutines get their turn is not held to anything.
const wordsFile = "testdata/words.txt"

// words collects what is said, by fault, check and version. Safe for concurrent use.
type words struct {
	mu   sync.Mutex
	said map[saying]string
}

type saying struct{ fault, check, version string }

var random = []struct {
	is *regexp.Regexp
	as string
}{
	{regexp.MustCompile(`hodstone/[a-z0-9]{6}\b`), "hodstone/RUN"},
	{regexp.MustCompile(`\bhod[a-z0-9]{6}n\d+`), "CLIENT"},
	{regexp.MustCompile(`\s+`), " "},
}

// of takes in a proof's results: the broken ones, and all where there was no fault.
func (w *words) of(fault string, p *proof.Proof) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for i := range p.Results {
		r := &p.Results[i]
		if r.Verdict != proof.Broken && (fault != "" || r.Verdict != proof.Kept) {
			continue
		}
		text := strings.Join(append([]string{r.Seen}, r.Notes...), " | ")
		for _, x := range random {
			text = x.is.ReplaceAllString(text, x.as)
		}
		w.said[saying{cmp.Or(fault, "none"), r.Check.Name, r.Version.String()}] = text
	}
}

// compare holds what was said to the file.
func (w *words) compare(t *testing.T) {
	t.Helper()
	mode := os.Getenv("WORDS")
	held := map[saying]string{}
	if mode != "new" {
		b, err := os.ReadFile(wordsFile)
		if err != nil {
			t.Fatal(err)
		}
		for line := range strings.Lines(string(b)) {
			part := strings.SplitN(strings.TrimSuffix(line, "\n"), "\t", 4)
			if len(part) != 4 {
				t.Fatalf("%s: %q", wordsFile, line)
			}
			for _, v := range strings.Fields(part[2]) {
				held[saying{part[0], part[1], v}] = part[3]
			}
		}
	}
	switch mode {
	case "new":
		held = w.said
	case "keep":
		maps.DeleteFunc(held, func(k saying, text string) bool { return w.said[k] != text })
	default:
		for k, text := range w.said {
			if want, is := held[k]; is && want != text {
				t.Errorf("under the fault %s, %s in %s says\n%s, want\n%s", k.fault, k.check, k.version, text, want)
			}
		}
		return
	}
	if err := os.WriteFile(wordsFile, []byte(written(held)), 0o644); err != nil {
		t.Fatal(err)
	}
}

// written is the file: a line for each fault, check and text, with the versions in which it is said.
func written(said map[saying]string) string {
	type line struct{ fault, check, text string }
	in := map[line][]string{}
	for _, v := range proof.Versions() {
		for k, text := range said {
			if k.version == v.String() {
				x := line{k.fault, k.check, text}
				in[x] = append(in[x], k.version)
			}
		}
	}
	all := slices.SortedFunc(maps.Keys(in), func(a, b line) int {
		return cmp.Or(strings.Compare(a.fault, b.fault), strings.Compare(a.check, b.check), strings.Compare(a.text, b.text))
	})
	var out strings.Builder
	for _, x := range all {
		fmt.Fprintf(&out, "%s\t%s\t%s\t%s\n", x.fault, x.check, strings.Join(in[x], " "), x.text)
	}
	return out.String()
}
