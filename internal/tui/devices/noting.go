package devices

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"hodstone/internal/tui/look"
)

// record begins to record a trial, or asks for its name and writes it.
func (s *Screen) record() look.Action {
	on, steps := s.bench.Noting()
	if !on {
		return look.Act("r", "record a trial", func() tea.Cmd {
			if err := s.bench.StartNoting(); err != nil {
				return look.Tell(true, err.Error())
			}
			return look.Tell(false, "recording: what you do here now becomes the steps of a trial; r ends it")
		})
	}
	return look.Let("r", fmt.Sprintf("end the trial, %s", look.Plural(steps, "deed")), func() {
		s.ask = &question{
			title: "what does the trial show? a sentence; empty throws it away",
			input: look.NewInput("name", ""),
			done: func(s *Screen, name string) (*question, tea.Cmd, error) {
				if err := s.bench.StopNoting(strings.TrimSpace(name)); err != nil {
					return nil, nil, err
				}
				if strings.TrimSpace(name) == "" {
					return nil, look.Tell(false, "thrown away"), nil
				}
				return nil, look.Tell(false, "written into the workspace: it stands on the proof screen (6)"), nil
			},
		}
	})
}
