package cli_test

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"

	"hodstone/internal/brokertest"
	"hodstone/internal/cli"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/record"
	"hodstone/internal/report"
)

// running is a command at work.
type running struct {
	t    *testing.T
	in   *io.PipeWriter
	done chan int

	mu  sync.Mutex
	out bytes.Buffer
}

func (r *running) Write(b []byte) (int, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.out.Write(b)
}

func (r *running) text() string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.out.String()
}

// want waits until what the command wrote matches, and returns the match.
func (r *running) want(pattern string) string {
	r.t.Helper()
	re := regexp.MustCompile(pattern)
	for end := time.Now().Add(10 * time.Second); ; time.Sleep(5 * time.Millisecond) {
		if m := re.FindStringSubmatch(r.text()); m != nil {
			return m[len(m)-1]
		}
		if time.Now().After(end) {
			r.t.Fatalf("no %q in\n%s", pattern, r.text())
		}
	}
}

func begin(t *testing.T, args ...string) *running {
	in, w := io.Pipe()
	r := &running{t: t, in: w, done: make(chan int, 1)}
	go func() { r.done <- cli.Main(cli.Env{Args: args, In: in, Out: r, ErrOut: r}) }()
	t.Cleanup(func() { w.Close() })
	return r
}

func (r *running) ends(code int) {
	r.t.Helper()
	select {
	case got := <-r.done:
		if got != code {
			r.t.Errorf("exit %d, want %d:\n%s", got, code, r.text())
		}
	case <-time.After(10 * time.Second):
		r.t.Fatalf("it does not end:\n%s", r.text())
	}
}

// feed runs a command with a text on its standard input.
func feed(text string, args ...string) (code int, out, errOut string) {
	var o, e bytes.Buffer
	code = cli.Main(cli.Env{Args: args, In: strings.NewReader(text), Out: &o, ErrOut: &e})
	return code, o.String(), e.String()
}

// TestAStandInSendWatchAndTrace is a day's work by commands: a stand-in with the demo's logins,
// messages by hand, a watch that is recorded, and the record written in every format.
func TestAStandInSendWatchAndTrace(t *testing.T) {
	dir := t.TempDir()
	cred := filepath.Join(dir, "cred")
	file := demoFolder(t, demoRights, "      rights: {store: {publish: [\"marrowvoe/{login}/#\"]}}\n")
	s := begin(
		t,
		"stand-in",
		file,
		"--credentials",
		cred,
		"--maximum-qos",
		"1",
		"--record",
		filepath.Join(dir, "peers.db"),
	)
	tls := s.want(`stand-in on (mqtts://\S+)`)
	wss := s.want(`stand-in on (wss://\S+)`)
	plain := s.want(`stand-in on (mqtt://\S+)`)
	s.want("end it with")
	bench := []string{
		"--ca",
		filepath.Join(cred, "ca.pem"),
		"--username",
		"bench",
		"--password-file",
		filepath.Join(cred, "bench.password"),
	}
	pen := []string{
		"--ca",
		filepath.Join(cred, "ca.pem"),
		"--certificate",
		filepath.Join(cred, "pen-1.crt"),
		"--key",
		filepath.Join(cred, "pen-1.key"),
	}
	send := func(want int, text string, args ...string) string {
		t.Helper()
		code, out, errOut := feed(text, append([]string{"send"}, args...)...)
		if code != want {
			t.Errorf("send %v: exit %d: %s%s", args, code, out, errOut)
		}
		return out + errOut
	}
	if out := send(0, "", append(bench, tls, "marrowvoe/pen/1/status", "on", "--retain")...); !strings.Contains(
		out,
		"PUBACK after",
	) ||
		!strings.Contains(out, "no matching subscribers") {
		t.Error(out)
	}
	if out := send(1, "", append(pen, wss, "marrowvoe/x", "y", "--qos", "2")...); !strings.Contains(
		out,
		"takes at most QoS 1",
	) {
		t.Error(out)
	}
	rec := filepath.Join(dir, "watch.db")
	console := filepath.Join(dir, "console.log")
	os.WriteFile(console, nil, 0o600)
	w := begin(
		t,
		append(
			pen,
			"watch",
			tls,
			"marrowvoe/#",
			"--json",
			"--count",
			"6",
			"--for",
			"30s",
			"--record",
			rec,
			"--follow",
			"console="+console,
			"--subscription-identifier",
			"7",
			"--user-property",
			"shift=early",
		)...)
	w.want(`"marrowvoe/pen/1/status".*"stored":true`)
	os.WriteFile(console, []byte("pump 3 tripped\n"), 0o600)
	send(0, "a\nb\n", append(bench, wss, "marrowvoe/lines", "-", "--lines", "--qos", "1")...)
	payload := filepath.Join(dir, "payload")
	os.WriteFile(payload, []byte{0xff, 0, 1}, 0o600)
	send(
		0,
		"",
		append(
			bench,
			tls,
			"marrowvoe/file",
			"@"+payload,
			"--content-type",
			"image/x-raw",
			"--user-property",
			"a=b",
			"--message-expiry",
			"1m",
			"--topic-alias",
		)...)
	send(0, "all of it\nat once", append(bench, tls, "marrowvoe/stdin", "-", "--qos", "0")...)
	send(
		0,
		"",
		append(bench, "--authentication-method", "SCRAM-SHA-256", plain, "marrowvoe/scram", "x", "--times", "1")[2:]...)
	w.ends(0)
	var topics []string
	for line := range strings.SplitSeq(w.text(), "\n") {
		var m struct {
			Topic, Payload string
			Encoding       string `json:"payload_encoding"`
			Properties     []report.PropertyRecord
		}
		if !strings.HasPrefix(line, "{") {
			continue
		}
		if err := json.Unmarshal([]byte(line), &m); err != nil {
			t.Fatalf("%s: %v", line, err)
		}
		topics = append(topics, m.Topic+"="+m.Payload)
		if m.Topic == "marrowvoe/file" && (m.Encoding != "base64" || len(m.Properties) != 4) {
			t.Errorf("%+v", m)
		}
	}
	if got := strings.Join(topics,
		" "); got != "marrowvoe/pen/1/status=on marrowvoe/lines=a marrowvoe/lines=b marrowvoe/file=/wAB marrowvoe/stdin=all of it\nat once marrowvoe/scram=x" {
		t.Error(got)
	}
	// Who is refused is told with the reason, and who is there can be seen and thrown out.
	if out := send(3, "", "--ca", filepath.Join(cred, "ca.pem"), "--username", "bench", "--password-file",
		filepath.Join(cred, "store.password"), tls, "x", "y"); !strings.Contains(
		out,
		"compare both letter by letter",
	) {
		t.Error(out)
	}
	if out := send(1, "", "--ca", filepath.Join(cred, "ca.pem"), "--username", "store", "--password-file",
		filepath.Join(cred, "store.password"), tls, "marrowvoe/shore/order", "y"); !strings.Contains(
		out,
		"not authorized",
	) {
		t.Error(out)
	}
	long := begin(t, append(bench, "watch", tls, "--client-id", "long", "--protocol-version", "3.1.1")...)
	s.want(`in\s+long from`)
	subscribed := regexp.MustCompile(`long\s+\S+\s+MQTT 3.1.1 bench .* #`)
	for end := time.Now().Add(10 * time.Second); !subscribed.MatchString(s.text()) &&
		time.Now().Before(end); time.Sleep(20 * time.Millisecond) {
		fmt.Fprintf(s.in, "clients\n") // it is in before it has subscribed
	}
	s.want(subscribed.String())
	fmt.Fprintf(s.in, "refused\nthrow-out long\nthrow-out nobody\nfly\n")
	s.want(`CONNECT from .*: bad user name or password: the password of "bench" is wrong`)
	s.want(`PUBLISH marrowvoe/shore/order .*the login "store" may not publish to it`)
	s.want(`long is thrown out`)
	s.want(`no client "nobody" is connected`)
	s.want(`there is no command "fly"`)
	long.want(`trying again in`)
	long.want(`back at`)
	fmt.Fprintf(s.in, "quit\n")
	s.ends(0)
	long.want("refused|closed")

	traceFormats(t, rec, filepath.Join(dir, "peers.db"))
}

// traceFormats writes a record in every format and reads it again.
func traceFormats(t *testing.T, rec, peers string) {
	f, err := record.Open(rec)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	n := int(f.Next() - 1)
	code, out, errOut := run("trace", "show", rec)
	if lines := strings.Count(out, "\n"); code != 0 || lines != n ||
		!strings.Contains(out, "console        │ pump 3 tripped") ||
		!strings.Contains(out, "PUBLISH marrowvoe/stdin QoS 0  all of it⏎at once") {
		t.Errorf("exit %d %s, %d lines of %d:\n%s", code, errOut, lines, n, out)
	}
	_, out, _ = run("trace", "export", rec, "--format", "jsonl", "--filter", "type:publish topic:marrowvoe/file")
	var e report.EventRecord
	d := json.NewDecoder(strings.NewReader(out))
	d.DisallowUnknownFields()
	if err := d.Decode(&e); err != nil || e.Packet != "PUBLISH" || e.Message.Encoding != "base64" || d.More() {
		t.Errorf("%+v, %v in %s", e, err, out)
	}
	_, out, _ = run("trace", "export", rec, "--format", "csv")
	rows, err := csv.NewReader(strings.NewReader(out)).ReadAll()
	if err != nil || len(rows) != n+1 || rows[1][6] != "link" {
		t.Errorf("%d rows: %v", len(rows), err)
	}
	for _, ext := range []string{"svg", "pdf"} {
		path := filepath.Join(t.TempDir(), "s."+ext)
		if code, out, errOut := run("trace", "sequence", rec, "-o", path, "--filter", "since:00:00:00"); code != 0 {
			t.Errorf("exit %d: %s%s", code, out, errOut)
		}
		b, _ := os.ReadFile(path)
		for _, want := range map[string][]string{"svg": {"<svg", "marrowvoe/lines QoS 1", "pump 3 tripped",
			">broker<", "filter since:00:00:00", "stroke-dasharray", "</svg>"}, "pdf": {"%PDF-1", "%%EOF"}}[ext] {
			if !bytes.Contains(b, []byte(want)) {
				t.Errorf("%s lacks %q", ext, want)
			}
		}
	}
	_, out, _ = run("trace", "export", peers, "--format", "pcapng")
	readPCAP(t, out, peers)
	for want, args := range map[string][]string{
		"--format takes jsonl, csv or pcapng": {"trace", "export", rec, "--format", "xml"},
		"ends in .svg or .pdf":                {"trace", "sequence", rec, "-o", "x.png"},
		"there is no event to draw": {"trace", "sequence", rec, "-o", filepath.Join(t.TempDir(), "x.svg"), "--filter",
			"nothing-is-called-so"},
		"is no packet type":      {"trace", "show", rec, "--filter", "type:LETTER"},
		"cannot open the record": {"trace", "show", rec + "x"},
	} {
		if code, _, errOut := run(args...); code != 2 || !strings.Contains(errOut, want) {
			t.Errorf("%v: exit %d %s", args, code, errOut)
		}
	}
}

// readPCAP puts the TCP streams of a pcapng file together again and holds their packets
// against the record.
func readPCAP(t *testing.T, text, path string) {
	f, err := record.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	var want []string
	for n := uint64(1); n < f.Next(); n++ {
		if e, _ := f.At(n); len(e.Raw) > 0 {
			want = append(want, fmt.Sprintf("%x", e.Raw))
		}
	}
	r, err := pcapgo.NewNgReader(strings.NewReader(text), pcapgo.NgReaderOptions{})
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	next := map[string]uint32{}
	for {
		data, _, err := r.ReadPacketData()
		if errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			t.Fatal(err)
		}
		p := gopacket.NewPacket(data, r.LinkType(), gopacket.Default)
		tcp, _ := p.Layer(layers.LayerTypeTCP).(*layers.TCP)
		if tcp == nil || p.ErrorLayer() != nil || tcp.SrcPort != 1883 && tcp.DstPort != 1883 {
			t.Fatalf("%v", p)
		}
		tcp.SetNetworkLayerForChecksum(p.NetworkLayer())
		if err, mismatches := p.VerifyChecksums(); err != nil || len(mismatches) > 0 {
			t.Fatalf("%v %v", err, mismatches)
		}
		flow := fmt.Sprint(p.NetworkLayer().NetworkFlow(), p.TransportLayer().TransportFlow())
		if !tcp.SYN && next[flow] != tcp.Seq {
			t.Errorf("%s goes on at %d, want %d", flow, tcp.Seq, next[flow])
		}
		if next[flow] = tcp.Seq + uint32(len(tcp.Payload)); tcp.SYN || tcp.FIN {
			next[flow]++
		}
		if len(tcp.Payload) > 0 {
			got = append(got, fmt.Sprintf("%x", tcp.Payload))
			if _, err := packet.Decode(tcp.Payload, packet.V5, packet.Lenient); err != nil &&
				tcp.Payload[0]>>4 == byte(packet.CONNECT) {
				t.Error(err)
			}
		}
	}
	if strings.Join(got, " ") != strings.Join(want, " ") || len(got) < 20 {
		t.Errorf("%d packets, want %d", len(got), len(want))
	}
	if !strings.Contains(text, "the real endpoint: 127.0.0.1:") {
		t.Error("no comment tells the real endpoint")
	}
}

// TestWatchingAWorkspace: the stand-in and its devices run, and what breaks the contract is
// told and ends in exit code 1.
func TestWatchingAWorkspace(t *testing.T) {
	t.Parallel()
	file := demoFolder(
		t,
		"every: 7s\n        payload: {kg",
		"every: 300ms\n        payload: {kg",
		"n == 3 && count() % 6 == 1",
		"n == 3",
	)
	code, out, errOut := run("watch", file, "--for", "3s")
	if code != 1 || !strings.Contains(out, "marrowvoe/barge/silos/a  q0  {\"kg\":") ||
		!strings.Contains(out, "? stray: no clause covers this topic") ||
		!strings.Contains(out, "✗ ") ||
		!strings.Contains(errOut, "messages broke the contract") {
		t.Errorf("exit %d %s\n%s", code, errOut, out)
	}
	if code, _, errOut := run("watch", file, "no/such/topic", "--count", "1", "--for", "300ms"); code != 1 ||
		!strings.Contains(errOut, "0 of 1 message came") {
		t.Errorf("exit %d %s", code, errOut)
	}
	// What does not come, what is refused and what a device fails to do are told, as lines and as JSON.
	site := filepath.Join(t.TempDir(), "hodstone.yaml")
	if err := os.WriteFile(site, []byte(`hodstone: 1
brokers:
  quay: {stand-in: {logins: [vat, desk], limits: {maximum-qos: 0}, rights: {desk: {publish: [], subscribe: ["v/#"]}}}, login: vat}
logins: {vat: {}, desk: {}}
contract:
  parties: {vat: , desk: }
  clauses:
    silent: {topic: v/silent, from: vat, to: desk, every: 500ms, payload: {format: text}}
    heard: {topic: v/heard, from: vat, to: desk, every: 200ms ± 2s, payload: {format: text}}
    high: {topic: v/high, from: vat, to: desk, qos: 1, payload: {format: text}}
    order: {topic: v/order, from: vat, to: desk, answer: {clause: done, within: 300ms}, payload: {format: text}}
    done: {topic: v/done, from: desk, to: vat, payload: {format: text}}
devices:
  vat: {plays: vat, login: vat, session: {version: 5}, publishes: [{clause: heard, every: 200ms, payload: x}, {clause: high, every: 300ms, payload: x}, {clause: order, every: 400ms, payload: x}]}
  desk: {plays: desk, login: desk, session: {version: 5}, reactions: [{when: order, publish: high}]}
`), 0o600); err != nil {
		t.Fatal(err)
	}
	code, out, errOut = run("watch", site, "--for", "3s")
	for _, want := range []string{"from vat",
		"○ v/silent breaks silent, every: expected a message every 500ms, saw nothing since the observer began to see", "○ v/order breaks order, answer: expected done within 300ms, saw no answer",
		"✗ vat: high not published: QoS 1: the broker takes at most QoS 0"} {
		if !strings.Contains(out, want) {
			t.Errorf("no %q in\n%s", want, out)
		}
	}
	if code != 1 || !strings.Contains(errOut, "that were due did not come") ||
		!strings.Contains(errOut, "of a device") {
		t.Errorf("exit %d %s", code, errOut)
	}
	code, out, _ = run("watch", site, "--for", "2s", "--json")
	events := map[string]bool{}
	for line := range strings.SplitSeq(strings.TrimSpace(out), "\n") {
		var x struct{ Event, Text, Sender, Topic string }
		if err := json.Unmarshal([]byte(line), &x); err != nil {
			t.Fatal(err, line)
		}
		events[x.Event+x.Sender] = true
	}
	if code != 1 || !events["missing"] || !events["device"] || !events["vat"] {
		t.Errorf("exit %d %v", code, events)
	}
	for want, args := range map[string][]string{
		"is a stand-in, which would be started for this message only": {"send", file, "x", "y"},
		"goes on after #":               {"watch", file, "a/#/b"},
		"--username goes with a URL":    {"watch", file, "--username", "x"},
		"need version 5":                {"watch", file, "--protocol-version", "3.1.1", "--no-local"},
		"property of version 5":         {"watch", file, "--protocol-version", "3.1.1", "--session-expiry", "1m"},
		"--record-max-size and":         {"watch", file, "--record-max-age", "1h"},
		"--follow takes NAME=PATH":      {"watch", file, "--follow", "x"},
		"is written NAME=VALUE":         {"watch", file, "--connect-user-property", "x"},
		"--lines goes with -":           {"send", "mqtt://127.0.0.1:1", "x", "y", "--lines"},
		"holds the wildcard":            {"send", "mqtt://127.0.0.1:1", "x/#", "y"},
		"the payload cannot be read":    {"send", "mqtt://127.0.0.1:1", "x", "@/no/such/file"},
		"--maximum-qos takes 0, 1 or 2": {"stand-in", "--maximum-qos", "3"},
		"--certificate takes expired":   {"stand-in", "--certificate", "fine"},
		"the workspace has no stand-in": {"stand-in", file, "--broker", "nowhere"},
		"a password or a token, not": {"watch", "mqtt://127.0.0.1:1", "--username", "u", "--password-env", "HOME",
			"--token-env", "HOME"},
	} {
		if code, _, errOut := run(args...); code != 2 || !strings.Contains(errOut, want) {
			t.Errorf("%v: exit %d %s", args, code, errOut)
		}
	}
	if code, _, errOut := run("send", "mqtt://127.0.0.1:1", "x", "y"); code != 3 ||
		!strings.Contains(errOut, "nothing listens") {
		t.Errorf("exit %d %s", code, errOut)
	}
	for want, args := range map[string][]string{
		"write mqtt://127.0.0.1:1883": {"watch", "127.0.0.1:1883"},
		"write mqtt://quay.marrowvoe.example": {"send",
			"quay.marrowvoe.example", "x", "y"},
		"there is no command wach, nor a workspace of that name: did you mean watch?": {"wach", file},
		"did you mean prove?":    {"prov"},
		"holds no hodstone.yaml": {"reach", t.TempDir()},
	} {
		if code, _, errOut := run(args...); code != 2 || !strings.Contains(errOut, want) ||
			strings.Contains(errOut, "no such file") {
			t.Errorf("%v: exit %d %s", args, code, errOut)
		}
	}
	// A TLS port that is spoken to in the clear, and a plain one asked for an upgrade, are told as reach tells them.
	broker := brokertest.Start(t, brokertest.Options{})
	port := func(name string) string { return broker.URLs[name][strings.LastIndexByte(broker.URLs[name], ':')+1:] }
	for url, want := range map[string]string{"mqtt://127.0.0.1:" + port("tls"): "write mqtts://",
		"ws://127.0.0.1:" + port("tcp"): "write mqtt://"} {
		if code, _, errOut := run("watch", url); code != 3 || !strings.Contains(errOut, want) {
			t.Errorf("%s: exit %d %s", url, code, errOut)
		}
	}
}

// TestRecordedTrafficIsJudgedAgain: by the contract that it was recorded under, and by an edited one, with what changed.
func TestRecordedTrafficIsJudgedAgain(t *testing.T) {
	dir := t.TempDir()
	write := func(name, most string) string {
		file := filepath.Join(dir, name)
		text := `hodstone: 1
brokers: {quay: {stand-in: {anonymous: true, listeners: {tcp: "127.0.0.1:0"}}}}
contract:
  parties: {pen: , shore: }
  parameters: {pen: {values: ["1", "2"]}}
  clauses:
    oxygen: {topic: "v/{pen}/oxygen", from: pen, payload: {format: number, ` + most + `}}
    ` + name[:3] + `: {topic: v/` + name[:3] + `, from: shore, payload: {format: text}}
devices:
  pen:
    count: 2
    plays: pen
    parameters: {pen: "{n}"}
    signals: {o: {wave: sine, mean: 8, swing: 1, period: 1s}}
    publishes: [{clause: oxygen, every: 100ms, payload: "= o"}, {topic: v/strange, every: 200ms, payload: x}]
`
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		return file
	}
	now, tight, bad := write(
		"now.yaml",
		"maximum: 20",
	), write(
		"new.yaml",
		"maximum: 8",
	), write(
		"bad.yaml",
		"maximum: many",
	)
	rec := filepath.Join(dir, "night.db")
	run := func(want int, args ...string) string {
		t.Helper()
		code, out, errOut := feed("", args...)
		if code != want {
			t.Errorf("%v: exit %d, want %d: %s%s", args, code, want, out, errOut)
		}
		return out + errOut
	}
	run(0, "watch", now, "--count", "40", "--for", "30s", "--record", rec)
	same := run(0, "contract", "judge", rec, "--contract", now)
	if !regexp.MustCompile(`messages of 1 observer, from (?s:.*)\n  oxygen +\d+ +0\n(?s:.*)stray v/strange: \d+ messages(?s:.*)\n0 breaches, 1 stray`).
		MatchString(same) {
		t.Error(same)
	}
	var before, after struct {
		Messages int
		Clauses  []struct {
			Clause             string
			Messages, Breaches int
			Gone               bool
			Before             *int `json:"breaches_before"`
		}
		Strays   []string
		Breaches []struct{ Rule, Topic, Expected, Sender string }
		Total    int `json:"breaches_in_all"`
	}
	if err := json.Unmarshal([]byte(run(0, "contract", "judge", rec, "--contract", now, "--json")),
		&before); err != nil {
		t.Fatal(err)
	}
	if err := json.Unmarshal([]byte(run(1, "contract", "judge", rec, "--contract", tight, "--before", now, "--json")),
		&after); err != nil {
		t.Fatal(err)
	}
	c := after.Clauses
	if before.Total != 0 || before.Messages < 40 || after.Messages != before.Messages || after.Total == 0 ||
		len(after.Breaches) != after.Total ||
		len(c) != 3 || c[0].Breaches != after.Total || *c[0].Before != 0 || c[1].Before != nil ||
		c[2].Clause != "now" ||
		!c[2].Gone {
		t.Errorf("%+v\n%+v", before, after)
	}
	for _, b := range after.Breaches {
		if b.Rule != "range" || b.Expected != "≤ 8" || !strings.HasPrefix(b.Topic, "v/") ||
			!strings.HasPrefix(b.Sender, "pen-") {
			t.Errorf("%+v", b)
		}
	}
	text := run(1, "contract", "judge", rec, "--contract", tight, "--before", now, "--breaches", "1")
	if !regexp.MustCompile(`✗ oxygen +\d+ +(\d+) +0  \+\d+\n +new +0 +0 +new\n +now +0 +0 +0  gone(?s:.*)… and \d+ more`).
		MatchString(text) {
		t.Error(text)
	}
	peers := filepath.Join(dir, "none.db")
	if f, err := os.Create(peers); err == nil {
		f.Close()
	}
	for want, args := range map[string][]string{"has 1 problem": {rec, "--contract", bad},
		"is no record": {peers, "--contract", now}, "there is no": {rec, "--contract", filepath.Join(dir, "x.yaml")}} {
		if out := run(2, append([]string{"contract", "judge"}, args...)...); !strings.Contains(out, want) {
			t.Errorf("%q: %s", want, out)
		}
	}
}
