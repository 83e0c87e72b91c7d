package devices

import (
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/standin"
	"hodstone/internal/record"
	"hodstone/internal/tui/look"
	"hodstone/internal/workbench"
)

// inside is a stand-in seen from within: its clients, and what it refused. Only a broker
// that is ours can be looked into.
type inside struct {
	broker   string
	clients  []standin.ClientInfo
	refusals []standin.Refusal
	probes   []standin.Refusal  // those of Hodstone's own probes
	own      bool               // these are shown too
	heard    []record.LogClient // in place of clients: what a followed log tells
	isLog    bool
	at       int
	first    int
}

// look takes in how the stand-in stands.
func (v *inside) look(b *workbench.Bench) {
	if v.isLog {
		v.heard = b.LogClients(v.broker)
		v.at = max(0, min(v.at, len(v.heard)-1))
		return
	}
	if s := b.StandIn(v.broker); s != nil {
		v.clients = s.Clients()
		v.refusals, v.probes = b.Refusals(v.broker)
	}
	v.at = max(0, min(v.at, len(v.clients)-1))
}

// openInside shows the next stand-in of the workspace, or none after the last.
func (s *Screen) openInside() tea.Cmd {
	standIns := s.bench.StandIns()
	names := append(standIns, s.bench.LogNames()...)
	if len(names) == 0 {
		return look.Tell(
			true,
			"the workspace has no stand-in: of another's broker one sees who came and left in its log: --follow NAME=FILE",
		)
	}
	next := 0
	if s.inside != nil {
		for i, n := range names {
			if n == s.inside.broker {
				next = i + 1
			}
		}
	}
	s.inside = nil
	if next < len(names) {
		s.inside = &inside{broker: names[next], isLog: next >= len(standIns)}
		s.inside.look(s.bench)
	}
	return nil
}

func (v *inside) actions(s *Screen) []look.Action {
	back, names := "esc i", append(s.bench.StandIns(), s.bench.LogNames()...)
	more := len(names) > 0 && v.broker != names[len(names)-1]
	if more {
		back = "esc"
	}
	out := []look.Action{
		look.Let(back, "devices", func() { s.inside = nil }),
		look.Moves("choose", &v.at, max(len(v.clients), len(v.heard)), 10, nil),
	}
	if v.isLog {
		return out
	}
	if v.at < len(v.clients) {
		id, broker := v.clients[v.at].ID, s.bench.StandIn(v.broker)
		out = append(out, look.Act("o", "throw out", func() tea.Cmd {
			return func() tea.Msg {
				if broker == nil || !broker.ThrowOut(id) {
					return look.Notice{Text: id + " is not connected", Bad: true}
				}
				return look.Notice{Text: id + " is thrown out"}
			}
		}))
	}
	out = append(out, look.Let("c", "Hodstone's own", func() { v.own = !v.own }))
	if more {
		out = append(out, look.Act("i", "next broker", s.openInside))
	}
	return out
}

// drawHeard lists who came and left, as a log tells.
func (v *inside) drawHeard(c look.Canvas) {
	t := c.Theme
	connected := 0
	for i := range v.heard {
		if v.heard[i].Connected {
			connected++
		}
	}
	c.Rule(0, fmt.Sprintf("the log %s tells of %d clients, %d connected", v.broker,
		len(v.heard), connected), t.Strong)
	idW, addrW := c.W/3, 25
	if c.W < 90 { // how it stands matters more than the whole of an address
		idW, addrW = 14, 16
	}
	x := []int{2, 2 + idW + 1, 2 + idW + 8, 2 + idW + 8 + addrW + 1}
	for i, h := range []string{"client", "since", "address", "how it stands"} {
		c.Text(x[i], 1, h, t.Dim)
	}
	v.first = look.Scroll(v.first, v.at, c.H-2, len(v.heard))
	for i := 0; i+2 < c.H && v.first+i < len(v.heard); i++ {
		k, y, st := &v.heard[v.first+i], i+2, t.Text
		how := "● connected"
		if !k.Connected {
			st, how = t.Old, "○ "+k.Why
		}
		c.Text(x[0], y, look.Middle(look.Tame(k.ID), idW), st)
		c.Text(x[1], y, look.Age(time.Since(k.Since)), t.Dim)
		c.Text(x[2], y, look.Clip(look.Tame(k.Address), addrW), t.Dim)
		c.Text(x[3], y, look.Clip(look.Tame(how), c.W-x[3]), st)
		if v.first+i == v.at {
			c.Paint(0, y, c.W, t.Select)
			c.Text(0, y, "▸", t.Select)
		}
	}
}

func (v *inside) draw(c look.Canvas) {
	t := c.Theme
	if v.isLog {
		v.drawHeard(c)
		return
	}
	low := min(12, c.H/3)
	top := c.Sub(0, 0, c.W, c.H-low)
	connected := 0
	for i := range v.clients {
		if v.clients[i].Connected {
			connected++
		}
	}
	top.Rule(
		0,
		fmt.Sprintf("inside %s: %s, %d connected", v.broker, look.Plural(len(v.clients), "session"), connected),
		t.Strong,
	)
	if len(v.clients) == 0 {
		top.Text(2, 2, "Nobody is there. Whoever connects to the stand-in appears here.", t.Dim)
	}
	idW := max(12, min(24, c.W/6))
	wide := c.W > 110
	x := []int{2, 2 + idW + 1}
	add := func(w int) int { x = append(x, x[len(x)-1]+w); return len(x) - 1 }
	add(7)  // version
	add(14) // login
	add(9)  // since
	add(9)  // in
	add(9)  // out
	add(9)  // in flight
	add(9)  // waiting
	heads := []string{
		"client",
		"MQTT",
		"login",
		"since",
		"in/s",
		"out/s",
		"flight",
		"waiting",
		"address, subscriptions",
	}
	for i, h := range heads {
		if i >= 4 && i <= 7 {
			top.Right(x[i]+7, 1, h, t.Dim)
		} else {
			top.Text(x[i], 1, h, t.Dim)
		}
	}
	rows := top.H - 2
	v.first = look.Scroll(v.first, v.at, rows, len(v.clients))
	for i := 0; i < rows && v.first+i < len(v.clients); i++ {
		k, y := &v.clients[v.first+i], i+2
		st, where := t.Text, k.Address
		if !k.Connected {
			st, where = t.Old, "away"
		}
		login := k.Login
		if login == "" {
			login = "anonymous"
		}
		top.Text(x[0], y, look.Middle(k.ID, idW), st)
		top.Text(x[1], y, k.Version.String(), t.Dim)
		top.Text(x[2], y, look.Clip(login, 13), st)
		top.Text(x[3], y, look.Age(time.Since(k.Since)), t.Dim)
		top.Right(x[4]+7, y, fmt.Sprintf("%.1f", k.PublishedRate), st)
		top.Right(x[5]+7, y, fmt.Sprintf("%.1f", k.DeliveredRate), st)
		top.Right(x[6]+7, y, fmt.Sprint(k.InFlight), st)
		waiting := st
		if k.Waiting > 0 {
			waiting = t.Warn
		}
		top.Right(x[7]+7, y, fmt.Sprint(k.Waiting), waiting)
		tail := where
		switch {
		case k.Expiry == standin.Never:
			tail += "  session kept"
		case k.Expiry > 0:
			tail += "  session kept " + k.Expiry.String()
		}
		if k.Dropped > 0 {
			tail = fmt.Sprintf("✗ %d dropped  ", k.Dropped) + tail
		}
		if wide {
			tail += "  " + strings.Join(k.Filters, " ")
		}
		top.Text(x[8], y, look.Clip(tail, c.W-x[8]), t.Dim)
		if v.first+i == v.at {
			top.Paint(0, y, c.W, t.Select)
			top.Text(0, y, "▸", t.Select)
		}
	}
	v.drawRefusals(c.Sub(0, c.H-low, c.W, low))
}

// drawRefusals lists what was not allowed, the newest first.
func (v *inside) drawRefusals(c look.Canvas) {
	t := c.Theme
	told, shown := fmt.Sprintf("refused: %d", len(v.refusals)), v.refusals
	switch {
	case v.own:
		shown = slices.Concat(v.refusals, v.probes)
		slices.SortStableFunc(shown, func(a, b standin.Refusal) int { return a.At.Compare(b.At) })
		told += fmt.Sprintf(" of the site, %d of Hodstone's own probes", len(v.probes))
	case len(v.probes) > 0:
		told += fmt.Sprintf("; %d of Hodstone's own probes are left out", len(v.probes))
	}
	c.Rule(0, told, t.Strong)
	if len(shown) == 0 {
		for i, l := range look.Wrap("Nothing so far. A wrong password, a filter beyond the rights or a limit shows here, with the reason that the client does not get to see.", c.W-4) {
			c.Text(2, 1+i, l, t.Dim)
		}
		return
	}
	for i := 0; i+1 < c.H && i < len(shown); i++ {
		r := &shown[len(shown)-1-i]
		sign, plain, loud := "✗", t.Text, t.Broken
		if slices.ContainsFunc(
			v.probes,
			func(p standin.Refusal) bool { return p.Address == r.Address && p.At.Equal(r.At) },
		) {
			sign, plain, loud = "·", t.Dim, t.Dim // meant to be refused
		}
		at := c.Text(2, 1+i, r.At.Format("15:04:05 "), t.Dim)
		at = c.Text(at, 1+i, look.Middle(r.ClientID, 16)+" ", plain)
		what := fmt.Sprintf("%s %s  0x%02X %s: ", sign, r.What, byte(r.Code), r.Code.In(packet.CONNACK, packet.V5))
		if c.W < 100 { // the reason matters more than the code
			what = sign + " " + look.Clip(r.What, 20) + ": "
		}
		at = c.Text(at, 1+i, what, loud)
		c.Text(at, 1+i, look.Clip(r.Why, c.W-at), plain)
	}
}
