package reach

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"strings"
	"sync"
	"testing"

	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/workspace"
)

// TestEveryAddressOfANameIsTried: one leads in, one is closed, and both are told.
func TestEveryAddressOfANameIsTried(t *testing.T) {
	u := broker(t, standin.Options{Anonymous: true}, nil, "mqtt://127.0.0.1:0")[0]
	_, port, _ := net.SplitHostPort(strings.TrimPrefix(u, "mqtt://"))
	all := names{"quay.test": {"127.0.0.1", "127.0.0.9", "127.0.0.1"}, "pier.test": {"127.0.0.8", "127.0.0.9"}}
	none := func() []netip.Addr { return nil }
	var mu sync.Mutex
	var shown []Result // as screens keep them
	var then []string
	o := Options{Resolver: all, Own: none, Wait: DefaultWait, Progress: func(r Result) {
		mu.Lock()
		defer mu.Unlock()
		shown, then = append(shown, r), append(then, fmt.Sprintf("%+v", r.Ways))
	}}
	targets := []Target{
		{Name: "quay/a", URL: "mqtt://quay.test:" + port},
		{Name: "pier/a", URL: "mqtt://pier.test:" + port},
	}
	rep := Run(context.Background(), targets, o)
	for i, r := range shown {
		if now := fmt.Sprintf("%+v", r.Ways); now != then[i] {
			t.Errorf("what was told changed later: %s, then %s", then[i], now)
		}
	}
	quay, pier := &rep.Results[0], &rep.Results[1]
	if len(quay.Ways) != 2 || !quay.Ways[0].In || quay.Ways[1].In || quay.Lookup.Learnt != "2 addresses" ||
		quay.Diagnosis() != nil {
		t.Errorf("%+v", quay.Ways)
	}
	if got := told(rep); !strings.Contains(got, "quay/a: worry: in at 127.0.0.1, not at 127.0.0.9") {
		t.Errorf("the address that leads nowhere is not told:\n%s", got)
	}
	if d := pier.Diagnosis(); len(pier.Ways) != 2 || d == nil || d.Cause != Refused {
		t.Errorf("%+v", pier.Ways)
	}
	if e := quay.Events; len(e) == 0 || e[0].Client != "way in" {
		t.Errorf("%d events", len(e))
	}
}

func TestStagesFollowTheURL(t *testing.T) {
	for u, want := range map[string]string{
		"mqtt://quay": "name TCP CONNECT round trip", "mqtts://quay": "name TCP TLS CONNECT round trip", "ws://quay/mqtt": "name TCP upgrade CONNECT round trip",
		"wss://quay/mqtt": "name TCP TLS upgrade CONNECT round trip", "unix:///s": "name TCP CONNECT round trip",
	} {
		e, err := link.Parse(u)
		if err != nil {
			t.Fatal(err)
		}
		if got := strings.Trim(fmt.Sprint(Stages(e)), "[]"); got != want {
			t.Errorf("%s: %s", u, got)
		}
		greeting := string(Greeting(e))
		if e.WebSocket != strings.HasPrefix(greeting, "GET /mqtt HTTP/1.1\r\n") ||
			!e.WebSocket && greeting[0] != byte(packet.CONNECT)<<4 {
			t.Errorf("%s is greeted with %q", u, greeting)
		}
	}
}

func TestAPasswordInTheClearIsTold(t *testing.T) {
	scram := login("pen-1", secretWord)
	scram.SCRAM = true
	token := &workspace.Login{Token: workspace.NewSecret(secretWord), HasToken: true}
	for _, c := range []struct {
		t    Target
		want bool
	}{
		{Target{URL: "mqtt://quay", Login: login("pen-1", secretWord)}, true},
		{Target{URL: "ws://quay/mqtt", Login: token}, true},
		{Target{URL: "mqtts://quay", Login: login("pen-1", secretWord)}, false},
		{Target{URL: "wss://quay/mqtt", Login: token}, false},
		{Target{URL: "unix:///s", Login: login("pen-1", secretWord)}, false},
		{Target{URL: "mqtt://quay"}, false},
		{Target{URL: "mqtt://quay", Login: &workspace.Login{Username: "pen-1"}}, false},
		{Target{URL: "mqtt://quay", Login: scram, Versions: []packet.Version{packet.V5}}, false},
		{Target{URL: "mqtt://quay", Login: scram, Versions: []packet.Version{packet.V5, packet.V311}}, true}, // which has no SCRAM
		{Target{URL: "mqtt://quay", Login: scram}, true},                                                     // both are tried
		{Target{URL: "nonsense", Login: scram}, false},
	} {
		if got := PlainPassword(&c.t); got != c.want {
			t.Errorf("%s with %+v in %v: %v", c.t.URL, c.t.Login, c.t.Versions, got)
		}
	}
}

// TestDoorsAreToldOnce: for each broker and kind, those accepted last.
func TestDoorsAreToldOnce(t *testing.T) {
	result := func(name string, doors ...Door) *Result {
		return &Result{Target: Target{Name: name}, Doors: doors}
	}
	got := OpenDoors([]*Result{
		result(
			"quay/tcp",
			Door{Name: workspace.DoorPlain, What: "a plain listener", Accepted: "until May"},
			Door{Name: workspace.DoorAnonymous, What: "anonymous"},
		),
		result(
			"quay/ws",
			Door{Name: workspace.DoorPlain, What: "a plain listener", Accepted: "until May"},
			Door{Name: workspace.DoorAnonymous, What: "anonymous"},
		),
		result("pier/tcp", Door{Name: workspace.DoorAnonymous, What: "anonymous"}),
	})
	var names []string
	for _, d := range got {
		names = append(names, d.Name)
	}
	if strings.Join(names, " ") != "anonymous anonymous plain" || got[1].What != "pier: anonymous" ||
		got[2].What != "quay: plain listeners stand beside a TLS one: quay/tcp, quay/ws" {
		t.Errorf("%+v", got)
	}
	if OpenDoors(nil) != nil {
		t.Error("doors out of nothing")
	}
}
