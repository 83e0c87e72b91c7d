package wire

import (
	"fmt"
	"slices"

	"hodstone/internal/tui/look"
)

// laneState is how a client is shown.
type laneState int

// The states of a lane.
const (
	laneShown  laneState = iota
	laneFolded           // its packets stand on one lane with those of other folded ones
	laneHidden           // its packets are left out
)

var laneWords = map[laneState]string{laneShown: "shown", laneFolded: "folded", laneHidden: "hidden"}

// lanes are the clients of the trace in the order in which they stand.
type lanes struct {
	names  []string
	states map[string]laneState
	moved  bool // the user has put them in an order of his own

	open   bool // the list is being worked on
	cursor int
}

func (l *lanes) add(name string) bool {
	if name == "" || slices.Contains(l.names, name) {
		return false
	}
	l.names = append(l.names, name)
	return true
}

// arrange puts the workspace's devices first, in its order, unless the user has an order.
func (l *lanes) arrange(devices []string) {
	if l.moved {
		return
	}
	place := func(name string) int {
		if i := slices.Index(devices, name); i >= 0 {
			return i
		}
		return len(devices)
	}
	slices.SortStableFunc(l.names, func(a, b string) int { return place(a) - place(b) })
}

// in returns the names in a state, in order.
func (l *lanes) in(state laneState) (out []string) {
	for _, n := range l.names {
		if l.states[n] == state {
			out = append(out, n)
		}
	}
	return out
}

// actions are those of the open list.
func (l *lanes) actions(s *Screen) []look.Action {
	out := []look.Action{look.Let("esc l enter", "done", func() { l.open = false })}
	if len(l.names) == 0 {
		return out
	}
	l.cursor = max(0, min(l.cursor, len(l.names)-1))
	name := l.names[l.cursor]
	return append(out,
		look.Moves("choose", &l.cursor, len(l.names), 10, nil),
		look.Let("space", "show, fold, hide", func() {
			was := l.states[name]
			l.states[name] = (was + 1) % 3
			if was == laneHidden || l.states[name] == laneHidden {
				s.refill()
			}
		}),
		look.Keys("K J", "move up, down", []string{"K", "shift+up", "J", "shift+down"}, func(k string) {
			l.shift(k == "K" || k == "shift+up")
		}),
		look.Let("o", "only this one", func() {
			for _, n := range l.names {
				l.states[n] = laneHidden
			}
			l.states[name] = laneShown
			s.refill()
		}),
		look.Let("a", "show all", func() { clear(l.states); s.refill() }),
	)
}

// shift moves the lane with the cursor up or down; from then on the order is the user's.
func (l *lanes) shift(up bool) {
	to := l.cursor + 1
	if up {
		to = l.cursor - 1
	}
	if to >= 0 && to < len(l.names) {
		l.names[l.cursor], l.names[to] = l.names[to], l.names[l.cursor]
		l.cursor, l.moved = to, true
	}
}

func (l *lanes) draw(c look.Canvas) {
	t := c.Theme
	w := 34
	for _, n := range l.names {
		w = max(w, look.Width(n)+18)
	}
	w = min(w, c.W-2)
	h := min(len(l.names)+3, c.H-1)
	b := c.Sub(c.W-w-1, 0, w, h)
	b.Fill(t.Rail)
	b.Text(1, 0, fmt.Sprintf("lanes, %s", look.Plural(len(l.names), "client")), look.On(t.Strong, t.Rail))
	if len(l.names) == 0 {
		b.Text(1, 1, "no client yet", look.On(t.Dim, t.Rail))
		return
	}
	first := look.Scroll(0, l.cursor, h-3, len(l.names))
	for i := 0; i < h-3 && first+i < len(l.names); i++ {
		n := l.names[first+i]
		sign, st := "│", t.Text
		switch l.states[n] {
		case laneFolded:
			sign, st = "┊", t.Dim
		case laneHidden:
			sign, st = "·", t.Old
		}
		b.Text(1, 1+i, sign+" "+look.Middle(n, w-14), look.On(st, t.Rail))
		b.Right(w-1, 1+i, laneWords[l.states[n]], look.On(st, t.Rail))
		if first+i == l.cursor {
			b.Paint(0, 1+i, w, t.Select)
			b.Text(0, 1+i, "▸", t.Select)
		}
	}
	b.Text(1, h-1, "space changes, esc is done", look.On(t.Dim, t.Rail))
}
