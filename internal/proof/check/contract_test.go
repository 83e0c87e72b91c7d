package check_test

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"
	"testing/synctest"

	"hodstone/internal/brokertest"
	"hodstone/internal/contract"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/proof"
	"hodstone/internal/proof/check"
	"hodstone/internal/proof/prooftest"
)

// contracted runs the checks of the contract, and returns the verdicts by name, with what was seen of those that are
// not kept.
func contracted(t *testing.T, target proof.Target, onTopics bool) (map[string][]string, *proof.Proof) {
	t.Helper()
	checks, err := check.Match("contract")
	if err != nil {
		t.Fatal(err)
	}
	p, err := proof.Run(context.Background(), target, proof.Options{Checks: checks, OnTopics: onTopics})
	if err != nil {
		t.Fatal(err)
	}
	out := map[string][]string{} // a text for each version
	for _, r := range p.Results {
		if strings.Contains(r.Seen, "the same in every version") {
			continue
		}
		text := string(r.Verdict)
		if r.Verdict != proof.Kept {
			text += ": " + r.Seen
		}
		out[r.Check.Name] = append(out[r.Check.Name], text)
	}
	return out, p
}

// wants holds verdicts to their beginnings, and all others to be kept.
func wants(t *testing.T, got map[string][]string, want map[string]string) {
	t.Helper()
	for name, texts := range got {
		for _, text := range texts {
			switch begin, not := want[name]; {
			case not && !strings.HasPrefix(text, begin):
				t.Errorf("%s: %s, want %s", name, text, begin)
			case !not && text != "kept":
				t.Errorf("%s: %s", name, text)
			}
		}
	}
}

// TestTheContractAtARealBroker: Debian's broker with the rights that the contract needs, with more and with fewer. In
// 3.1 and 3.1.1 it tells nobody that a message was refused, and grants what it then does not deliver.
func TestTheContractAtARealBroker(t *testing.T) {
	rights := func(change func(login string, lines []string) []string) string {
		var b strings.Builder
		for _, l := range prooftest.Contracted().Logins {
			var lines []string
			for _, f := range l.Publish {
				lines = append(lines, "topic write "+f)
			}
			for _, f := range l.Subscribe {
				lines = append(lines, "topic read "+f)
			}
			if l.Name == "bench" {
				lines = []string{"topic readwrite #", "topic read $SYS/#"}
			}
			fmt.Fprintf(&b, "user %s\n%s\n", l.Name, strings.Join(change(l.Name, lines), "\n"))
		}
		return b.String()
	}
	nothing := "skipped: no pen says by pen.status that it is there"
	for _, tt := range []struct {
		name   string
		change func(login string, lines []string) []string
		want   map[string]string
	}{
		{"as agreed", func(_ string, lines []string) []string { return lines }, nil},
		{"more", func(login string, lines []string) []string {
			if login == "pen-1" {
				return append(lines, "topic write farm/north/net/pen/+/state", "topic read farm/north/net/pen/2/status")
			}
			return lines
		}, map[string]string{"contract.nobody-else": "broken: who may, and should not by the contract: " +
			"pen-1 publishes on farm/north/net/pen/2/state, another's; pen-1 reads on farm/north/net/pen/2/status, another's"}},
		{"fewer", func(login string, lines []string) []string {
			if login == "desk" {
				return slices.DeleteFunc(lines, func(l string) bool { return strings.HasSuffix(l, "/note") || strings.HasSuffix(l, "/status") })
			}
			return lines
		}, map[string]string{"contract.may-publish": "broken: who should publish and may not: desk on farm/north/net/desk/all/note",
			"contract.may-subscribe": "broken: who should read and may not: desk on farm/north/net/pen/1/status",
			"contract.answered":      "undecided: it tells nothing while contract.may-publish is broken"}},
	} {
		t.Run(tt.name, func(t *testing.T) {
			t.Parallel()
			broker := brokertest.Start(
				t,
				brokertest.Options{Users: []string{"guest", "pen-1", "pen-2", "desk"}, Rights: rights(tt.change)},
			)
			target := over(broker.URLs["tcp"], nil, nil, false)
			target.Agreement = prooftest.Agreement()
			got, _ := contracted(t, target, true)
			if tt.want == nil {
				tt.want = map[string]string{}
			}
			if tt.want["contract.answered"] == "" {
				tt.want["contract.answered"] = nothing
			}
			wants(t, got, tt.want)
		})
	}
}

// TestTheContractWithinLimits: few connections, no wildcards and one message in flight keep nobody from being told what
// he may do. What the contract needs, and the broker does not offer, is broken.
func TestTheContractWithinLimits(t *testing.T) {
	none, one := packet.QoS(0), packet.QoS(1)
	needs := func(what string) map[string]string {
		return map[string]string{"contract.delivered": "broken: the contract needs " + what}
	}
	lone := map[string]string{
		"contract.may-publish":   "unsupported: it needs 3 clients",
		"contract.may-subscribe": "unsupported: it needs 3 clients",
		"contract.nobody-else":   "unsupported: it needs 3 clients",
		"contract.delivered":     "unsupported: it needs 3 clients",
		"contract.presence":      "unsupported: it needs 3 clients",
		"contract.answered":      "skipped: no pen says",
	}
	for _, tt := range []struct {
		name   string
		limits standin.Limits
		want   map[string]string
	}{
		{"4 connections", standin.Limits{Connections: 4}, nil},
		{"2 connections", standin.Limits{Connections: 2}, lone},
		{"no wildcards", standin.Limits{NoWildcards: true}, map[string]string{"contract.may-subscribe": "broken: who should read and may not: desk",
			"contract.answered": "undecided: it tells nothing while"}},
		{"no shares", standin.Limits{NoShared: true}, nil},
		{"one in flight", standin.Limits{ReceiveMaximum: 1}, nil},
		{"QoS 1", standin.Limits{MaximumQoS: &one}, needs("it for desk.note: ")},
		{"QoS 0", standin.Limits{MaximumQoS: &none}, map[string]string{"contract.delivered": "broken: the contract needs it for pen.state",
			"contract.presence": "broken: the contract needs it for pen.status"}},
		{"no retained", standin.Limits{NoRetained: true}, map[string]string{"contract.delivered": "broken: the contract needs retained messages for pen.state",
			"contract.presence": "broken: the contract needs retained messages for pen.status", "contract.answered": "skipped: no pen says by"}},
	} {
		t.Run(tt.name, func(t *testing.T) {
			t.Parallel()
			synctest.Test(t, func(t *testing.T) {
				o := prooftest.Contracted()
				o.Limits = tt.limits
				s := prooftest.Faulty(t, o)
				defer s.Close()
				target := prooftest.Target(s, false)
				target.Agreement = prooftest.Agreement()
				if tt.want == nil {
					tt.want = map[string]string{}
				}
				if tt.want["contract.answered"] == "" {
					tt.want["contract.answered"] = "skipped: no pen says by pen.status that it is there"
				}
				got, _ := contracted(t, target, true)
				wants(t, got, tt.want)
			})
		})
	}
}

// TestLoginsAndClauses is the table, and what is told of logins that others must not be accused of.
func TestLoginsAndClauses(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		o := prooftest.Contracted()
		o.Logins[slices.IndexFunc(o.Logins, func(l standin.Login) bool { return l.Name == "desk" })].Subscribe = []string{
			"farm/#",
		}
		s := prooftest.Faulty(t, o)
		defer s.Close()
		target := prooftest.Target(s, false)
		skipped := map[string]string{
			"contract.may-publish":   "skipped: it publishes on the contract's own topics",
			"contract.answered":      "skipped: it publishes",
			"contract.may-subscribe": "skipped: it publishes",
			"contract.nobody-else":   "skipped: it publishes",
		}
		target.Agreement = prooftest.Agreement()
		got, _ := contracted(t, target, false)
		wants(t, got, skipped)

		target.Agreement.Unrestricted = "the desk is being moved"
		target.Agreement.Speakers[1].Login.Password = target.Login.Password
		target.Agreement.Speakers[1].Login.Username = "pen-9" // who is not known
		got, p := contracted(t, target, true)
		wants(t, got, map[string]string{
			"contract.may-publish":   "undecided: the login pen-2 is not let in",
			"contract.may-subscribe": "undecided: the login pen-2 is not let in",
			"contract.answered":      "undecided: it tells nothing",
		})
		for i := range p.Results {
			r := &p.Results[i]
			if r.Check.Name != "contract.nobody-else" {
				continue
			}
			var rows []string
			for y, name := range r.Tables[0].Rows {
				row := name
				for _, c := range r.Tables[0].Cells[y] {
					row += " " + c.Text
				}
				rows = append(rows, row)
			}
			want := "pen.state p· out ·r ··|pen.state of another ·· out  |pen.status p· out ·r ··|pen.status of another ·· out  |" +
				"pen.set ·r out pr! ··|pen.set of another ·· out  |desk.note ·r out pr! ··"
			if got := strings.Join(rows, "|"); got != want {
				t.Errorf("in %s:\n%s, want\n%s", r.Version, got, want)
			}
			if text := strings.Join(
				r.Notes,
				"; ",
			); !strings.Contains(
				text,
				"accepted, because the desk is being moved: desk reads on farm/north/net/pen/1/set and 1 more",
			) {
				t.Errorf("the notes: %s", text)
			}
		}
		// A filter that the desk needs for one clause covers another's topics: nobody could grant it less.
		target.Agreement = prooftest.Agreement()
		c := target.Agreement.Contract
		any, err := contract.ParsePattern("farm/north/net/pen/{pen}/{what}")
		if err != nil {
			t.Fatal(err)
		}
		c.Parameters["what"] = contract.Parameter{Name: "what", Values: []string{"state"}}
		own, err := contract.ParsePattern("farm/own/{pen}") // a login's own by this parameter alone
		if err != nil {
			t.Fatal(err)
		}
		c.Clauses = append(c.Clauses, &contract.Clause{Name: "pen.any", Topic: any, From: "pen", To: []string{"desk"}},
			&contract.Clause{Name: "pen.own", Topic: own, From: "pen", To: []string{"desk"}})
		got, p = contracted(t, target, true)
		if text := got["contract.nobody-else"]; !strings.HasPrefix(
			text[0],
			"broken: who may, and should not by the contract: desk reads on farm/north/net/desk/all/note",
		) ||
			strings.Contains(text[0], "more") {
			t.Errorf("what a needed filter covers is told: %v", text)
		}
		for i := range p.Results {
			for _, table := range p.Results[i].Tables {
				if !slices.Contains(table.Rows, "pen.own of another") {
					t.Errorf("nobody tried to speak for another: %v", table.Rows)
				}
				if cell := table.Cells[slices.Index(table.Rows, "pen.set")][2]; cell.Verdict != proof.Kept ||
					!strings.Contains(cell.Words, "another clause that it needs") {
					t.Errorf("the desk on pen.set: %+v", cell)
				}
			}
		}
		// The same of what it publishes: without that clause it may what it should not.
		wide := prooftest.Contracted()
		pen := &wide.Logins[slices.IndexFunc(wide.Logins, func(l standin.Login) bool { return l.Name == "pen-1" })]
		pen.Publish = append(pen.Publish, "farm/north/net/pen/1/#")
		s2 := prooftest.Faulty(t, wide)
		defer s2.Close()
		needs := prooftest.Target(s2, false)
		for _, clauses := range [][]*contract.Clause{prooftest.Agreement().Contract.Clauses, c.Clauses} {
			needs.Agreement = prooftest.Agreement()
			needs.Agreement.Contract.Parameters, needs.Agreement.Contract.Clauses = c.Parameters, clauses
			_, p = contracted(t, needs, true)
			for i := range p.Results {
				for _, table := range p.Results[i].Tables {
					cell := table.Cells[slices.Index(table.Rows, "pen.set")][0]
					if needed := len(clauses) == len(c.Clauses); needed != strings.Contains(cell.Words, "another clause that it needs") ||
						needed != (cell.Verdict == proof.Kept) {
						t.Errorf("pen-1 on pen.set, needed %v: %+v", needed, cell)
					}
				}
			}
		}
		target.Agreement = prooftest.Agreement()
		for _, cl := range target.Agreement.Contract.Clauses {
			cl.Answer = nil
		}
		got, p = contracted(t, target, true)
		if text := got["contract.answered"][0]; text != "skipped: no clause has an answer" {
			t.Error(text)
		}
		for i := range p.Results {
			n := 0
			if r := &p.Results[i]; r.Check.Name == "contract.may-publish" && r.Verdict == proof.Kept {
				if fmt.Sscanf(r.Seen, "%d of", &n); n < 3 {
					t.Errorf("%s in %s", r.Seen, r.Version)
				}
			}
		}
		target.Agreement.Contract = &contract.Contract{}
		got, _ = contracted(t, target, true)
		wants(
			t,
			got,
			map[string]string{
				"contract.may-publish":   "skipped: there is no contract",
				"contract.may-subscribe": "skipped: there is no contract",
				"contract.nobody-else":   "skipped: there is no contract",
				"contract.delivered":     "skipped: there is no contract",
				"contract.presence":      "skipped: there is no contract",
				"contract.answered":      "skipped: there is no contract",
			},
		)
	})
}

// TestRestartsOfARealBroker: Debian's broker that writes nothing down, and one that does so when it ends: that survives
// a restart in order, and not being killed. What the contract needs is broken then.
func TestRestartsOfARealBroker(t *testing.T) {
	if testing.Short() {
		t.Skip("sockets")
	}
	for _, tt := range []struct{ name, lines, retained, session string }{
		{"nothing written", "", "broken: a stored message is gone after a restart (in order, killed), and pen.state must survive it",
			"broken: a kept session with what waited is gone after a restart (in order, killed), and pen.set must survive it"},
		{"written at its end", "autosave_on_changes false\n",
			"broken: a stored message is gone after a restart (killed), and pen.state must survive it",
			"broken: a kept session with what waited is gone after a restart (killed), and pen.set must survive it"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			t.Parallel()
			broker := brokertest.Start(
				t,
				brokertest.Options{Anonymous: true, Lines: tt.lines, Persistence: tt.lines != ""},
			)
			target, anonymous := over(broker.URLs["tcp"], nil, nil, false), true
			target.Anonymous, target.Agreement = &anonymous, prooftest.Agreement()
			target.Restart = func(ctx context.Context, killed bool) error {
				if killed {
					broker.Kill()
				} else {
					broker.Stop()
				}
				broker.Run()
				return nil
			}
			checks, _ := check.Match("restart")
			p, err := proof.Run(
				context.Background(),
				target,
				proof.Options{Checks: checks, Restarts: true, Versions: []packet.Version{packet.V5}},
			)
			if err != nil {
				t.Fatal(err)
			}
			for _, r := range p.Results {
				want := map[string]string{"restart.retained": tt.retained, "restart.session": tt.session}[r.Check.Name]
				text := string(r.Verdict)
				if r.Verdict != proof.Kept {
					text += ": " + r.Seen
				}
				if r.Check.Name == "restart.in-flight" { // as the session
					want = strings.Replace(
						tt.session,
						"a kept session with what waited",
						"a message that was not acknowledged",
						1,
					)
				}
				if text != want {
					t.Errorf("%s in %s: %s, want %s", r.Check.Name, r.Version, text, want)
				}
			}
			target.Restart = nil
			if p, _ = proof.Run(
				context.Background(),
				target,
				proof.Options{Checks: checks, Restarts: true},
			); !p.OK() ||
				!strings.Contains(p.Results[0].Seen, "nobody can restart the broker") {
				t.Errorf("nobody there: %s", p.Results[0].Seen)
			}
		})
	}
}

// TestADeviceThatGoesIsNotAccused: a command is not answered while its device is away, and it says so; one that says that
// it is there and does not answer is.
func TestADeviceThatGoesIsNotAccused(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		for goes, want := range map[bool]string{
			true:  "undecided: farm/north/net/pen/1/set was not answered, and its device came or went",
			false: "broken: farm/north/net/pen/1/set was not answered by pen.state, though",
		} {
			s := prooftest.Faulty(t, prooftest.Contracted())
			target := prooftest.Target(s, false)
			target.Agreement = prooftest.Agreement()
			went := make(chan bool, 10)
			o := client.Options{
				Dial:    s.Dial,
				Version: packet.V311,
				Connect: packet.Connect{
					ClientID:    "pen-1",
					CleanStart:  true,
					KeepAlive:   30,
					Username:    "pen-1",
					HasUsername: true,
					Password:    []byte(brokertest.Password),
					HasPassword: true,
					Will: &packet.Will{
						Topic:   "farm/north/net/pen/1/status",
						Payload: []byte("lost"),
						QoS:     1,
						Retain:  true,
					},
				},
				Message: func(*packet.Publish) { went <- goes },
			}
			c := client.New(o)
			if _, err := c.Connect(t.Context()); err != nil {
				t.Fatal(err)
			}
			on := packet.Publish{Topic: "farm/north/net/pen/1/status", Payload: []byte("on"), QoS: 1, Retain: true}
			if _, err := c.Publish(t.Context(), on); err != nil {
				t.Fatal(err)
			}
			if _, err := c.Subscribe(
				t.Context(),
				[]packet.Subscription{{Filter: "farm/north/net/pen/1/set", QoS: 1}},
			); err != nil {
				t.Fatal(err)
			}
			go func() {
				if <-went {
					c.Cut()
				}
			}()
			checks, err := check.Match("contract.answered")
			if err != nil {
				t.Fatal(err)
			}
			p, err := proof.Run(t.Context(), target,
				proof.Options{Checks: checks, OnTopics: true, Versions: []packet.Version{packet.V311}})
			if err != nil {
				t.Fatal(err)
			}
			if r := p.Results[0]; !strings.HasPrefix(string(r.Verdict)+": "+r.Seen, want) {
				t.Errorf("%s: %s, want %s", r.Verdict, r.Seen, want)
			}
			c.Close()
			s.Close()
			close(went)
			synctest.Wait()
		}
	})
}
