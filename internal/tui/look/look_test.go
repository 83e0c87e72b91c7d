package look

import (
	"math"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	uv "github.com/charmbracelet/ultraviolet"
	"github.com/charmbracelet/x/ansi"
)

func TestTextIsCutWhereItHurtsLeast(t *testing.T) {
	for _, tt := range []struct {
		got, want string
	}{
		{Middle("marrowvoe/pen/1/feeder/state", 20), "marrowvo…eeder/state"},
		{Middle("short", 20), "short"}, {Middle("abcdef", 4), "abc…"},
		{Clip("abcdef", 4), "abc…"}, {Clip("abc", 0), ""}, {Clip("海海海", 5), "海海…"},
		{Pad("ab", 4), "ab  "}, {Pad("abcde", 4), "abcde"},
		{strings.Join(Wrap("one two three", 7), "|"), "one two|three"},
		{strings.Join(Wrap("p50 796 µs, 12 sets", 7), "|"), "p50|796 µs,|12 sets"},
		{Age(59 * time.Second), "59s"}, {Age(100 * time.Second), "1m"}, {Age(3 * time.Hour), "3h"},
		{Age(-time.Second), "0s"},
		{Duration(900 * time.Nanosecond), "0 µs"}, {Duration(1500 * time.Microsecond), "1.50 ms"},
		{Duration(250 * time.Millisecond), "250 ms"}, {Duration(6 * time.Second), "6.00 s"},
		{Number(8), "8"}, {Number(8.567), "8.57"}, {Number(-0.4), "-0.40"}, {Number(123.45), "123.5"},
		{Number(12345.6), "12346"},
		{Plural(1, "breach"), "1 breach"}, {Plural(2, "breach"), "2 breaches"}, {Plural(0, "stray"), "0 strays"},
		{Plural(3, "clause"), "3 clauses"},
		{Spark([]float64{1, 2, 3}, 5), "  ▁▄█"}, {Spark([]float64{5, 5}, 2), "▁▁"}, {Spark(nil, 4), ""},
		{Spark([]float64{0, 1, 2, 3, 4, 5, 6, 7}, 3), "▁▄█"},
	} {
		if tt.got != tt.want {
			t.Errorf("got %q, want %q", tt.got, tt.want)
		}
	}
}

func TestCanvasKeepsInside(t *testing.T) {
	theme := NewTheme(true, AllColours)
	c := NewCanvas(10, 4, &theme)
	inner := c.Sub(2, 1, 5, 2)
	inner.Text(0, 0, "abcdefgh", theme.Text)
	inner.Text(-2, 1, "xyz", theme.Text)
	inner.Text(0, 2, "below", theme.Text)
	inner.Text(0, -1, "above", theme.Text)
	inner.Right(5, 1, "r", theme.Text)
	inner.Paint(-3, 0, 100, theme.Select)
	inner.Paint(0, 99, 5, theme.Select)
	if got := inner.Text(4, 1, "海", theme.Text); got != 4 {
		t.Errorf("half of a wide character was drawn: %d", got)
	}
	c.Text(0, 3, "a\x1b[31m\x00é", theme.Text)
	lines := strings.Split(ansi.Strip(c.Render()), "\n")
	for i, want := range []string{"          ", "  abcde   ", "  z   r   "} {
		if got := Pad(lines[i], 10); got != want {
			t.Errorf("row %d: %q, want %q", i, got, want)
		}
	}
	if strings.ContainsAny(lines[3], "\x1b\x00") {
		t.Errorf("control characters reached the terminal: %q", lines[3])
	}
	huge := NewCanvas(3, 3, &theme).Sub(5, 5, 10, 10)
	huge.Text(0, 0, "x", theme.Text)
	huge.Fill(theme.Rail)
	if huge.W != 0 || huge.H != 0 {
		t.Errorf("a window outside of the screen is %d×%d", huge.W, huge.H)
	}
}

func TestChartJoinsItsPoints(t *testing.T) {
	got := Chart([]float64{0, 0, 4, 4, 8, 8, 0}, 10, 2)
	if len(got) != 2 || len([]rune(got[0])) != 4 {
		t.Fatalf("%q", got)
	}
	dots := 0
	for _, row := range got {
		for _, r := range row {
			if r < 0x2800 || r > 0x28ff {
				t.Fatalf("%q is no dot pattern", r)
			}
			for b := r - 0x2800; b > 0; b &= b - 1 {
				dots++
			}
		}
	}
	// A line over 8 rows of dots up and down again, without holes.
	if dots < 8+8 || dots > 7+7+7+4 {
		t.Errorf("%d dots in %q", dots, got)
	}
	if flat := Chart([]float64{3, 3, 3}, 4, 2); !strings.ContainsAny(strings.Join(flat, ""), "⠉⠒⠤⣀⠁⠂⠄⡀") {
		t.Errorf("a flat line: %q", flat)
	}
	nan := math.NaN()
	if torn := Chart([]float64{0, 0, nan, nan, 8, 8}, 10, 2); len(torn) != 2 ||
		strings.ContainsRune(torn[0]+torn[1], '⡇') ||
		[]rune(torn[0])[1] != '\u2800' ||
		[]rune(torn[1])[1] != '\u2800' {
		t.Errorf("a line across a gap: %q", torn)
	}
	if got := Spark([]float64{1, nan, 3}, 3); got != "▁ █" {
		t.Errorf("%q", got)
	}
	if one := Chart([]float64{1, 2}, 5, 1); len(one) != 1 {
		t.Errorf("%q", one)
	}
	if none := Chart(nil, 5, 3); len(none) != 3 {
		t.Errorf("%q", none)
	}
}

func TestCursorsAndScrolling(t *testing.T) {
	at := 5
	for _, step := range []struct {
		key  string
		want int
	}{{"down", 6}, {"k", 5}, {"pgdown", 9}, {"down", 9}, {"home", 0}, {"up", 0}, {"G", 9}, {"pgup", 5}} {
		if !Move(step.key, &at, 10, 4) {
			t.Fatalf("%s is no key", step.key)
		}
		if at != step.want {
			t.Errorf("after %s: %d, want %d", step.key, at, step.want)
		}
	}
	if Move("x", &at, 10, 3) {
		t.Error("x moves the cursor")
	}
	if Move("down", &at, 0, 3); at != 0 && at != -1 {
		t.Errorf("in an empty list: %d", at)
	}
	for _, tt := range [][5]int{{0, 5, 3, 10, 3}, {8, 5, 3, 10, 5}, {9, 9, 3, 10, 7}, {5, 0, 20, 10, 0}} {
		if got := Scroll(tt[0], tt[1], tt[2], tt[3]); got != tt[4] {
			t.Errorf("Scroll%v = %d", tt, got)
		}
	}
}

// TestComponentsOnACanvas: what components render keeps the ground that it is drawn upon, stays in
// its window, and no control character of a text reaches the terminal.
func TestComponentsOnACanvas(t *testing.T) {
	theme := NewTheme(true, AllColours)
	c := NewCanvas(30, 8, &theme)
	c.Fill(theme.Rail)
	text := NewScrolled()
	lines := []Line{
		RuleLine("title", 12, &theme), {Say("\x1b[31mred\x07\u009b", theme.Text), At(14, "clear", theme.Kept)},
		{
			Say("a long one that does not fit", theme.Text),
		}, {At(3, "海海海海海海海", theme.Text)}, nil, {Say("last", theme.Text)},
	}
	draw := func(rows int) []string {
		c.Fill(theme.Rail)
		text.Draw(c.Sub(2, 1, 20, rows), lines)
		return strings.Split(ansi.Strip(c.Render()), "\n")
	}
	for i, want := range []string{
		"", "  ─ title ────", "  ·[31mred··    clear", "  a long one that doe…", "     海海海海海海海", "", "  last", "",
	} {
		if got := strings.TrimRight(draw(6)[i], " "); got != want {
			t.Errorf("row %d: %q, want %q", i, got, want)
		}
	}
	if cell := c.buf.CellAt(12, 2); cell.Style.Bg != theme.Rail.Bg {
		t.Errorf("a gap between parts has the ground %v", cell.Style.Bg)
	}
	press := func(k tea.KeyPressMsg) { Press([]Action{text.Action()}, k) }
	if got := draw(2)[2]; !strings.Contains(got, "↓ 4 lines more") {
		t.Errorf("what is below: %q", got)
	}
	press(tea.KeyPressMsg{Code: tea.KeyDown})
	if got := draw(2)[1]; !strings.Contains(got, "red") {
		t.Errorf("after down: %q", got)
	}
	press(tea.KeyPressMsg{Code: tea.KeyEnd})
	if got := draw(2)[2]; !strings.Contains(got, "last") {
		t.Errorf("after end: %q", got)
	}
	secret := NewSecretInput("password")
	secret.Update(tea.PasteMsg{Content: "s3cret"})
	secret.Error = "wrong"
	secret.Draw(c, 0)
	if got := ansi.Strip(c.Render()); strings.Contains(got, "s3cret") || !strings.Contains(got, "password ••••••") ||
		!strings.Contains(got, "✗ wrong") || secret.Value() != "s3cret" {
		t.Errorf("the secret input: %q of %q", got, secret.Value())
	}
}

// TestActionsAreTheKeyMap: the first that has a key takes it, and what cannot be done says why.
func TestActionsAreTheKeyMap(t *testing.T) {
	did, at := "", 3
	all := []Action{
		Let("a enter", "first", func() { did = "first" }), Let("a", "second", func() { did = "second" }),
		Moves("choose", &at, 5, 2, func(k string) { did = "moved by " + k }), CanNot("z", "third", "not today"),
	}
	for _, k := range []struct {
		key  tea.KeyPressMsg
		want string
		at   int
	}{
		{tea.KeyPressMsg{Code: 'a', Text: "a"}, "first", 3}, {tea.KeyPressMsg{Code: tea.KeyEnter}, "first", 3},
		{tea.KeyPressMsg{Code: 'j', Text: "j"}, "moved by j", 4},
		{tea.KeyPressMsg{Code: 'j', Text: "j"}, "moved by j", 4},
		{tea.KeyPressMsg{Code: tea.KeyPgUp}, "moved by pgup", 2},
		{tea.KeyPressMsg{Code: 'g', Text: "g"}, "moved by g", 0},
	} {
		did = ""
		if _, done := Press(all, k.key); !done || did != k.want || at != k.at {
			t.Errorf("%s: %q at %d, want %q at %d", k.key, did, at, k.want, k.at)
		}
	}
	cmd, done := Press(all, tea.KeyPressMsg{Code: 'z', Text: "z"})
	if n, _ := cmd().(Notice); !done || n != (Notice{"not today", true}) {
		t.Errorf("what cannot be done: %+v", n)
	}
	if _, done := Press(all, tea.KeyPressMsg{Code: 'y', Text: "y"}); done {
		t.Error("a key that nothing has was taken")
	}
	if n := len(Bindings(all)); n != 3 {
		t.Errorf("%d bindings in the footer", n)
	}
}

// TestWhatIsDrawnIsShown: a terminal that reads a picture has the cells that were drawn: wide and combined
// characters, styles side by side, windows laid over others; and a picture drawn in the memory of another has
// nothing left of that.
func TestWhatIsDrawnIsShown(t *testing.T) {
	for _, colours := range []Colours{NoColours, FewColours, AllColours} {
		theme := NewTheme(true, colours)
		var c Canvas
		r := rand.New(rand.NewPCG(7, uint64(colours)))
		styles := []Style{theme.Text, theme.Broken, theme.Select, theme.Rail, {}, On(theme.Ours, theme.Rail)}
		words := []string{"pen", "鮭鮭鮭", "e\u0301e", "\x1b[31m", " ", "▸ ─▶", "👩‍🌾", "äöü"}
		for range 60 {
			w, h := 20+r.IntN(3), 6
			c = c.Anew(w, h, &theme)
			for range r.IntN(12) {
				sub := c.Sub(r.IntN(w), r.IntN(h), r.IntN(w), r.IntN(h))
				st := styles[r.IntN(len(styles))]
				switch r.IntN(3) {
				case 0:
					sub.Fill(st)
				case 1:
					sub.Paint(r.IntN(4), 0, 5, st)
				default:
					sub.Text(r.IntN(6)-2, 0, words[r.IntN(len(words))], st)
				}
			}
			shown := uv.NewScreenBuffer(w, h)
			shown.Method = ansi.GraphemeWidth
			uv.NewStyledString(c.Render()).Draw(shown, shown.Bounds())
			for y := range h {
				for x := range w {
					if got, want := shown.CellAt(x, y), c.buf.CellAt(x, y); !got.Equal(want) {
						t.Fatalf("at %d, %d: %+v, drawn %+v\n%q", x, y, got, want, c.Render())
					}
				}
			}
		}
	}
}
