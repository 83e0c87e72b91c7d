package look

import (
	"strings"
	"time"

	"charm.land/bubbles/v2/key"
	tea "charm.land/bubbletea/v2"
)

// Tick tells a screen that time has passed: it takes in what happened since.
type Tick struct {
	At    time.Time
	Shown bool // the screen is to be seen; else only its lines on the rail are
}

// ShowEvent asks for the wire screen, with the cursor on an event.
type ShowEvent struct{ Seq uint64 }

// Compose asks for the line in which a message is written by hand, with a sentence to begin with.
type Compose struct{ Text string }

// Composing returns a command that asks for it.
func Composing(text string) tea.Cmd { return func() tea.Msg { return Compose{text} } }

// Notice is a line for the footer, for a few seconds.
type Notice struct {
	Text string
	Bad  bool
}

// Tell returns a command that shows a notice.
func Tell(bad bool, text string) tea.Cmd {
	return func() tea.Msg { return Notice{text, bad} }
}

// Action is something that can be done here and now: its keys with the words for them, and the
// doing. A screen's actions are its key map: keys are looked up in them, and the footer, the
// list of keys and the list of all actions are made of them. Nothing else takes keys, so that
// keys and help cannot drift.
type Action struct {
	key.Binding
	Do func(tea.KeyPressMsg) tea.Cmd
	// Named is whether it is offered by its name. Keys that move a cursor are not.
	Named bool
	// Not is why it cannot be done now, "" where it can. The footer leaves it out, the list of keys
	// shows it dimmed, and its keys tell the reason.
	Not string
}

// Act is an action that may end in a command. Keys are separated by spaces; the first is shown.
func Act(keys, does string, do func() tea.Cmd) Action {
	all := strings.Fields(keys)
	return Action{
		Binding: key.NewBinding(key.WithKeys(all...), key.WithHelp(all[0], does)),
		Do:      func(tea.KeyPressMsg) tea.Cmd { return do() },
		Named:   all[0] != "esc",
	}
}

// CanNot is an action that cannot be done now: its keys tell why.
func CanNot(keys, does, why string) Action {
	a := Act(keys, does, func() tea.Cmd { return Tell(true, why) })
	a.Named, a.Not = false, why
	return a
}

// Let is an action that is over at once.
func Let(keys, does string, do func()) Action {
	return Act(keys, does, func() tea.Cmd { do(); return nil })
}

// moveKeys are the keys that move a cursor in a list.
var moveKeys = []string{"up", "k", "down", "j", "pgup", "pgdown", "home", "g", "end", "G"}

// Moves are the keys of a cursor in a list; moved, where there is one, is told the key once the
// cursor has moved.
func Moves(does string, cursor *int, total, page int, moved func(key string)) Action {
	return Keys("↑↓", does, moveKeys, func(k string) {
		Move(k, cursor, total, page)
		if moved != nil {
			moved(k)
		}
	})
}

// Keys are keys that belong together and are shown as one, such as those of a direction.
func Keys(shown, does string, keys []string, do func(key string)) Action {
	return Action{
		Binding: key.NewBinding(key.WithKeys(keys...), key.WithHelp(shown, does)),
		Do:      func(msg tea.KeyPressMsg) tea.Cmd { do(msg.String()); return nil },
	}
}

// Press hands a key to the first action that has it, and tells whether there is one.
func Press(actions []Action, msg tea.KeyPressMsg) (tea.Cmd, bool) {
	for _, a := range actions {
		if key.Matches(msg, a.Binding) {
			return a.Do(msg), true
		}
	}
	return nil, false
}

// Bindings are the keys of the actions that can be done, for the footer.
func Bindings(actions []Action) (out []key.Binding) {
	for i := range actions {
		if actions[i].Not == "" {
			out = append(out, actions[i].Binding)
		}
	}
	return out
}

// Scroll keeps the first line shown so that the cursor is in view.
func Scroll(first, cursor, height, total int) int {
	if cursor < first {
		first = cursor
	}
	if cursor >= first+height {
		first = cursor - height + 1
	}
	return max(0, min(first, total-height))
}

// Move applies the keys that move a cursor in a list, and tells whether key was one.
func Move(key string, cursor *int, total, page int) bool {
	switch key {
	case "up", "k":
		*cursor--
	case "down", "j":
		*cursor++
	case "pgup":
		*cursor -= max(1, page)
	case "pgdown":
		*cursor += max(1, page)
	case "home", "g":
		*cursor = 0
	case "end", "G":
		*cursor = total - 1
	default:
		return false
	}
	*cursor = max(0, min(*cursor, total-1))
	return true
}
