package devices

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"hodstone/internal/tap"
	"hodstone/internal/tui/look"
	"hodstone/internal/workbench"
)

// askTap asks which tap is to disturb what goes through it; with one alone it is that.
func (s *Screen) askTap() *question {
	taps, _ := s.bench.Taps()
	if len(taps) == 1 {
		return s.askRules(taps[0].Name)
	}
	var choices []string
	for _, t := range taps {
		choices = append(choices, t.Name)
	}
	return &question{
		title:   "the rules of which tap?",
		choices: choices,
		done:    func(s *Screen, name string) (*question, tea.Cmd, error) { return s.askRules(name), nil, nil },
	}
}

const addRule = "add a rule"

// askRules lists the rules that a tap has; one that is picked ends.
func (s *Screen) askRules(name string) *question {
	t := s.bench.Tap(name)
	if t == nil {
		return nil
	}
	now := t.Rules()
	choices := []string{addRule}
	for i := range now {
		choices = append(choices, fmt.Sprintf("end: %s, acted %s", &now[i].Rule, often(now[i].Acted)))
	}
	return &question{
		title:   "what disturbs whoever goes through the tap " + name,
		choices: choices,
		done: func(s *Screen, picked string) (*question, tea.Cmd, error) {
			if picked == addRule {
				return s.askRule(name), nil, nil
			}
			var left []tap.Rule
			for i := range now {
				if choices[i+1] != picked {
					left = append(left, now[i].Rule)
				}
			}
			t.Set(left...)
			return nil, look.Tell(false, strings.TrimPrefix(picked, "end: ")+": it has ended"), nil
		},
	}
}

func often(n int) string {
	if n == 1 {
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}

// askRule asks for a rule.
func (s *Screen) askRule(name string) *question {
	return &question{
		title: "such as {drop: PUBACK, toward: device, nth: 3}, {delay: all, by: 2s, for: 1m} or {refuse: CONNECT, code: 3}",
		input: look.NewInput("rule", "{"),
		done: func(s *Screen, text string) (*question, tea.Cmd, error) {
			r, err := tap.ParseRule(text)
			if err != nil {
				return nil, nil, err
			}
			t := s.bench.Tap(name)
			var all []tap.Rule
			for _, x := range t.Rules() {
				if !x.Over {
					all = append(all, x.Rule)
				}
			}
			t.Set(append(all, r)...)
			return nil, look.Tell(false, "on: "+r.String()), nil
		},
	}
}

// ruled says which rules are on; "" for none.
func ruled(taps []workbench.TapState) string {
	var parts []string
	for _, t := range taps {
		for i := range t.Rules {
			if r := &t.Rules[i]; !r.Over {
				parts = append(parts, fmt.Sprintf("%s, acted %s", &r.Rule, often(r.Acted)))
			}
		}
	}
	if len(parts) == 0 {
		return ""
	}
	return "! the tap: " + strings.Join(parts, "; ")
}
