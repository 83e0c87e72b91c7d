package reach

import (
	"context"
	"fmt"
	"strings"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/workspace"
)

// Rights is what a login was found to be allowed beyond its work: it subscribed to everything and
// published under a name of our own, and so did another client that it was compared with.
type Rights struct {
	Login string
	// Granted tells that the broker granted the subscription to everything, which says little:
	// many grant it and deliver nothing. Reads tells that the other's message arrived.
	Granted, Reads bool
	// Writes tells that its message arrived elsewhere.
	Writes bool
	// Unknown says what could not be found out, and why; "" for nothing.
	Unknown string
}

// String tells what was found.
func (x Rights) String() string {
	if x.Unknown != "" {
		return "not found out: " + x.Unknown
	}
	reads, writes := "may not subscribe to everything", "may not publish on any topic"
	switch {
	case x.Reads:
		reads = "may read everything"
	case x.Granted:
		reads = "may read its own only: # is granted, and nothing else arrives"
	}
	if x.Writes {
		writes = "may publish on any topic"
	}
	return reads + "; " + writes
}

// NoLogin names the client without credentials.
const NoLogin = "no login"

// rightsWait is the least that is waited for a message that must not come; else three round trips.
const rightsWait = 500 * time.Millisecond

// asking is a login whose rights are tried.
type asking struct {
	Rights
	visit *visit
	topic string
	sent  bool // and not refused
}

// rights finds out which logins may read and publish what is none of theirs. Whether a message
// must not come can be told only where it comes to another: the way's own client.
func (r *runner) rights(ctx context.Context, address string) {
	logins := append([]*workspace.Login{}, r.target.Logins...)
	for _, a := range r.result.Answers {
		if a.Who == NoLogin && a.In {
			logins = append(logins, nil)
		}
	}
	if len(logins) == 0 || ctx.Err() != nil {
		return
	}
	version := r.target.Versions[0]
	root := OwnRoot + strings.TrimPrefix(client.NewID(), "hodstone")
	control := r.visit(
		ctx,
		approach{
			name:    "way in, for comparison",
			address: address,
			version: version,
			login:   r.target.Login,
			id:      r.target.ClientID,
			under:   root,
		},
	)
	defer control.end()
	if control.err != nil {
		return
	}
	subscribe := func(v *visit, s packet.Subscription) (granted bool, err error) {
		stage, cancel := context.WithTimeout(ctx, r.o.Wait)
		defer cancel()
		ack, err := v.client.Subscribe(stage, []packet.Subscription{s})
		return err == nil && len(ack.Codes) == 1 && ack.Codes[0] <= 2, err
	}
	publish := func(v *visit, topic string) bool {
		stage, cancel := context.WithTimeout(ctx, r.o.Wait)
		defer cancel()
		most := packet.QoS(v.ack.Properties.IntOr(packet.MaximumQoS, 2))
		code, err := v.client.Publish(stage, packet.Publish{Topic: topic, Payload: []byte("reach"), QoS: min(1, most)})
		return err == nil && code < 0x80
	}
	sees, _ := subscribe(control, packet.Subscription{Filter: root + "/#", QoS: 1})
	all := make([]*asking, 0, len(logins))
	for i, l := range logins {
		a := &asking{Rights: Rights{Login: NoLogin}, topic: fmt.Sprintf("%s/%d", root, i+1)}
		if l != nil {
			if a.Login = l.Name; a.Login == "" {
				a.Login = "this login" // by certificate
			}
		}
		r.say("what %s may read and publish", a.Login)
		a.visit = r.visit(
			ctx,
			approach{name: "login " + a.Login, address: address, version: version, login: l, under: root},
		)
		defer a.visit.end()
		if ctx.Err() != nil {
			return
		}
		all = append(all, a)
		if a.visit.err != nil {
			a.Unknown = "it does not get in: " + a.visit.err.Error()
			continue
		}
		s := packet.Subscription{Filter: "#"}
		if version == packet.V5 {
			s.RetainHandling = packet.RetainDontSend
		}
		var err error
		if a.Granted, err = subscribe(a.visit, s); err != nil &&
			a.visit.client.Connected() { // to end the link is a refusal
			a.Unknown = "its subscription is not answered: " + err.Error()
		}
	}
	publish(control, root+"/0")
	for _, a := range all {
		if a.visit.err == nil {
			a.sent = publish(a.visit, a.topic)
		}
	}
	r.gather(ctx, root, control, sees, all)
}

// gather waits for the messages and draws the conclusions.
func (r *runner) gather(ctx context.Context, root string, control *visit, sees bool, all []*asking) {
	arrived := map[string]bool{}       // topics, anywhere
	by := map[*visit]map[string]bool{} // topics, by who received them
	visits := []*visit{control}
	for _, a := range all {
		if a.visit.err == nil {
			visits = append(visits, a.visit)
		}
	}
	for _, v := range visits {
		by[v] = map[string]bool{}
	}
	missing := func() bool { // something may still come
		if sees && !by[control][root+"/0"] {
			return true
		}
		for _, a := range all {
			if a.Granted && !by[a.visit][root+"/0"] || a.sent && !arrived[a.topic] {
				return true
			}
		}
		return false
	}
	for end := time.Now().Add(max(rightsWait, 3*r.result.Ping)); missing() && time.Now().Before(end) && ctx.Err() == nil; {
		quiet := true
		for _, v := range visits {
			select {
			case m := <-v.messages:
				by[v][m.Topic], arrived[m.Topic] = true, true
				quiet = false
			default:
			}
		}
		if quiet {
			time.Sleep(2 * time.Millisecond)
		}
	}
	if ctx.Err() != nil {
		return
	}
	for _, a := range all {
		a.Reads, a.Writes = len(by[a.visit]) > 0, arrived[a.topic]
		switch {
		case a.Unknown != "":
		case a.Granted && !a.Reads && !arrived[root+"/0"]:
			a.Unknown = "it is granted #, and whether anything arrives could not be tried: the way's own login may not publish under a name of ours"
		case a.sent && !a.Writes && !by[control][root+"/0"]:
			a.Unknown = "whether what it publishes arrives could not be tried: the way's own login may not read a name of ours"
		}
		r.result.Rights = append(r.result.Rights, a.Rights)
	}
}

// OwnRoot begins the first level of the topics by which rights are tried: it goes on with letters
// of the moment, so that no right can be meant for it.
const OwnRoot = "hodstone-"

// unrestricted words which logins may read, or publish, what is none of theirs; "" for none.
func unrestricted(all []Rights) string {
	var parts []string
	for _, kind := range []struct {
		what          string
		reads, writes bool
	}{{"may read and publish everything", true, true}, {"may read everything", true, false}, {"may publish on any topic", false, true}} {
		var names []string
		for _, x := range all {
			if x.Login != NoLogin && x.Reads == kind.reads && x.Writes == kind.writes {
				names = append(names, x.Login)
			}
		}
		if n := len(names); n > 4 {
			names = append(names[:4:4], fmt.Sprintf("%d more", n-4))
		}
		if names != nil {
			parts = append(parts, kind.what+": "+strings.Join(names, ", "))
		}
	}
	return strings.Join(parts, "; ")
}
