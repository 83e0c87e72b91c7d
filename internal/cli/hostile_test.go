package cli_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"strings"
	"sync"
	"testing"
	"time"
	"unicode"
	"unicode/utf8"

	"hodstone/internal/cli"
	"hodstone/internal/mqtt/packet"
)

// hostileStrings are what a stranger may put into a topic, a payload, an identifier or a reason.
func hostileStrings() (out []string) {
	for r := rune(1); r < 0xa0; r++ {
		if unicode.IsControl(r) {
			out = append(out, "x"+string(r)+"y")
		}
	}
	for r := rune(0xa0); r < 0xe0080; r++ {
		if unicode.Is(unicode.Cf, r) || r == 0x2028 || r == 0x2029 {
			out = append(out, string(r)+"z")
		}
	}
	return append(
		out,
		"\x1b[31mred",
		"\x1b]0;title\x07",
		"\x1b[2J\x1b[H",
		"a\nhodstone: all kept",
		"a\r✓ kept",
		"=1-1",
		"%s%n",
		"👨‍👩‍👧",
		strings.Repeat("long", 3000),
	)
}

// scriptedBroker lets everybody in, grants everything, publishes the packets and keeps silent.
func scriptedBroker(t *testing.T, ack *packet.Connack, says []packet.Packet, over func(net.Conn)) string {
	t.Helper()
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { ln.Close() })
	go func() {
		for {
			c, err := ln.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				r := packet.NewReader(c, packet.V5)
				for {
					p, _, err := r.Next()
					if err != nil {
						return
					}
					var answer []byte
					switch p := p.(type) {
					case *packet.Connect:
						answer = ack.Append(nil, packet.V5)
					case *packet.Subscribe:
						answer = (&packet.Suback{ID: p.ID,
							Codes: make([]packet.ReasonCode, len(p.Subscriptions))}).Append(nil, packet.V5)
						for _, s := range says {
							answer = s.Append(answer, packet.V5)
						}
					case *packet.Pingreq:
						answer = (&packet.Pingresp{}).Append(nil, packet.V5)
					}
					c.Write(answer)
					if _, is := p.(*packet.Subscribe); is && over != nil {
						over(c)
						return
					}
				}
			}()
		}
	}()
	return "mqtt://" + ln.Addr().String()
}

// TestNoStrangerSteersTheTerminal: whatever is in topics, payloads, properties and reasons, as lines, as JSON and on
// standard error.
func TestNoStrangerSteersTheTerminal(t *testing.T) {
	all := hostileStrings()
	if len(all) < 200 {
		t.Fatalf("%d kinds", len(all))
	}
	var says []packet.Packet
	for i, s := range all {
		says = append(
			says,
			&packet.Publish{Topic: fmt.Sprintf("t/%d/%.60s", i, s), Payload: []byte(s), Properties: packet.Properties{
				packet.Str(
					packet.ContentType,
					s[:min(len(s), 60)],
				), packet.User(s[:min(len(s), 60)], s[:min(len(s), 60)])}},
		)
	}
	says = append(says, &packet.Publish{Topic: "t/raw", Payload: []byte("\xff\xfe\x1b[31m")})
	ack := &packet.Connack{Properties: packet.Properties{packet.Str(packet.ReasonString, "\x1b[31mwelcome\n✓ kept")}}
	url := scriptedBroker(t, ack, says, nil)
	for _, args := range [][]string{{}, {"--json"}} {
		code, out, errOut := run(
			append(
				[]string{"watch", url, "--protocol-version", "5", "--for", "20s", "--count", fmt.Sprint(len(says))},
				args...)...)
		if code != 0 {
			t.Fatalf("exit %d: %.500s", code, errOut)
		}
		for _, text := range []string{out, errOut} {
			if !utf8.ValidString(text) {
				t.Error("no UTF-8")
			}
			for _, r := range text {
				if r != '\n' && r != '\t' &&
					(unicode.IsControl(r) || unicode.Is(unicode.Cf, r) || r == 0x2028 || r == 0x2029) {
					t.Fatalf("%v: %U goes out", args, r)
				}
			}
		}
		lines := strings.Split(strings.TrimRight(out, "\n"), "\n")
		if len(args) == 0 {
			if len(lines) != len(says) || strings.Contains(out, "\nhodstone: all kept") {
				t.Errorf("%d lines for %d messages", len(lines), len(says))
			}
			for _, l := range lines {
				if len(l) > 10_000 {
					t.Errorf("a line of %d bytes", len(l))
				}
			}
			continue
		}
		topics := map[string]bool{}
		for _, l := range lines {
			var doc map[string]any
			if err := json.Unmarshal([]byte(l), &doc); err != nil {
				t.Fatalf("%v: %.200s", err, l)
			}
			topic, _ := doc["topic"].(string)
			topics[topic] = true
		}
		for _, p := range says {
			if topic := p.(*packet.Publish).Topic; !topics[topic] {
				t.Errorf("JSON lost the topic %q", topic)
			}
		}
	}
}

// TestReasonsOfAStranger: what a refusal and a DISCONNECT say stays on one line.
func TestReasonsOfAStranger(t *testing.T) {
	why := packet.Properties{packet.Str(packet.ReasonString, "no\x1b[31m\n✓ kept\u202e")}
	refusing := scriptedBroker(t, &packet.Connack{Code: packet.NotAuthorized, Properties: why}, nil, nil)
	ending := scriptedBroker(
		t,
		&packet.Connack{},
		[]packet.Packet{&packet.Disconnect{Code: packet.ServerShuttingDown, Properties: why}},
		func(net.Conn) {},
	)
	for _, url := range []string{refusing, ending} {
		code, out, errOut := run("watch", url, "--protocol-version", "5", "--for", "1s")
		if code != 3 || strings.ContainsAny(out+errOut, "\x1b\u202e") || strings.Contains(out+errOut, "\n✓ kept") ||
			!strings.Contains(out+errOut, `no\`) {
			t.Errorf("exit %d, %q %q", code, out, errOut)
		}
	}
}

// full is an output that takes so many bytes.
type full struct {
	mu   sync.Mutex
	room int
	err  error
}

func (f *full) Write(p []byte) (int, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.room -= len(p); f.room < 0 {
		return 0, f.err
	}
	return len(p), nil
}

// TestAnOutputThatIsFull: the command ends at once and says why; one that nobody reads ends as programs do there.
func TestAnOutputThatIsFull(t *testing.T) {
	url := scriptedBroker(
		t,
		&packet.Connack{},
		[]packet.Packet{
			&packet.Publish{Topic: "a", Payload: []byte("1")},
			&packet.Publish{Topic: "a", Payload: []byte("2")},
		},
		nil,
	)
	start := time.Now()
	var errOut bytes.Buffer
	code := cli.Main(
		cli.Env{
			Args:   []string{"watch", url, "--protocol-version", "5", "--for", "30s"},
			Out:    &full{room: 10, err: io.ErrShortWrite},
			ErrOut: &errOut,
		},
	)
	if code != 2 || !strings.Contains(errOut.String(), "the output cannot be written: short write") {
		t.Errorf("exit %d: %s", code, errOut.String())
	}
	if took := time.Since(start); took > 10*time.Second {
		t.Errorf("after %s", took)
	}
}
