package look

import (
	"strings"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
)

// ShowEvent asks for the wire screen, with the cursor on an event.
type ShowEvent struct{ Seq uint64 }

// Notice is a line for the footer, for a few seconds.
type Notice struct {
	Text string
	Bad  bool
}

// Tell returns a command that shows a notice.
func Tell(bad bool, text string) tea.Cmd {
	return func() tea.Msg { return Notice{text, bad} }
}

// Input is a line that the user types.
type Input struct {
	model textinput.Model
	Label string
	Error string // what is wrong with what was typed

	secret bool
}

// NewInput returns an input with a text to begin with.
func NewInput(label, value string) *Input {
	m := textinput.New()
	m.CharLimit = 64 << 10 // a payload typed by hand
	m.SetValue(value)
	m.CursorEnd()
	m.Focus()
	return &Input{model: m, Label: label}
}

// NewSecretInput returns an input that shows dots in place of what is typed.
func NewSecretInput(label string) *Input {
	i := NewInput(label, "")
	i.secret = true
	return i
}

// Value returns what was typed.
func (i *Input) Value() string { return i.model.Value() }

// Update takes a key.
func (i *Input) Update(msg tea.Msg) {
	i.Error = ""
	i.model, _ = i.model.Update(msg)
}

// Draw writes label, text and cursor on one row; the text scrolls with the cursor.
func (i *Input) Draw(c Canvas, y int) {
	t := *c.Theme
	for _, st := range []*Style{&t.Ours, &t.Strong, &t.Broken} {
		st.Bg = nil // whatever it is drawn upon
	}
	x := c.Text(0, y, i.Label+" ", t.Ours)
	text := []rune(i.model.Value())
	if i.secret {
		text = []rune(strings.Repeat("•", len(text)))
	}
	at := min(i.model.Position(), len(text))
	room := max(4, c.W-x-1)
	first := max(0, at-room+1)
	c.Text(x, y, string(text[first:min(len(text), first+room)]), t.Strong)
	cursor := " "
	if at < len(text) {
		cursor = string(text[at])
	}
	x += Width(string(text[first:at]))
	c.Text(x, y, cursor, t.Select)
	c.Paint(x, y, 1, Style{Bg: t.Ours.Fg, Attrs: t.Select.Attrs})
	if i.Error != "" {
		for k, line := range Wrap("✗ "+i.Error, c.W) {
			c.Text(0, y+1+k, line, t.Broken)
		}
	}
}
