package devices

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	core "hodstone/internal/contract"
	"hodstone/internal/device"
	"hodstone/internal/expression"
	"hodstone/internal/tui/look"
	"hodstone/internal/workspace"
)

// question is what the user is asked before a message goes out or a signal is set.
type question struct {
	choices []string // to pick from, or nil
	at      int
	title   string
	input   *look.Input // a line to type, or nil
	done    func(*Screen, string) (next *question, cmd tea.Cmd, err error)
}

// actions are those of a question.
func (q *question) actions(s *Screen) []look.Action {
	out := []look.Action{look.Act("enter", "go on", func() tea.Cmd { return q.answer(s) })}
	if q.input == nil {
		out = append(out, look.Moves("choose", &q.at, len(q.choices), 5, nil))
	}
	return append(out, look.Let("esc", "leave", func() { s.ask = nil }))
}

// answer takes what was chosen or typed.
func (q *question) answer(s *Screen) tea.Cmd {
	value := ""
	switch {
	case q.input != nil:
		value = q.input.Value()
	case q.at < len(q.choices):
		value = q.choices[q.at]
	}
	next, cmd, err := q.done(s, value)
	if err == nil {
		s.ask = next
		return cmd
	}
	switch {
	case q.input != nil:
		q.input.Error = err.Error()
	default:
		return look.Tell(true, err.Error())
	}
	return nil
}

// sentence is one to begin with: a command that the device takes, else a message of its own.
func (s *Screen) sentence(st device.State) string {
	c := s.bench.Workspace().Contract
	for _, name := range st.Takes {
		if cl := c.Clause(name); cl != nil && s.whole(cl, st) {
			return s.bench.Begin(cl, st.Params, "")
		}
	}
	for _, name := range append(slices.Clone(st.Publishes), st.Takes...) {
		if cl := c.Clause(name); cl != nil {
			as := ""
			if cl.From == st.Party && st.Phase != device.Real {
				as = st.Name
			}
			return s.bench.Begin(cl, st.Params, as)
		}
	}
	return "send "
}

// whole tells whether the device's parameters fill a clause's topic in.
func (s *Screen) whole(cl *core.Clause, st device.State) bool {
	_, err := cl.Topic.Topic(st.Params)
	return err == nil
}

// askOwn asks which of its own messages the device is to publish now.
func (s *Screen) askOwn(st device.State) {
	var choices []string
	for _, p := range st.Publishes {
		if !slices.Contains(choices, p) {
			choices = append(choices, p)
		}
	}
	s.ask = &question{
		title:   "which of its messages is " + st.Name + " to publish now?",
		choices: choices,
		done: func(s *Screen, name string) (*question, tea.Cmd, error) {
			d := s.bench.Device(st.Name)
			if d == nil || name == "" {
				return nil, nil, fmt.Errorf("%s publishes nothing", st.Name)
			}
			if err := d.Send(name); err != nil {
				return nil, nil, err
			}
			return nil, look.Tell(false, st.Name+" publishes "+name), nil
		},
	}
}

func (s *Screen) askSignal(st device.State, d *device.Device) {
	var choices []string
	for _, x := range st.Signals {
		choices = append(choices, x.Name)
	}
	s.ask = &question{
		title:   "set a signal",
		choices: choices,
		done: func(s *Screen, name string) (*question, tea.Cmd, error) {
			if name == "" {
				return nil, nil, fmt.Errorf("%s has no signals", st.Name)
			}
			now := ""
			for _, x := range st.Signals {
				if x.Name == name {
					now = value(x.Value)
				}
			}
			return &question{
				title: "set " + name + " of " + st.Name + "; a wave stands still from then on",
				input: look.NewInput(name, now),
				done: func(s *Screen, text string) (*question, tea.Cmd, error) {
					err := d.Set(name, parse(text))
					if err == nil {
						s.bench.Did(
							workspace.StepSet,
							expression.Object{{Key: "device", Value: st.Name}, {Key: name, Value: parse(text)}},
						)
					}
					return nil, look.Tell(false, name+" = "+text), err
				},
			}, nil, nil
		},
	}
}

// askPace asks how a device's link is to be slowed.
func (s *Screen) askPace(st device.State, d *device.Device) {
	s.ask = &question{
		title: "slow the link of " + st.Name + ": a delay, and bytes a second after it, such as 800ms 2000; empty ends it",
		input: look.NewInput("delay", ""),
		done: func(s *Screen, text string) (*question, tea.Cmd, error) {
			var delay time.Duration
			rate := 0
			var err error
			words := strings.Fields(text)
			if len(words) > 0 {
				if delay, err = time.ParseDuration(words[0]); err != nil || delay < 0 {
					return nil, nil, fmt.Errorf("%q is no delay: write 800ms or 2s", words[0])
				}
			}
			if len(words) > 1 {
				if rate, err = strconv.Atoi(words[1]); err != nil || rate < 1 {
					return nil, nil, fmt.Errorf("%q is no number of bytes a second", words[1])
				}
			}
			d.Slow(delay, rate)
			slow := expression.Object{{Key: "device", Value: st.Name}}
			if delay > 0 {
				slow = append(slow, expression.Member{Key: "delay", Value: delay.String()})
			}
			if rate > 0 {
				slow = append(slow, expression.Member{Key: "rate", Value: rate})
			}
			if len(words) > 0 {
				s.bench.Did(workspace.StepSlow, slow)
			}
			if len(words) == 0 {
				return nil, look.Tell(false, st.Name+" is no longer slowed"), nil
			}
			return nil, look.Tell(false, st.Name+" is slowed: "+text), nil
		},
	}
}

// parse reads a value as it would stand in the workspace.
func parse(s string) any {
	if f, err := strconv.ParseFloat(s, 64); err == nil {
		return f
	}
	if b, err := strconv.ParseBool(s); err == nil {
		return b
	}
	return s
}

func (s *Screen) drawQuestion(c look.Canvas) {
	t, q := c.Theme, s.ask
	h := 6
	switch {
	case q.input == nil:
		h = min(len(q.choices), 12) + 4
	}
	w := min(c.W-4, 110)
	box := c.Sub((c.W-w)/2, max(0, (c.H-h)/2), w, h)
	box.Fill(t.Rail)
	box.Text(2, 1, look.Clip(q.title, w-4), look.On(t.Strong, t.Rail))
	switch {
	case q.input != nil:
		q.input.Draw(box.Sub(2, 3, w-4, 3), 0)
		return
	}
	first := look.Scroll(0, q.at, h-4, len(q.choices))
	if more := len(q.choices) - first - (h - 4); more > 0 {
		box.Text(4, h-1, fmt.Sprintf("↓ %d more", more), look.On(t.Ours, t.Rail))
	}
	for i := 0; i < h-4 && first+i < len(q.choices); i++ {
		box.Text(4, 3+i, look.Clip(q.choices[first+i], w-6), look.On(t.Text, t.Rail))
		if first+i == q.at {
			box.Paint(2, 3+i, w-4, t.Select)
			box.Text(2, 3+i, "▸", t.Select)
		}
	}
}
