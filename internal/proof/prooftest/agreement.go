package prooftest

import (
	"context"
	"testing"
	"time"

	"hodstone/internal/brokertest"
	"hodstone/internal/contract"
	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/proof"
	"hodstone/internal/workspace"
)

// Agreed is a contract of pens and a desk: a state and a presence for each pen, a command, and a note for all pens.
func Agreed() *contract.Contract {
	pattern := func(s string) contract.Pattern {
		p, err := contract.ParsePattern(s)
		if err != nil {
			panic(err)
		}
		return p
	}
	one, two, yes, no := packet.QoS(1), packet.QoS(2), true, false
	return &contract.Contract{
		Parties:    []contract.Party{{Name: "pen"}, {Name: "desk"}},
		Parameters: map[string]contract.Parameter{"pen": {Name: "pen", Values: []string{"1", "2"}}},
		Clauses: []*contract.Clause{
			{
				Name:     "pen.state",
				Topic:    pattern("farm/north/net/pen/{pen}/state"),
				From:     "pen",
				To:       []string{"desk"},
				QoS:      &one,
				Retain:   &yes,
				Survives: true,
			},
			{
				Name:     "pen.status",
				Topic:    pattern("farm/north/net/pen/{pen}/status"),
				From:     "pen",
				To:       []string{"desk"},
				QoS:      &one,
				Retain:   &yes,
				Presence: &contract.Presence{Coming: "on", Leaving: "off", Lost: "lost"},
			},
			{
				Name:     "pen.set",
				Topic:    pattern("farm/north/net/pen/{pen}/set"),
				From:     "desk",
				To:       []string{"pen"},
				QoS:      &one,
				Retain:   &no,
				Survives: true,
				Answer: &contract.Answer{
					Clause: "pen.state",
					Within: time.Second,
				},
				Examples: []contract.Example{{Payload: []byte("feed"), Text: "feed"}},
			},
			{
				Name:       "desk.note",
				Topic:      pattern("farm/north/net/desk/all/note"),
				From:       "desk",
				To:         []string{"pen"},
				QoS:        &two,
				Retain:     &no,
				Expiry:     time.Minute,
				Properties: contract.Properties{ContentType: "text/plain", User: [][2]string{{"unit", "kg"}}},
			},
		},
	}
}

// agreedLogins are what a stand-in knows of the contract's logins: their rights are what it needs.
func agreedLogins() (out []standin.Login) {
	for _, n := range []string{"1", "2"} {
		at := "farm/north/net/pen/" + n
		out = append(out, standin.Login{
			Name:     "pen-" + n,
			Password: brokertest.Password,
			Publish: []string{
				at + "/state",
				at + "/status",
			},
			Subscribe: []string{at + "/set", "farm/north/net/desk/all/note"},
		})
	}
	return append(out, standin.Login{Name: "desk", Password: brokertest.Password,
		Publish:   []string{"farm/north/net/pen/+/set", "farm/north/net/desk/all/note"},
		Subscribe: []string{"farm/north/net/pen/+/state", "farm/north/net/pen/+/status"}})
}

// Agreement is the contract with its logins, and the guest, who speaks for nobody.
func Agreement() *proof.Agreement {
	speaker := func(name, party string, values map[string]string) proof.Speaker {
		return proof.Speaker{Party: party, Values: values, Here: true, Login: &workspace.Login{
			Name: name, Username: name, Password: workspace.NewSecret(brokertest.Password), HasPassword: true}}
	}
	return &proof.Agreement{Contract: Agreed(), Speakers: []proof.Speaker{
		speaker("pen-1", "pen", map[string]string{"pen": "1"}), speaker("pen-2", "pen", map[string]string{"pen": "2"}),
		speaker("desk", "desk", nil), speaker("guest", "", nil)}}
}

// AtWork lets a device of pen 1 come to the stand-in: it says that it is there, and answers commands by its state. It
// leaves when stop is called.
func AtWork(t *testing.T, s *standin.Server) (stop func()) {
	t.Helper()
	commands := make(chan *packet.Publish, 8)
	o := client.Options{Dial: s.Dial, Version: packet.V311,
		Connect: packet.Connect{ClientID: "pen-1", CleanStart: true, KeepAlive: 30,
			Will: &packet.Will{Topic: "farm/north/net/pen/1/status", Payload: []byte("lost"), QoS: 1, Retain: true}},
		Message: func(m *packet.Publish) { commands <- m }}
	(&workspace.Login{Username: "pen-1", Password: workspace.NewSecret(brokertest.Password), HasPassword: true}).Apply(
		&o,
	)
	c := client.New(o)
	ctx, cancel := context.WithCancel(context.Background())
	at := "farm/north/net/pen/1"
	done := make(chan struct{})
	go func() {
		defer close(done)
		if _, err := c.Connect(ctx); err != nil {
			return // under some faults nobody gets in
		}
		defer c.Disconnect(0)
		c.Start(packet.Publish{Topic: at + "/status", Payload: []byte("on"), QoS: 1, Retain: true})
		c.Subscribe(ctx, []packet.Subscription{{Filter: at + "/set", QoS: 1}})
		for {
			select {
			case m := <-commands:
				if string(m.Payload) == "feed" { // what it does not know it leaves alone
					c.Start(packet.Publish{Topic: at + "/state", Payload: []byte("feeding"), QoS: 1, Retain: true})
				}
			case <-ctx.Done():
				return
			}
		}
	}()
	return func() { cancel(); <-done }
}
