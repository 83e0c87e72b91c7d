package look

import (
	"strings"

	"charm.land/bubbles/v2/key"
	"charm.land/bubbles/v2/viewport"
	tea "charm.land/bubbletea/v2"
)

// Part is a piece of a line in a style of its own.
type Part struct {
	X     int // the column where it begins; 0 behind what comes before
	Text  string
	Style Style
}

// Say is a part behind what comes before it.
func Say(text string, st Style) Part { return Part{Text: text, Style: st} }

// At is a part at a column.
func At(x int, text string, st Style) Part { return Part{X: x, Text: text, Style: st} }

// Line is a line in parts, from left to right.
type Line []Part

// Scrolled is a text of lines that can be longer than its place on the screen.
type Scrolled struct{ model viewport.Model }

// RuleLine is a line across with a title in it.
func RuleLine(title string, w int, t *Theme) Line {
	title = " " + title + " "
	return Line{Say("─", t.Line), Say(title, t.Strong), Say(strings.Repeat("─", max(0, w-1-Width(title))), t.Line)}
}

// NewScrolled returns an empty text.
func NewScrolled() *Scrolled {
	m := viewport.New()
	m.KeyMap = viewport.KeyMap{ // letters are the screens'
		Up:       key.NewBinding(key.WithKeys("up", "k")),
		Down:     key.NewBinding(key.WithKeys("down", "j")),
		PageUp:   key.NewBinding(key.WithKeys("pgup")),
		PageDown: key.NewBinding(key.WithKeys("pgdown")),
	}
	return &Scrolled{m}
}

// Action are the keys that scroll.
func (s *Scrolled) Action() Action {
	return Action{
		Binding: key.NewBinding(key.WithKeys(moveKeys...), key.WithHelp("↑↓", "scroll")),
		Do: func(msg tea.KeyPressMsg) tea.Cmd {
			switch msg.String() {
			case "home", "g":
				s.model.GotoTop()
			case "end", "G":
				s.model.GotoBottom()
			}
			s.model, _ = s.model.Update(msg)
			return nil
		},
	}
}

// Top goes back to the first line.
func (s *Scrolled) Top() { s.model.GotoTop() }

// Draw writes the lines that are in view, and at the lower right how many are not.
func (s *Scrolled) Draw(c Canvas, lines []Line) {
	s.model.SetWidth(c.W)
	s.model.SetHeight(c.H)
	// Only what is in view is set in its styles: of the rest the number of lines matters.
	text := make([]string, len(lines))
	first := max(0, min(s.model.YOffset(), len(lines)-c.H))
	for y := first; y < min(first+c.H, len(lines)); y++ {
		text[y] = lines[y].styled(c.W)
	}
	s.model.SetContentLines(text)
	c.Styled(s.model.View())
	if below := len(lines) - s.model.YOffset() - c.H; below > 0 {
		st := c.Theme.Dim
		st.Bg = nil
		c.Right(c.W, c.H-1, " ↓ "+Plural(below, "line")+" more ", st)
	}
}

// styled writes the line for a terminal in at most w cells.
func (l Line) styled(w int) string {
	var b strings.Builder
	at := 0
	for i := range l {
		p := &l[i]
		if p.X > at {
			b.WriteString(strings.Repeat(" ", p.X-at))
			at = p.X
		}
		end := w
		if i+1 < len(l) && l[i+1].X > at {
			end = min(w, l[i+1].X)
		}
		text := Clip(Tame(p.Text), end-at)
		at += Width(text)
		b.WriteString(p.Style.Styled(text))
	}
	return b.String()
}
