package proof

import (
	"fmt"
	"strconv"
	"strings"

	"hodstone/internal/mqtt/packet"
	core "hodstone/internal/proof"
	"hodstone/internal/report"
	"hodstone/internal/tui/look"
)

func (s *Screen) drawBoard(c look.Canvas) {
	t := c.Theme
	rows := s.rows()
	here := s.index(rows)
	// A heading stands before the first line of a family that is not folded; -1 marks it.
	var lines []int
	at := 0
	for i, r := range rows {
		if !r.folded && (i == 0 || rows[i-1].family != r.family) {
			lines = append(lines, -1-i)
		}
		if i == here {
			at = len(lines)
		}
		lines = append(lines, i)
	}
	// Where there is no room for the words, the signs stand alone, and the foot says the word.
	width, words := 14, true
	if c.W < 84 {
		width, words = 8, false
	}
	verdictAt := c.W - len(versions)*width
	c.Rule(0, "checks", t.Strong)
	for i, v := range versions {
		c.Text(verdictAt+width*i, 0, " "+v.String()+" ", t.Dim)
	}
	c = c.Sub(0, 1, c.W, c.H-1)
	s.first = look.Scroll(s.first, at, c.H, len(lines))
	if at <= 1 {
		s.first = 0
	}
	for y := 0; y < c.H && s.first+y < len(lines); y++ {
		l := lines[s.first+y]
		if l < 0 {
			c.Rule(y, rows[-1-l].family, t.Strong)
			continue
		}
		r := rows[l]
		if r.trial != nil || r.explored {
			name, text, st := s.ownWords(r, t)
			c.Text(2, y, look.Clip(name, verdictAt-4), t.Text)
			c.Text(verdictAt+1, y, look.Clip(text, c.W-verdictAt-1), st)
			if l == here {
				c.Paint(0, y, c.W, look.Style{Bg: t.Rail.Bg})
				c.Text(0, y, "▸", t.Ours)
			}
			continue
		}
		name, title, st := r.checks[0].Name, r.checks[0].Title, t.Text
		if r.folded {
			name, title, st = r.family, look.Plural(len(r.checks), "check"), t.Strong
		}
		x := c.Text(2, y, look.Clip(name, verdictAt-4), st)
		if x = max(27, x+1); x < verdictAt-4 {
			c.Text(x, y, look.Clip(title, verdictAt-x-1), t.Dim)
		}
		for i, v := range versions {
			text, st := s.cell(r, v, t, words)
			c.Text(verdictAt+width*i+1, y, look.Clip(text, width-1), st)
		}
		if l == here {
			c.Paint(0, y, verdictAt, look.Style{Bg: t.Rail.Bg})
			c.Text(0, y, "▸", t.Ours)
			c.Paint(verdictAt+width*s.col, y, width-1, t.Select)
		}
	}
	if below := len(lines) - s.first - c.H; below > 0 {
		text := fmt.Sprintf(" ↓ %d more", below)
		c.Text(27, c.H-1, fmt.Sprintf("%-*s", max(0, verdictAt-27), text), t.Ours)
	}
}

// ownWords are the name of a trial or of an exploration, and how it stands.
func (s *Screen) ownWords(r row, t *look.Theme) (name, verdict string, st look.Style) {
	if r.explored {
		return s.exploredWords(r, t)
	}
	verdict, st = signOf(r.trial, t)
	return r.trial.Name, verdict, st
}

// cell is what stands in a column: a verdict, or how many there are of each in a family that is folded.
func (s *Screen) cell(r row, v packet.Version, t *look.Theme, words bool) (string, look.Style) {
	if !r.folded {
		text, st := s.verdict(r.checks[0], v, t)
		if !words {
			text, _, _ = strings.Cut(text, " ")
		}
		return text + s.courseMark(words, v, r.checks...), st
	}
	n := map[core.Verdict]int{}
	for _, c := range r.checks {
		n[s.byKey[key(c, v)].Verdict]++
	}
	st := t.Kept
	if s.state.Stale {
		st = t.Old
	}
	space := map[bool]string{true: " "}[words]
	kept := report.Sign(core.Kept) + space + strconv.Itoa(n[core.Kept])
	text := kept
	if n[core.Kept] == 0 {
		text, st = report.Sign(core.Skipped), t.Old
	} else if words {
		text += " kept"
	}
	if k := n[core.Unsupported]; k > 0 {
		text, st = kept+" "+report.Sign(core.Unsupported)+space+strconv.Itoa(k), t.Warn
	}
	return text + s.courseMark(words, v, r.checks...), st
}

// courseMark marks what went worse or better since the proof before.
func (s *Screen) courseMark(spaced bool, v packet.Version, checks ...*core.Check) string {
	mark := ""
	for _, c := range checks {
		switch x := s.course(c, v); {
		case x != nil && x.Course == report.Worse:
			mark = "↓"
		case x != nil && x.Course == report.Better && mark == "":
			mark = "↑"
		}
	}
	if mark != "" && spaced {
		mark = " " + mark
	}
	return mark
}

func (s *Screen) verdict(ch *core.Check, v packet.Version, t *look.Theme) (string, look.Style) {
	if s.state.Now[key(ch, v)] {
		return "… running", t.Ours
	}
	r := s.byKey[key(ch, v)]
	if r == nil {
		return "· not run", t.Old
	}
	if s.state.Stale {
		return report.Sign(r.Verdict) + " " + string(r.Verdict), t.Old
	}
	return report.Sign(r.Verdict) + " " + string(r.Verdict), verdictStyle(t, r.Verdict)
}

func verdictStyle(t *look.Theme, v core.Verdict) look.Style {
	switch v {
	case core.Kept:
		return t.Kept
	case core.Broken:
		return t.Broken
	case core.Unsupported, core.Undecided:
		return t.Warn
	}
	return t.Old
}
