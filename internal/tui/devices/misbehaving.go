package devices

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"hodstone/internal/device"
	"hodstone/internal/tui/look"
	"hodstone/internal/workspace"
)

// askFault lists what a device can do wrong; each that is picked begins, or ends, and the list stays.
func (s *Screen) askFault(name string, at int) *question {
	d := s.bench.Device(name)
	if d == nil {
		return nil // it was edited away
	}
	has := d.State().Faults
	var choices []string
	for _, f := range workspace.DeviceFaults() {
		mark := "·"
		if slices.Contains(has, f.Name) {
			mark = "!"
		}
		choices = append(choices, fmt.Sprintf("%s %-24s %s", mark, f.Name, f.Sentence))
	}
	return &question{
		title:   "what " + name + " does wrong, to see it found; faults of its session begin when it comes the next time",
		choices: choices,
		at:      at,
		done: func(s *Screen, picked string) (*question, tea.Cmd, error) {
			at := max(0, slices.Index(choices, picked))
			f := workspace.DeviceFaults()[at]
			now, text := append(slices.Clone(has), f.Name), name+" from now on: "+f.Sentence
			if i := slices.Index(has, f.Name); i >= 0 {
				now, text = slices.Delete(slices.Clone(has), i, i+1), name+" no longer does: "+f.Sentence
			}
			if err := d.Misbehave(now...); err != nil {
				return nil, nil, err
			}
			return s.askFault(name, at), look.Tell(false, text), nil
		},
	}
}

// realWords say where a real device is to dial, and what disturbs it there.
func (s *Screen) realWords(st device.State) string {
	taps, err := s.bench.Taps()
	if err != nil {
		return "the real one is watched; " + err.Error()
	}
	for _, t := range taps {
		if t.Device != "" && t.Device != st.Name {
			continue
		}
		text := "not played: the real one dials the tap " + t.Name + " at " + strings.Join(t.At, ", ")
		for _, r := range t.Rules {
			text += fmt.Sprintf("; %s, acted %d times", &r.Rule, r.Acted)
		}
		return text
	}
	return "not played: the real one is watched through the broker's observer; a tap (taps: in the workspace) would show its own packets too"
}

// askWhere asks for the broker that all devices are to speak to.
func (s *Screen) askWhere() *question {
	const asWritten = "as the workspace says"
	choices := []string{asWritten}
	for _, br := range s.bench.Workspace().Brokers {
		for _, l := range br.Ways() {
			choices = append(choices, br.Name+"/"+l.Name)
		}
	}
	return &question{
		title:   "where all devices speak to; they say goodbye, and come there",
		choices: choices,
		at:      max(0, slices.Index(choices, s.bench.At())),
		done: func(s *Screen, picked string) (*question, tea.Cmd, error) {
			where, text := picked, "all devices speak to "+picked
			if picked == asWritten {
				where, text = "", "all devices speak to the brokers that the workspace says"
			}
			return nil, func() tea.Msg { // goodbyes take their time
				if err := s.bench.Move(where); err != nil {
					return look.Notice{Text: err.Error(), Bad: true}
				}
				return look.Notice{Text: text}
			}, nil
		},
	}
}
