package report

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/xml"
	"fmt"
	"go/parser"
	"go/token"
	"io"
	"maps"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"hodstone/internal/brokertest"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
	"hodstone/internal/workspace"
)

// dairy is a workspace with what is hard to give away.
const dairy = `hodstone: 1
name: "Dairy *of* the <hill> /* */ (* *) 🧀"
brokers:
  plant:
    listeners: {plain: {url: "mqtt://127.0.0.1:%d"}, tls: {url: "mqtts://127.0.0.1:%d"}, ws: {url: "ws://127.0.0.1:%d"}}
    login: bench
logins: {vat-1: {password: one}, vat-2: {}, desk: {password: "d:e s\\k"}, bench: {password: b}, idle: {password: i}}
contract:
  parties:
    vat: {logins: ["vat-{vat}"], note: "a | vat", terms: {client-id: "vat-{vat}", keep-alive: 10s..30s}}
    desk: {logins: [desk]}
    nobody: {note: without a login}
  parameters: {vat: {range: 1..2, note: a vat}}
  clauses:
    vat.temp: {topic: "dairy/vat/{vat}/temp %%", from: vat, to: desk, qos: 1, retain: true, payload: {format: number, minimum: 0, unit: °C}, examples: [7]}
    vat.mode:
      topic: dairy/vat/{vat}/mode
      from: vat
      to: [desk, nobody]
      payload: {format: json, schema: {properties: {mode: {enum: [0, 3, x], values: {0: off, 3: "held by \"hand\"", x: "*/ odd"}}}}}
      note: "what */ it does *) \\"
    vat.order: {topic: "dairy/vat/{vat}/order", from: desk, to: vat, qos: 0, payload: {format: text, values: {go: "", "halt!": "", "größer": ""}}}
    vat.pack:
      topic: dairy/vat/{vat}/pack
      from: vat
      to: desk
      payload:
        format: binary
        fields: [{name: magic, type: u16, value: 0x4D56}, {name: kg, type: i32, scale: 0.1, unit: kg, byte-order: little}, {name: flags, type: u8, bits: {hatch: 0, mode: 2..4}},
          {name: wide, type: u24}, {name: 9 lives, type: f32}, {name: lot, type: text, length: 8, offset: 16}]
      examples: ["4d56 01000000 05 000001 3f800000 0000 4d56323230370000"]
  relations: {apart: {never: [{clause: vat.temp, where: payload > 90}, {clause: vat.mode}], per: [vat], note: hot}}
`

func dairySite(t *testing.T, ports ...any) *workspace.Workspace {
	t.Helper()
	for len(ports) < 3 {
		ports = append(ports, 1883)
	}
	w, err := workspace.Read(fstest.MapFS{"w": {Data: fmt.Appendf(nil, dairy, ports...)}}, "w", "w")
	if err != nil || len(w.Problems) > 0 {
		t.Fatal(err, w.Problems)
	}
	return w
}

// TestTheBrokersSideHoldsTheContract: Debian's broker starts with what was written, lets every login in with its
// password and nobody else, and each may do what the contract needs, and nothing more.
func TestTheBrokersSideHoldsTheContract(t *testing.T) {
	var ports []any
	for range 3 {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			t.Fatal(err)
		}
		ports = append(ports, l.Addr().(*net.TCPAddr).Port)
		l.Close()
	}
	w, dir := dairySite(t, ports...), t.TempDir()
	files, notes, err := BrokerFiles(w, w.Broker(""), dir)
	if err != nil {
		t.Fatal(err)
	}
	for name, f := range files {
		os.MkdirAll(filepath.Dir(filepath.Join(dir, name)), 0o700)
		if err := os.WriteFile(filepath.Join(dir, name), f.Data, f.Mode); err != nil {
			t.Fatal(err)
		}
		if strings.Contains(string(f.Data), "d:e s") || strings.Contains(string(f.Data), ":one") {
			t.Errorf("%s has a password in it", name)
		}
		if secret := strings.Contains(name, "password") || strings.HasSuffix(name, ".key"); secret && f.Mode != 0o600 {
			t.Errorf("%s may be read by others", name)
		}
	}
	for _, want := range []string{"vat-2 was made up", "party nobody has no login", "login idle speaks for no party"} {
		if !strings.Contains(strings.Join(notes, "\n"), want) {
			t.Errorf("%q lacks %q", notes, want)
		}
	}
	urls := map[string]string{}
	for _, l := range w.Broker("").Listeners {
		urls[l.Name] = l.URL
	}
	brokertest.StartFile(t, filepath.Join(dir, "broker.conf"), urls)
	made, err := os.ReadFile(filepath.Join(dir, "passwords", "vat-2"))
	if err != nil {
		t.Fatal(err)
	}
	passwords := map[string]string{"vat-1": "one", "vat-2": strings.TrimSpace(string(made)), "desk": `d:e s\k`, "bench": "b", "idle": "i"}
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM(files["ca.crt"].Data)
	got := map[string]chan string{}
	enter := func(name, password, url string) (*client.Client, error) {
		heard := make(chan string, 1000)
		got[name] = heard
		c := client.New(client.Options{Version: packet.V5,
			Dial: func(ctx context.Context) (*link.Link, error) {
				return link.Dial(ctx, url, link.Options{TLS: &tls.Config{RootCAs: pool}})
			},
			Connect: packet.Connect{ClientID: name, CleanStart: true, KeepAlive: 30, HasUsername: true, Username: name,
				HasPassword: true, Password: []byte(password)},
			Message: func(p *packet.Publish) { heard <- string(p.Payload) }})
		ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
		defer cancel()
		if _, err := c.Connect(ctx); err != nil {
			return nil, err
		}
		t.Cleanup(func() { c.Close() })
		_, err := c.Subscribe(ctx, []packet.Subscription{{Filter: "#", QoS: 1}})
		return c, err
	}
	for _, url := range urls {
		if _, err := enter("vat-1", "wrong", url); err == nil {
			t.Errorf("a wrong password got in at %s", url)
		}
	}
	clients := map[string]*client.Client{}
	ways := slices.Sorted(maps.Keys(urls))
	for i, name := range slices.Sorted(maps.Keys(passwords)) {
		if clients[name], err = enter(name, passwords[name], urls[ways[i%len(ways)]]); err != nil {
			t.Fatalf("%s does not get in at %s: %v", name, ways[i%len(ways)], err)
		}
	}
	access, _ := w.Access()
	may := func(name, topicName string, publish bool) bool {
		if name == "bench" {
			return true
		}
		for _, a := range access {
			filters := a.Subscribe
			if publish {
				filters = a.Publish
			}
			if a.Login == name && slices.ContainsFunc(filters, func(f string) bool { return topic.Match(f, topicName) }) {
				return true
			}
		}
		return false
	}
	topics := []string{"dairy/other", "dairy/vat/1", "dairy/vat/3/mode"}
	for _, cl := range w.Contract.Clauses {
		topics = append(topics, w.Contract.Topics(cl, nil)...)
	}
	want := map[string]map[string]bool{}
	for by := range clients {
		for _, to := range topics {
			if may(by, to, true) {
				for name := range clients {
					if may(name, to, false) {
						if want[name] == nil {
							want[name] = map[string]bool{}
						}
						want[name][by+" on "+to] = true
					}
				}
			}
			ctx, cancel := context.WithTimeout(t.Context(), 10*time.Second)
			clients[by].Publish(ctx, packet.Publish{Topic: to, QoS: 1, Payload: []byte(by + " on " + to)}) // a refusal is told, and is none here
			cancel()
		}
	}
	if len(want["desk"]) < 8 || len(want["vat-1"]) < 2 || len(want["idle"]) > 0 {
		t.Fatalf("the contract asks for %v", want)
	}
	for name := range clients {
		have := map[string]bool{}
		for end := time.After(10 * time.Second); len(have) < len(want[name]); {
			select {
			case text := <-got[name]:
				have[text] = true
			case <-end:
				t.Fatalf("%s got %d of %d", name, len(have), len(want[name]))
			}
		}
		// What comes to the bench last came to all: nothing else is under way.
		for len(got[name]) > 0 {
			have[<-got[name]] = true
		}
		for text := range have {
			if !want[name][text] {
				t.Errorf("%s got what it may not: %s", name, text)
			}
		}
	}
}

// TestConstantsAreTakenByTheirLanguages: a compiler takes what was written; names and comments are what they should be,
// whatever characters there are in the contract.
func TestConstantsAreTakenByTheirLanguages(t *testing.T) {
	w := dairySite(t)
	text := map[string]string{}
	for _, language := range Languages {
		var err error
		if text[language], err = Constants(w, language); err != nil {
			t.Fatal(language, err)
		}
	}
	if _, err := parser.ParseFile(token.NewFileSet(), "x.go", text["go"], parser.AllErrors|parser.ParseComments); err != nil {
		t.Errorf("%v in\n%s", err, text["go"])
	}
	file := filepath.Join(t.TempDir(), "contract.h")
	main := file[:len(file)-1] + "c"
	os.WriteFile(file, []byte(text["c"]), 0o600)
	os.WriteFile(main, []byte("#include \"contract.h\"\n#include \"contract.h\"\n#include <stdio.h>\nint main(void){ vat_pack_payload_t p; printf(VAT_TEMP_TOPIC \"|%d|%d|%s\", \"2\", (int)sizeof p, VAT_MODE_MODE_HELD_BY_HAND, VAT_ORDER_GROESSER); return 0; }\n"), 0o600)
	if out, err := exec.Command("gcc", "-Wall", "-Werror", "-o", file[:len(file)-2], main).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s\n%s", err, out, text["c"])
	}
	if out, err := exec.Command(file[:len(file)-2]).Output(); err != nil || string(out) != "dairy/vat/2/temp %|24|3|größer" {
		t.Errorf("%v %q", err, out)
	}
	for language, wants := range map[string][]string{
		"st":     {"VAT_TEMP_TOPIC : STRING[22] := 'dairy/vat/{vat}/temp %'", "VAT_ORDER_GROESSER : STRING[8] := 'gr$C3$B6$C3$9Fer'", "kg : DINT; (* little-endian, × 0.1, kg *)", "lot : ARRAY[0..7] OF BYTE", "VAT_TEMP_RETAIN : BOOL := TRUE"},
		"python": {`VAT_PACK_PAYLOAD_FORMAT = ">HiB3sf2x8s"`, `VAT_ORDER_HALT = "halt!"`, "VAT_TEMP_RETAIN = True", `"magic", "kg", "flags", "wide", "f_9_lives", "lot",`},
		"go":     {"VatTempQoS = 1", "Kg int32", "Lot [8]byte", `VatOrderGroesser = "gr\u00f6\u00dfer"`},
	} {
		for _, want := range wants {
			if !strings.Contains(strings.Join(strings.Fields(text[language]), " "), want) {
				t.Errorf("%s lacks %s:\n%s", language, want, text[language])
			}
		}
	}
	if n := strings.Count(text["st"], "(*"); n != strings.Count(text["st"], "*)") {
		t.Errorf("comments of structured text do not end:\n%s", text["st"])
	}
}

// TestTheDocumentAndTheDrawing are whole in every format.
func TestTheDocumentAndTheDrawing(t *testing.T) {
	w := dairySite(t)
	var md, pdf bytes.Buffer
	d := ContractDocument(w)
	if err := d.Markdown(&md); err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{"dairy/vat/{vat}/temp %", `a \| vat`, "| vat | keep-alive | 10s..30s |", "| 3 | held by \"hand\" |", "never at once: vat.temp where payload > 90; vat.mode",
		`{"9 lives":1,"flags":{"hatch":1,"mode":1},"kg":0.1,"lot":"MV2207","wide":1}`, "| vat-1 | vat | dairy/vat/1/mode, dairy/vat/1/pack, dairy/vat/1/temp % | dairy/vat/1/order |"} {
		if !strings.Contains(md.String(), want) {
			t.Errorf("the document lacks %s:\n%s", want, md.String())
		}
	}
	for range 40 { // some pages
		d.Table([]string{"a", "b"}, [][]string{{strings.Repeat("wide ", 80), strings.Repeat("x", 300)}, {"", "z"}})
	}
	if err := d.PDF(&pdf); err != nil || !bytes.HasPrefix(pdf.Bytes(), []byte("%PDF-")) || bytes.Count(pdf.Bytes(), []byte("/Type /Page\n")) < 3 {
		t.Errorf("%v, %d bytes, %d pages", err, pdf.Len(), bytes.Count(pdf.Bytes(), []byte("/Type /Page\n")))
	}
	s, err := ContractDrawing("Dairy", time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC), w.Contract)
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"a.svg", "a.pdf"} {
		var b bytes.Buffer
		if err := s.Write(&b, name); err != nil || b.Len() < 2000 {
			t.Error(name, err, b.Len())
		}
		if name == "a.svg" {
			for x := xml.NewDecoder(&b); ; {
				if _, err := x.Token(); err == io.EOF {
					break
				} else if err != nil {
					t.Fatal(err)
				}
			}
		}
	}
	w.Contract.Clauses = nil
	if _, err := ContractDrawing("x", time.Now(), w.Contract); err == nil {
		t.Error("nothing was drawn")
	}
}
