package look

import (
	"strings"

	"charm.land/bubbles/v2/key"
	"charm.land/bubbles/v2/textarea"
	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
)

// maxTyped is how many characters are taken: a payload typed by hand.
const maxTyped = 64 << 10

// Input is a line that the user types.
type Input struct {
	model textinput.Model
	Label string
	Error string // what is wrong with what was typed
}

// NewInput returns an input with a text to begin with.
func NewInput(label, value string) *Input {
	m := textinput.New()
	m.CharLimit = maxTyped
	m.Prompt = label + " "
	m.SetValue(value)
	m.CursorEnd()
	m.Focus()
	return &Input{model: m, Label: label}
}

// NewSecretInput returns an input that shows dots in place of what is typed.
func NewSecretInput(label string) *Input {
	i := NewInput(label, "")
	i.model.EchoMode, i.model.EchoCharacter = textinput.EchoPassword, '•'
	return i
}

// Value returns what was typed.
func (i *Input) Value() string { return i.model.Value() }

// Update takes a key, or what was pasted.
func (i *Input) Update(msg tea.Msg) {
	i.Error = ""
	i.model, _ = i.model.Update(msg)
}

// Draw writes label, text and cursor on one row; the text scrolls with the cursor. What is wrong
// with it stands below.
func (i *Input) Draw(c Canvas, y int) {
	styles := i.model.Styles()
	styles.Focused = textinput.StyleState{Prompt: typed(c.Theme.Ours), Text: typed(c.Theme.Strong)}
	styles.Cursor = textinput.CursorStyle{Color: c.Theme.Ours.Fg}
	i.model.SetStyles(styles)
	i.model.SetWidth(max(4, c.W-Width(i.Label)-2))
	i.model.SetCursor(i.model.Position()) // or what stands before it would be shown
	c.Sub(0, y, c.W, 1).Styled(i.model.View())
	c.wrong(y+1, i.Error)
}

// typed is a style upon whatever it is drawn upon.
func typed(s Style) lipgloss.Style {
	s.Bg = nil
	return Lip(s)
}

// wrong says below an input what is wrong with it.
func (c Canvas) wrong(y int, text string) {
	if text == "" {
		return
	}
	st := c.Theme.Broken
	st.Bg = nil
	for k, line := range Wrap("✗ "+text, c.W) {
		c.Text(0, y+k, line, st)
	}
}

// Area is a text of several lines that the user types, such as a payload.
type Area struct {
	model textarea.Model
	Error string // what is wrong with what was typed
}

// NewArea returns an area with a text to begin with. Enter is left to the screen: alt+enter and
// ctrl+j begin a line, as does enter where newline says so.
func NewArea(value string, newline bool) *Area {
	m := textarea.New()
	m.CharLimit, m.MaxHeight = maxTyped, 0
	m.Prompt, m.ShowLineNumbers = "", false
	keys := []string{"alt+enter", "ctrl+j"}
	if newline {
		keys = append(keys, "enter")
	}
	m.KeyMap.InsertNewline = key.NewBinding(key.WithKeys(keys...))
	m.SetValue(value)
	m.Focus()
	return &Area{model: m}
}

// Value returns what was typed.
func (a *Area) Value() string { return a.model.Value() }

// Cursor is where the cursor stands, in bytes from the text's first.
func (a *Area) Cursor() int {
	at := 0
	lines := strings.Split(a.model.Value(), "\n")
	row := min(a.model.Line(), len(lines)-1)
	for _, l := range lines[:row] {
		at += len(l) + 1
	}
	runes := []rune(lines[row])
	return at + len(string(runes[:min(a.model.Column(), len(runes))]))
}

// Put puts another text in its place, with the cursor at a byte of it.
func (a *Area) Put(text string, at int) {
	a.Error = ""
	a.model.SetValue(text)
	before := text[:max(0, min(at, len(text)))]
	row := strings.Count(before, "\n")
	a.model.MoveToBegin()
	for n := 0; a.model.Line() < row && n < len(text); n++ {
		a.model.CursorDown()
	}
	a.model.SetCursorColumn(len([]rune(before[strings.LastIndex(before, "\n")+1:])))
}

// Set puts another text in its place.
func (a *Area) Set(text string) { a.model.SetValue(text) }

// Update takes a key, or what was pasted; some terminals end pasted lines with CR.
func (a *Area) Update(msg tea.Msg) {
	a.Error = ""
	if p, is := msg.(tea.PasteMsg); is {
		msg = tea.PasteMsg{Content: strings.NewReplacer("\r\n", "\n", "\r", "\n").Replace(p.Content)}
	}
	a.model, _ = a.model.Update(msg)
}

// Draw writes the text and the cursor in all of the window but its last row, where it says what
// is wrong.
func (a *Area) Draw(c Canvas) {
	plain := typed(c.Theme.Strong)
	state := textarea.StyleState{Base: lipgloss.NewStyle(), Text: plain, CursorLine: plain, EndOfBuffer: plain}
	a.model.SetStyles(textarea.Styles{
		Focused: state, Blurred: state, Cursor: textarea.CursorStyle{Color: c.Theme.Ours.Fg},
	})
	a.model.SetWidth(c.W)
	a.model.SetHeight(max(1, c.H-1))
	c.Sub(0, 0, c.W, c.H-1).Styled(a.model.View())
	c.wrong(c.H-1, a.Error)
}
