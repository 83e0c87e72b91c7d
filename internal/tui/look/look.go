// Package look is how the screens look: one theme, one drawing surface, and the small
// parts that several screens share. A sign and a word always go with a colour.
package look

import (
	"fmt"
	"image/color"
	"math"
	"regexp"
	"strings"
	"time"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/colorprofile"
	uv "github.com/charmbracelet/ultraviolet"
	"github.com/charmbracelet/x/ansi"
)

// Style is how a cell of the terminal looks.
type Style = uv.Style

// Theme holds the few styles that there are.
type Theme struct {
	Ground Style // what is behind everything
	Rail   Style
	Text   Style
	Strong Style
	Dim    Style // labels, units
	Old    Style // what no longer matters much
	Kept   Style // lichen green
	Broken Style // ember red
	Warn   Style // ochre
	Ours   Style // ice blue: observer, checks, keys
	Select Style // the row or cell with the cursor
	Line   Style // rules, lanes
}

// Colours is what a terminal can show.
type Colours int

// The kinds of terminals.
const (
	NoColours Colours = iota // or NO_COLOR is set
	FewColours
	AllColours
)

// NewTheme returns the theme for a dark or a light terminal. The grounds have
// stand-ins among the 256 colours: the nearest of those to slate is a loud blue.
func NewTheme(dark bool, colours Colours) Theme {
	pick := func(onDark, onLight string) color.Color {
		if dark {
			onLight = onDark
		}
		if colours == FewColours { // here, once, and not for each cell of each picture
			return colorprofile.ANSI256.Convert(lipgloss.Color(onLight))
		}
		return lipgloss.Color(onLight)
	}
	ground, rail, chosen := pick("#141b21", "#f6f7f4"), pick("#1d2730", "#e6eae6"), pick("#2f4656", "#cfdde4")
	if colours != AllColours {
		ground, rail, chosen = pick("234", "255"), pick("236", "253"), pick("239", "152")
	}
	st := func(fg color.Color, attrs uint8) Style { return Style{Fg: fg, Bg: ground, Attrs: attrs} }
	text := pick("#cfd8dc", "#22303a")
	t := Theme{
		Ground: Style{Bg: ground},
		Rail:   Style{Fg: text, Bg: rail},
		Text:   st(text, 0), Strong: st(pick("#f2f6f7", "#0b151c"), uv.AttrBold),
		Dim: st(pick("#8d9ca6", "#5a6a74"), 0), Old: st(pick("#70808a", "#7b8890"), 0),
		Kept: st(pick("#9dbf7c", "#45702a"), 0), Broken: st(pick("#f0795b", "#b3341a"), uv.AttrBold),
		Warn: st(pick("#dbab4f", "#8a6100"), 0), Ours: st(pick("#8cc8e6", "#1f6a91"), 0),
		Line: st(pick("#35444f", "#c3ccc9"), 0),
	}
	t.Select = Style{Fg: pick("#ffffff", "#000000"), Bg: chosen, Attrs: uv.AttrBold}
	if colours == NoColours {
		t.Select.Attrs = uv.AttrReverse // the cursor must be seen all the same
	}
	return t
}

// On returns the style on another style's ground.
func On(s, ground Style) Style {
	s.Bg = ground.Bg
	return s
}

// Canvas is a window onto the screen. Whatever is drawn outside of it is not seen.
type Canvas struct {
	buf        *uv.Buffer
	pens       map[Style]string // what lets the terminal write in a style, whatever it wrote in before
	x, y, W, H int
	Theme      *Theme
}

// NewCanvas returns a whole screen, filled with the ground.
func NewCanvas(w, h int, t *Theme) Canvas { return Canvas{}.Anew(w, h, t) }

// Anew returns a whole screen, filled with the ground, in the memory of one that is drawn no more.
func (c Canvas) Anew(w, h int, t *Theme) Canvas {
	if c.buf == nil || c.buf.Width() != w || c.buf.Height() != h {
		c.buf = uv.NewBuffer(w, h)
	}
	if c.pens == nil || len(c.pens) > mostPens {
		c.pens = map[Style]string{}
	}
	c = Canvas{buf: c.buf, pens: c.pens, W: w, H: h, Theme: t}
	c.Fill(t.Ground)
	return c
}

// Sub returns a window within the window.
func (c Canvas) Sub(x, y, w, h int) Canvas {
	x, y = max(0, x), max(0, y)
	c.W, c.H = max(0, min(w, c.W-x)), max(0, min(h, c.H-y))
	c.x, c.y = c.x+x, c.y+y
	return c
}

// Fill covers the window with a style's ground.
func (c Canvas) Fill(s Style) {
	cell := uv.Cell{Content: " ", Width: 1, Style: s}
	for y := range c.H {
		line := c.buf.Line(c.y + y)
		if line == nil || c.W == 0 {
			continue
		}
		line.Set(c.x, &cell) // which mends wide characters that reach over the window's sides
		line.Set(c.x+c.W-1, &cell)
		for x := c.x; x < min(c.x+c.W, len(line)); x++ {
			line[x] = cell
		}
	}
}

// Text writes s at a place and returns where it ended. What does not fit is cut.
func (c Canvas) Text(x, y int, s string, st Style) int {
	if y < 0 || y >= c.H {
		return x
	}
	for s != "" {
		cluster, n := s[:1], 1
		if plain := s[0] < 0x80 && (len(s) == 1 || s[1] < 0x80) && s[0] != '\r'; !plain {
			if cluster, n = ansi.FirstGraphemeCluster(s, ansi.GraphemeWidth); cluster == "" {
				break
			}
		}
		s = s[len(cluster):]
		if n == 0 || Tame(cluster) != cluster {
			cluster, n = "·", 1
		}
		if x+n > c.W {
			break
		}
		if x >= 0 {
			cell := uv.Cell{Content: cluster, Width: n, Style: st}
			if st.Bg == nil {
				if old := c.buf.CellAt(c.x+x, c.y+y); old != nil {
					cell.Style.Bg = old.Style.Bg
				}
			}
			c.buf.SetCell(c.x+x, c.y+y, &cell)
		}
		x += n
	}
	return x
}

// Tame puts a dot for each control character: they would garble the screen.
func Tame(s string) string {
	control := func(r rune) bool { return r < ' ' || r >= 0x7f && r < 0xa0 }
	if strings.IndexFunc(s, control) < 0 {
		return s
	}
	return strings.Map(func(r rune) rune {
		if control(r) {
			return '·'
		}
		return r
	}, s)
}

// Styled draws what a component rendered for a terminal. Where it has no ground of its own, the
// window's stays.
func (c Canvas) Styled(text string) {
	from := uv.NewScreenBuffer(c.W, c.H)
	uv.NewStyledString(text).Draw(from, from.Bounds())
	for y := range c.H {
		for x := range c.W {
			cell := from.CellAt(x, y)
			if cell == nil || cell.Width == 0 || cell.Content == " " && cell.Style.IsZero() {
				continue
			}
			again := *cell
			if old := c.buf.CellAt(c.x+x, c.y+y); again.Style.Bg == nil && old != nil {
				again.Style.Bg = old.Style.Bg
			}
			c.buf.SetCell(c.x+x, c.y+y, &again)
		}
	}
}

// Lip is the style in the terms of the components that are drawn by [Canvas.Styled].
func Lip(s Style) lipgloss.Style {
	out := lipgloss.NewStyle().Bold(s.Attrs&uv.AttrBold != 0).Reverse(s.Attrs&uv.AttrReverse != 0)
	if s.Fg != nil {
		out = out.Foreground(s.Fg)
	}
	if s.Bg != nil {
		out = out.Background(s.Bg)
	}
	return out
}

// Right writes s so that it ends before x.
func (c Canvas) Right(x, y int, s string, st Style) { c.Text(x-Width(s), y, s, st) }

// Rule draws a line with a title in it.
func (c Canvas) Rule(y int, title string, st Style) {
	c.Text(0, y, strings.Repeat("─", c.W), c.Theme.Line)
	if title != "" {
		c.Text(1, y, " "+title+" ", st)
	}
}

// Paint changes the ground of a stretch of a row and leaves its text.
func (c Canvas) Paint(x, y, w int, ground Style) {
	for i := max(0, x); i < min(x+w, c.W) && y >= 0 && y < c.H; i++ {
		if cell := c.buf.CellAt(c.x+i, c.y+y); cell != nil && cell.Width > 0 {
			// In its place: to set a wide one's half would undo it.
			cell.Style.Bg = ground.Bg
			cell.Style.Attrs |= ground.Attrs
		}
	}
}

// mostPens is how many styles are remembered: there are some dozens, and as many for each theme that the terminal had.
const mostPens = 500

// Render returns the whole screen for the terminal. It is most of what a picture costs, so that it does no more
// than these screens need: they have no links, and each cell has its ground.
func (c Canvas) Render() string {
	var out strings.Builder
	const usual = 4 // bytes for a cell
	out.Grow(usual * c.W * c.H)
	for y, line := range c.buf.Lines {
		if y > 0 {
			out.WriteByte('\n')
		}
		var pen Style
		for i := range line {
			cell := &line[i]
			if cell.Width == 0 { // covered by the wide one before it
				continue
			}
			if cell.Style != pen {
				pen = cell.Style
				out.WriteString(c.pen(pen))
			}
			out.WriteString(cell.Content)
		}
		if pen != (Style{}) {
			out.WriteString(ansi.ResetStyle)
		}
	}
	return out.String()
}

func (c Canvas) pen(s Style) string {
	pen, known := c.pens[s]
	if !known {
		if pen = ansi.ResetStyle; !s.IsZero() {
			pen += s.String()
		}
		c.pens[s] = pen
	}
	return pen
}

// Width is how many cells s takes.
func Width(s string) int { return ansi.StringWidth(s) }

// Clip cuts s at its end to w cells.
func Clip(s string, w int) string { return ansi.Truncate(s, max(0, w), "…") }

// Middle cuts s in its middle to w cells: the ends of a topic tell most.
func Middle(s string, w int) string {
	if Width(s) <= w {
		return s
	}
	if w < 5 {
		return Clip(s, w)
	}
	tail := (w - 1) * 3 / 5
	return ansi.Truncate(s, w-1-tail, "") + "…" + ansi.TruncateLeft(s, Width(s)-tail, "")
}

// Pad fills s up with spaces to w cells.
func Pad(s string, w int) string { return s + strings.Repeat(" ", max(0, w-Width(s))) }

// Wrap breaks s into lines of at most w cells, at spaces where it can, but not between a figure and its unit.
func Wrap(s string, w int) []string {
	const tied = "\u00a0"
	s = ansi.Wrap(measured.ReplaceAllString(s, "$1"+tied+"$2"), max(1, w), "")
	return strings.Split(strings.ReplaceAll(s, tied, " "), "\n")
}

// measured is a figure with its unit.
var measured = regexp.MustCompile(`(\d) ([µm]?s|[KMG]?B|bytes?|cores?)\b`)

// Age writes how long ago something was, in at most four cells.
func Age(d time.Duration) string {
	switch {
	case d < 0:
		return "0s"
	case d < 100*time.Second:
		return fmt.Sprintf("%ds", int(d.Seconds()))
	case d < 100*time.Minute:
		return fmt.Sprintf("%dm", int(d.Minutes()))
	}
	return fmt.Sprintf("%dh", int(d.Hours()))
}

// Duration writes a short time with its unit, three figures.
func Duration(d time.Duration) string {
	switch {
	case d < time.Millisecond:
		return fmt.Sprintf("%d µs", d.Microseconds())
	case d < 10*time.Millisecond:
		return fmt.Sprintf("%.2f ms", float64(d.Microseconds())/1000)
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Milliseconds())
	}
	return fmt.Sprintf("%.2f s", d.Seconds())
}

// Number writes a measured value in few figures.
func Number(f float64) string {
	switch a := math.Abs(f); {
	case f == math.Trunc(f) && a < 1e7:
		return fmt.Sprintf("%.0f", f)
	case a >= 1000:
		return fmt.Sprintf("%.0f", f)
	case a >= 100:
		return fmt.Sprintf("%.1f", f)
	}
	return fmt.Sprintf("%.2f", f)
}

// Plural writes a count with its noun: "1 breach", "2 breaches".
func Plural(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	if strings.HasSuffix(noun, "ch") {
		noun += "e"
	}
	for _, end := range []string{"t", "r"} {
		if rest, ok := strings.CutSuffix(noun, end+"y"); ok {
			noun = rest + end + "ie"
		}
	}
	return fmt.Sprintf("%d %ss", n, noun)
}

// Spark draws numbers as a line of w cells, the newest at the right, between the smallest
// and the largest. What is no number leaves its cell empty.
func Spark(values []float64, w int) string {
	if w <= 0 || len(values) == 0 {
		return ""
	}
	values = values[max(0, len(values)-w):]
	lo, hi := extremes(values)
	bars := []rune("▁▂▃▄▅▆▇█")
	var b strings.Builder
	b.WriteString(strings.Repeat(" ", w-len(values)))
	for _, v := range values {
		if math.IsNaN(v) {
			b.WriteByte(' ')
			continue
		}
		i := 0
		if hi > lo {
			i = int((v - lo) / (hi - lo) * float64(len(bars)-1))
		}
		b.WriteRune(bars[i])
	}
	return b.String()
}

// extremes returns the smallest and the largest of the numbers, leaving out what is none.
func extremes(values []float64) (lo, hi float64) {
	lo, hi = math.Inf(1), math.Inf(-1)
	for _, v := range values {
		if !math.IsNaN(v) {
			lo, hi = min(lo, v), max(hi, v)
		}
	}
	return lo, hi
}

// brailleDots are the dots of U+2800, by column and row of a cell.
var brailleDots = [2][4]rune{{0x01, 0x02, 0x04, 0x40}, {0x08, 0x10, 0x20, 0x80}}

// Chart draws numbers as a thin line in h rows of at most w cells, two numbers to a cell,
// the newest at the right, between the smallest and the largest. What is no number breaks the line.
func Chart(values []float64, w, h int) []string {
	if h <= 1 {
		return []string{Spark(values, w)}
	}
	values = values[max(0, len(values)-2*max(0, w)):]
	if len(values) == 0 {
		return make([]string, h)
	}
	lo, hi := extremes(values)
	dots := 4 * h
	height := func(v float64) int { // 0 is the lowest dot
		if hi == lo {
			return dots / 2
		}
		return int(math.Round((v - lo) / (hi - lo) * float64(dots-1)))
	}
	cells := make([][]rune, h)
	for y := range cells {
		cells[y] = []rune(strings.Repeat("\u2800", (len(values)+1)/2))
	}
	before := -1 // no dot to join with
	for i, v := range values {
		if math.IsNaN(v) {
			before = -1
			continue
		}
		now := height(v)
		if before < 0 {
			before = now
		}
		from, to := min(before, now), max(before, now)
		if to > from { // join to the number before, without doubling its dot
			if before < now {
				from++
			} else {
				to--
			}
		}
		for d := from; d <= to; d++ {
			row := dots - 1 - d
			cells[row/4][i/2] |= brailleDots[i%2][row%4]
		}
		before = now
	}
	out := make([]string, h)
	for y := range out {
		out[y] = string(cells[y])
	}
	return out
}

// RailLine is a line of live state on the rail.
type RailLine struct {
	Text  string
	Style Style
}

// Teach writes what an empty screen is for.
func (c Canvas) Teach(title string, lines ...string) {
	y := max(1, c.H/3)
	x := 4
	c.Text(x, y, title, c.Theme.Strong)
	for i, l := range lines {
		c.Text(x, y+2+i, l, c.Theme.Dim)
	}
}
