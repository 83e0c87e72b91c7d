package reach

import (
	"context"
	"fmt"
	"maps"
	"net"
	"net/netip"
	"slices"
	"strings"

	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/trust"
	"hodstone/internal/workspace"
)

// Door is something left open that should be shut before the broker goes to work.
type Door struct {
	Name   string // such as [workspace.DoorPlain]
	What   string
	Remedy string
	// Accepted is the reason why it stays open, as the workspace says; "" where it does not.
	Accepted string
}

func (r *runner) find(s Severity, remedy, format string, args ...any) {
	r.result.Findings = append(
		r.result.Findings,
		Finding{Severity: s, What: fmt.Sprintf(format, args...), Remedy: remedy},
	)
}

// door notes an open door.
func (res *Result) door(name, remedy, format string, args ...any) {
	res.Doors = append(res.Doors, Door{name, fmt.Sprintf(format, args...), remedy, res.Target.Accepted[name]})
}

// conclude draws from one target's attempts what they tell together.
func (r *runner) conclude() {
	r.compareAddresses()
	e, t := r.endpoint, &r.target
	if PlainPassword(t) && r.sentConnect() {
		where := "anyone on the way can read it"
		if ip, err := netip.ParseAddr(e.Host); err == nil && ip.IsLoopback() {
			where = "it stayed on this machine"
		}
		r.find(
			trust.Worry,
			"use a TLS listener for logins",
			"a password went over a plain link to %s: %s",
			e.Address,
			where,
		)
	}
	for _, a := range r.result.Answers {
		if a.Who != NoLogin {
			if !a.Kept() {
				r.find(
					trust.Broken,
					"see the broker's configuration of logins",
					"%s: %s, which was not intended",
					a.Who,
					a.Seen,
				)
			}
			continue
		}
		switch {
		case a.In:
			r.result.door(
				workspace.DoorAnonymous,
				"turn anonymous access off",
				"clients without credentials get in%s",
				r.result.anonymousMay(),
			)
			if t.Anonymous != nil && !*t.Anonymous {
				r.find(trust.Broken, "turn anonymous access off", "no login: let in, which was not intended")
			}
		case t.Login != nil:
			r.find(trust.Note, "", "authentication is on: refused without a login, in with one")
		}
	}
	if what := unrestricted(r.result.Rights); what != "" {
		r.result.door(workspace.DoorUnrestricted, "give each login rights to its own topics", "%s", what)
	}
	taken, other := "", ""
	for _, v := range r.result.Versions {
		if v.In {
			taken = v.Version.String()
		} else {
			other = v.Version.String()
		}
	}
	if taken != "" && other != "" {
		r.find(trust.Note, "let clients use "+taken, "MQTT %s gets in, %s does not", taken, other)
	}
	for _, w := range r.result.Ways {
		if !w.In || w.Extra {
			continue
		}
		if s := w.Steps[len(w.Steps)-1]; s.State == Failed {
			r.find(
				trust.Worry,
				"give the login the right, or try with another",
				"in, but the round trip failed: %s",
				s.Learnt,
			)
		}
	}
}

// anonymousMay words what clients without credentials may do, as far as that was found out.
func (res *Result) anonymousMay() string {
	for _, x := range res.Rights {
		switch {
		case x.Login != NoLogin:
		case x.Reads && x.Writes:
			return ", and may read and publish everything"
		case x.Reads:
			return ", and may read everything"
		case x.Writes:
			return ", and may publish on any topic"
		}
	}
	return ""
}

// PlainPassword tells whether a target's password or token goes over a link that is not
// encrypted.
func PlainPassword(t *Target) bool {
	e, err := link.Parse(t.URL)
	l := t.Login
	if err != nil || l == nil || e.TLS || e.Network != "tcp" {
		return false
	}
	proven := l.SCRAM && len(t.Versions) > 0 &&
		!slices.ContainsFunc(t.Versions, func(v packet.Version) bool { return v != packet.V5 })
	return l.HasToken || l.HasPassword && !proven
}

// sentConnect tells whether a CONNECT went out.
func (r *runner) sentConnect() bool {
	for _, w := range r.result.Ways {
		for _, s := range w.Steps {
			if s.Stage == StageConnect && s.State != Untried {
				return true
			}
		}
	}
	return false
}

// compareAddresses compares the addresses that were tried.
func (r *runner) compareAddresses() {
	var in, out, named []string         // named are those out that the name has
	loopback, own, v4, v6 := 0, 0, 0, 0 // how many of those in are of the kind
	ownOut, ownDiag := "", Cause("")
	for _, w := range r.result.Ways {
		host, _, err := net.SplitHostPort(w.Address)
		ip, err2 := netip.ParseAddr(host)
		if err != nil || err2 != nil {
			continue
		}
		if w.In {
			in = append(in, host)
			switch {
			case ip == netip.AddrFrom4([4]byte{127, 0, 0, 1}) || ip == netip.IPv6Loopback():
				loopback++
			default:
				own++
			}
			if ip.Is4() {
				v4++
			} else {
				v6++
			}
			continue
		}
		out = append(out, host)
		if !w.Extra {
			named = append(named, host)
		}
		if d := w.Diagnosis; d != nil &&
			(w.Extra || !ip.IsLoopback() || ip != netip.AddrFrom4([4]byte{127, 0, 0, 1})) &&
			ip != netip.IPv6Loopback() {
			ownOut, ownDiag = host, d.Cause
		}
	}
	if len(in) == 0 || len(out) == 0 {
		return
	}
	switch {
	case loopback > 0 && own == 0 && ownOut != "" && (ownDiag == Refused || ownDiag == TimedOut || ownDiag == ResetOnAccept):
		severity := trust.Worry
		if r.target.StandIn {
			severity = trust.Note // it is meant to
		}
		r.find(
			severity,
			"let it listen on all addresses, or on that of the network, if other machines are to reach it",
			"the broker listens on loopback only: in from %s, %s at %s",
			strings.Join(in, ", "),
			ownDiag,
			ownOut,
		)
	case own > 0 && loopback == 0 && onlyLoopback(out):
		r.find(
			trust.Note,
			"dial it by that address, on this machine too",
			"the broker does not listen on loopback: in at %s",
			strings.Join(in, ", "),
		)
	}
	switch {
	case v6 > 0 && v4 == 0 && hasFamily(named, true):
		r.find(
			trust.Worry,
			"let it listen on IPv4 too, for clients that have nothing else",
			"the broker listens on IPv6 only: in at %s, not at %s",
			strings.Join(in, ", "),
			strings.Join(named, ", "),
		)
	case v4 > 0 && v6 == 0 && hasFamily(named, false):
		r.find(
			trust.Note,
			"clients that try IPv6 first lose time",
			"the broker listens on IPv4 only, and its name has an IPv6 address too: not at %s",
			strings.Join(named, ", "),
		)
	case len(named) > 0:
		r.find(
			trust.Worry,
			"clients choose among the addresses: take those away that lead nowhere",
			"in at %s, not at %s",
			strings.Join(in, ", "),
			strings.Join(named, ", "),
		)
	}
}

func onlyLoopback(hosts []string) bool {
	for _, h := range hosts {
		if ip, err := netip.ParseAddr(h); err != nil || !ip.IsLoopback() {
			return false
		}
	}
	return true
}

func hasFamily(hosts []string, four bool) bool {
	return slices.ContainsFunc(hosts, func(h string) bool {
		ip, err := netip.ParseAddr(h)
		return err == nil && ip.Is4() == four
	})
}

// Combine looks at the results of several targets together: plain listeners beside TLS ones,
// a host that nobody gets into any more, the same login refused everywhere.
func Combine(results []Result) *Report {
	rep := &Report{Results: results}
	type host struct {
		in, out []int
		gone    bool // every failure is one of reaching the machine at all
	}
	hosts := map[string]*host{}
	brokers := map[string][]int{}
	for i := range results {
		e, err := link.Parse(results[i].Target.URL)
		if err != nil || results[i].Running || len(results[i].Ways) == 0 {
			continue
		}
		broker := results[i].Target.Broker()
		brokers[broker] = append(brokers[broker], i)
		h := hosts[e.Host]
		if h == nil {
			h = &host{gone: true}
			hosts[e.Host] = h
		}
		d := results[i].Diagnosis()
		switch {
		case results[i].In():
			h.in = append(h.in, i)
		case d != nil:
			h.out = append(h.out, i)
			h.gone = h.gone &&
				slices.Contains(
					[]Cause{
						TimedOut,
						HostUnreachable,
						NetUnreachable,
						NameUnknown,
						NoAddress,
						Refused,
						NameSilent,
						IPv6Only,
					},
					d.Cause,
				)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(brokers)) {
		plainDoors(results, brokers[name])
	}
	for _, name := range slices.Sorted(maps.Keys(hosts)) {
		h := hosts[name]
		if len(h.out) == 0 || len(h.in) > 0 || !h.gone {
			continue
		}
		var listeners, users []string
		for _, i := range h.out {
			listeners = append(listeners, results[i].Target.Name)
			for _, u := range results[i].Target.Users {
				if !slices.Contains(users, u) {
					users = append(users, u)
				}
			}
		}
		elsewhere := ""
		for _, other := range slices.Sorted(maps.Keys(hosts)) {
			if other != name && len(hosts[other].in) > 0 && sameBroker(results, h.out, hosts[other].in) {
				elsewhere = other
			}
		}
		if len(h.out) < 2 && len(users) == 0 && elsewhere == "" {
			continue // the diagnosis says it all
		}
		f := Finding{
			Severity: trust.Broken,
			What:     fmt.Sprintf("nobody gets in at %s: %s still name it", name, strings.Join(listeners, ", ")),
			Remedy:   "did the address move? change it in the workspace's file, and in the devices' own settings",
		}
		if elsewhere != "" {
			f.What = fmt.Sprintf(
				"the broker is in at %s, and nobody gets in at %s: %s still name the old address",
				elsewhere,
				name,
				strings.Join(listeners, ", "),
			)
		}
		if len(users) > 0 {
			f.What += "; it is used by " + strings.Join(users, ", ")
		}
		rep.Findings = append(rep.Findings, f)
	}
	return rep
}

// sameBroker tells whether two groups of targets share a broker of the workspace.
func sameBroker(results []Result, a, b []int) bool {
	return slices.ContainsFunc(a, func(i int) bool {
		return slices.ContainsFunc(
			b,
			func(k int) bool { return results[i].Target.Broker() == results[k].Target.Broker() },
		)
	})
}

// Doors tries the ways into a broker and returns the doors that are open; nil where none leads
// in, for then nothing could be found.
func Doors(ctx context.Context, ways []Target, o Options) []Door {
	o.Own = func() []netip.Addr { return nil } // where it listens is no door
	rep := Run(ctx, ways, o)
	var all []*Result
	in := false
	for i := range rep.Results {
		all = append(all, &rep.Results[i])
		in = in || rep.Results[i].In()
	}
	if !in {
		return nil
	}
	return append([]Door{}, OpenDoors(all)...)
}

// OpenDoors returns the open doors of all results, one for each kind and broker, with the broker's
// name where there are several; those that are accepted come last.
func OpenDoors(results []*Result) (out []Door) {
	type key struct{ broker, name string }
	at := map[key]int{}
	plain := map[key][]string{}
	brokers := map[string]bool{}
	for _, r := range results {
		brokers[r.Target.Broker()] = true
	}
	for _, r := range results {
		broker := r.Target.Broker()
		prefix := ""
		if len(brokers) > 1 {
			prefix = broker + ": "
		}
		for _, d := range r.Doors {
			k := key{broker, d.Name}
			if d.Name == workspace.DoorPlain {
				plain[k] = append(plain[k], r.Target.Name)
			}
			if _, known := at[k]; !known {
				at[k] = len(out)
				d.What = prefix + d.What
				out = append(out, d)
			}
			if d.Name == workspace.DoorPlain && len(plain[k]) > 1 {
				out[at[k]].What = prefix + "plain listeners stand beside a TLS one: " + strings.Join(plain[k], ", ")
			}
		}
	}
	slices.SortStableFunc(out, func(a, b Door) int {
		if (a.Accepted == "") == (b.Accepted == "") {
			return 0
		} else if a.Accepted == "" {
			return -1
		}
		return 1
	})
	return out
}

// plainDoors notes plain listeners of a broker that also has TLS ones.
func plainDoors(results []Result, of []int) {
	secure := false
	for _, i := range of {
		if e, err := link.Parse(results[i].Target.URL); err == nil && e.TLS && results[i].In() {
			secure = true
		}
	}
	for _, i := range of {
		e, err := link.Parse(results[i].Target.URL)
		if err != nil || e.TLS || e.Network == "unix" || !results[i].In() || !secure {
			continue
		}
		if slices.ContainsFunc(results[i].Doors, func(d Door) bool { return d.Name == workspace.DoorPlain }) {
			continue
		}
		results[i].door(
			workspace.DoorPlain,
			"close it, or let it listen on loopback only, once all clients use TLS",
			"a plain listener stands beside a TLS one: %s",
			results[i].Target.Name,
		)
	}
}
