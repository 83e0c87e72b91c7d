package trust

import (
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"hodstone/internal/report"
	core "hodstone/internal/trust"
	"hodstone/internal/tui/look"
)

// View draws the screen.
func (s *Screen) View(c look.Canvas) {
	switch {
	case s.handshake:
		s.drawHandshake(c)
	case s.inventory == nil:
		c.Teach(
			"No credentials are known yet.",
			"This screen tells what certificates and keys are, whatever their names say, and what fits what.",
			"Name a folder in the workspace: 'credentials: creds'. v shows what the TLS of a listener does.",
		)
	default:
		s.drawCredentials(c)
	}
	if s.input != nil {
		b := c.Sub(0, c.H-3, c.W, 3)
		b.Fill(c.Theme.Rail)
		s.input.Draw(b.Sub(1, 0, c.W-2, 3), 0)
	}
}

func (s *Screen) drawCredentials(c look.Canvas) {
	low := max(7, min(c.H*2/3, c.H-len(s.rows)-3)) // what the rows do not need
	if s.open {
		low = c.H * 2 / 3
	}
	s.drawBars(c.Sub(0, 0, c.W, c.H-low))
	about := c.Sub(0, c.H-low, c.W, low)
	y := s.drawAbout(about)
	if left := about.H - y - 1; !s.open && left >= 4 {
		s.drawWorst(about.Sub(0, y+1, c.W, left))
	}
}

// drawWorst lists what is wrong anywhere, the worst first.
func (s *Screen) drawWorst(c look.Canvas) {
	t := c.Theme
	var worst []core.Finding
	notes := 0
	for _, f := range s.inventory.Findings { // which are sorted
		if f.Severity == core.Note {
			notes++
		} else {
			worst = append(worst, f)
		}
	}
	c.Rule(0, "what to mend, worst first", t.Strong)
	if notes > 0 {
		c.Right(c.W-1, 0, " and "+look.Plural(notes, "note")+" ", t.Dim)
	}
	if len(worst) == 0 {
		c.Text(1, 1, "nothing", t.Kept)
	}
	width := 12
	for _, f := range worst {
		width = max(width, min(c.W/4, look.Width(filepath.Base(f.Where))+3))
	}
	for i, f := range worst {
		if i == c.H-2 && len(worst) > c.H-1 {
			c.Text(3, 1+i, fmt.Sprintf("and %d more", len(worst)-i), t.Dim)
			return
		}
		sign, st := "✗", t.Broken
		if f.Severity == core.Worry {
			sign, st = "!", t.Warn
		}
		where := filepath.Base(f.Where)
		c.Text(1, 1+i, sign+" "+look.Middle(where, width-2), st)
		text := strings.ReplaceAll(f.What, s.dir()+"/", "")
		if f.Remedy != "" {
			text += " → " + strings.ReplaceAll(f.Remedy, s.dir()+"/", "")
		}
		c.Text(width+2, 1+i, look.Clip(text, c.W-width-3), t.Text)
	}
}

// axis is the time axis of the bars.
type axis struct {
	from, to time.Time
	x, w     int
}

func (s *Screen) axisOf(x, w int) axis {
	from, to := s.inventory.Span()
	return axis{from, to, x, w}
}

// at is the column of a time, and whether it lies on the axis.
func (a axis) at(t time.Time) (int, bool) {
	f := float64(t.Sub(a.from)) / float64(a.to.Sub(a.from))
	return a.x + int(f*float64(a.w-1)+0.5), f >= 0 && f <= 1
}

func (s *Screen) drawBars(c look.Canvas) {
	t := c.Theme
	title := "credentials"
	if len(s.paths) == 1 {
		title += " in " + filepath.Base(s.paths[0])
	}
	c.Rule(0, title, t.Strong)
	nameW := max(20, min(38, c.W/4))
	roleW := 16
	keyW := max(10, min(18, c.W/9))
	if c.W < 90 {
		roleW, keyW = 0, 0
		nameW = 24
	}
	endW := 11
	a := s.axisOf(nameW+roleW+keyW+5, c.W-nameW-roleW-keyW-5-endW-1)
	s.drawAxis(c, a)
	c.Text(2, 1, "who signed whom", t.Dim)
	if roleW > 0 {
		c.Text(nameW+3, 1, "use", t.Dim)
		c.Text(nameW+roleW+4, 1, "key", t.Dim)
	}
	c.Right(c.W-1, 1, "until", t.Dim)
	rows := c.H - 2
	s.height = rows
	s.first = look.Scroll(s.first, s.at, rows, len(s.rows))
	for i := 0; i < rows && s.first+i < len(s.rows); i++ {
		y := 2 + i
		r := &s.rows[s.first+i]
		worst := core.Worst(s.about(r))
		sign, st := "✓", t.Kept
		switch {
		case worst == core.Broken, r.missing != "":
			sign, st = "✗", t.Broken
		case worst == core.Worry:
			sign, st = "!", t.Warn
		case worst == core.Note, r.file != nil:
			sign, st = "·", t.Dim
		}
		branch := ""
		if r.depth > 0 {
			branch = strings.Repeat("  ", r.depth-1) + "└ "
		}
		c.Text(2, y, sign, st)
		text := t.Text
		if r.file != nil || r.missing != "" {
			text = t.Dim
		}
		c.Text(4, y, look.Clip(branch+r.title(), nameW-3), text)
		switch {
		case r.missing != "":
			c.Text(nameW+3, y, look.Clip("the signer is not here", c.W-nameW-4), t.Broken)
		case r.file != nil:
			c.Text(nameW+3, y, look.Clip(report.FileLine(r.file), c.W-nameW-4), t.Dim)
		default:
			s.drawBar(c, y, r.certificate, a, worst)
			if roleW > 0 {
				c.Text(nameW+3, y, look.Clip(string(r.certificate.Role), roleW), t.Dim)
				key, keyStyle := "○ no key", t.Old
				if r.certificate.Key != nil {
					key, keyStyle = "⚷ "+filepath.Base(r.certificate.Key.Files[0]), t.Ours
				} else if r.certificate.IsCA {
					key = ""
				}
				c.Text(nameW+roleW+4, y, look.Middle(key, keyW), keyStyle)
			}
			c.Right(c.W-1, y, core.Day(r.certificate.NotAfter), st)
		}
		if s.first+i == s.at {
			c.Paint(0, y, nameW+2, t.Select)
			c.Text(0, y, "▸", t.Select)
		}
	}
}

// drawAxis writes the months, and marks today on all rows.
func (s *Screen) drawAxis(c look.Canvas, a axis) {
	t := c.Theme
	c.Text(a.x, 1, strings.Repeat("·", max(0, a.w)), t.Line)
	last := a.x - 20
	today, _ := a.at(s.inventory.At)
	for m := time.Date(a.from.Year(), a.from.Month(), 1, 0, 0, 0, 0, time.UTC); m.Before(a.to); m = m.AddDate(0, 1, 0) {
		x, on := a.at(m)
		if on && x-last >= 9 && x+7 <= a.x+a.w && (x+9 < today || x > today+4) {
			c.Text(x, 1, m.Format("2006-01"), t.Dim)
			last = x
		}
	}
	for y := 2; y < min(c.H, 2+len(s.rows)); y++ {
		c.Text(today, y, "┊", t.Line)
	}
	c.Text(max(a.x, today-2), 1, "today", t.Ours)
}

func (s *Screen) drawBar(c look.Canvas, y int, cert *core.Certificate, a axis, worst core.Severity) {
	t := c.Theme
	from, begins := a.at(cert.NotBefore)
	to, ends := a.at(cert.NotAfter)
	if !begins {
		from = a.x
	}
	if !ends && cert.NotAfter.After(a.to) {
		to = a.x + a.w - 1
	}
	if to < a.x {
		c.Text(a.x, y, "◂ long ago", t.Broken)
		return
	}
	today, _ := a.at(s.inventory.At)
	ahead := t.Kept
	if left := cert.NotAfter.Sub(s.inventory.At); left < core.SoonAfter || worst == core.Worry {
		ahead = t.Warn
	}
	if worst == core.Broken {
		ahead = t.Broken
	}
	for x := from; x <= to; x++ {
		ch, st := "━", ahead
		if x < today {
			ch, st = "─", t.Old
			if cert.NotAfter.Before(s.inventory.At) {
				st = t.Broken
			}
		}
		if x == today {
			ch = "╋"
		}
		c.Text(x, y, ch, st)
	}
	if begins {
		c.Text(from, y, "├", t.Old)
	} else {
		c.Text(from, y, "◂", t.Old)
	}
	switch {
	case !ends && cert.NotAfter.After(a.to):
		c.Text(to, y, "▸", ahead)
	case cert.NotAfter.Before(s.inventory.At):
		c.Text(to, y, "╳", t.Broken)
	default:
		c.Text(to, y, "┤", ahead)
	}
}

// drawAbout tells about the row with the cursor; opened, everything. It returns the row below.
func (s *Screen) drawAbout(c look.Canvas) int {
	t := c.Theme
	if s.at >= len(s.rows) {
		c.Rule(0, "nothing chosen", t.Strong)
		return 1
	}
	r := &s.rows[s.at]
	c.Rule(0, r.title(), t.Strong)
	y := 1
	put := func(label, text string, st look.Style) {
		text = strings.ReplaceAll(text, s.dir()+"/", "")
		c.Text(1, y, label, t.Dim)
		for i, l := range look.Wrap(text, c.W-13) {
			if i < 4 && y < c.H {
				c.Text(12, y, l, st)
				y++
			}
		}
	}
	for _, f := range s.about(r) {
		st, sign := t.Dim, "·"
		switch f.Severity {
		case core.Broken:
			st, sign = t.Broken, "✗"
		case core.Worry:
			st, sign = t.Warn, "!"
		}
		where := ""
		if f.Where != r.title() && (r.file == nil || f.Where != r.file.Name) {
			where = filepath.Base(f.Where) + ": "
		}
		put(sign+" "+string(f.Severity), where+f.What, st)
		if f.Remedy != "" {
			put("", "→ "+f.Remedy, t.Text)
		}
	}
	switch {
	case r.certificate != nil:
		x := r.certificate
		put("chain", report.ChainText(x), t.Text)
		put("valid", core.Day(x.NotBefore)+" to "+core.Day(x.NotAfter), t.Text)
		put("key", core.Strength(x.PublicKey)+keyText(x), t.Text)
		if names := x.Names(); len(names) > 0 {
			put("names", strings.Join(names, ", "), t.Text)
		}
		put("use", strings.Join(core.Usages(x.Certificate), ", "), t.Text)
		put("files", strings.Join(report.Bases(r.files()), ", "), t.Text)
		put("SHA-256", core.Fingerprint(x.Certificate), t.Dim)
		put("signed", x.SignatureAlgorithm.String()+" by "+core.Subject(x.Issuer.String()), t.Dim)
		if login := s.login(); login != "" {
			for k, l := range strings.Split(strings.TrimRight(login, "\n"), "\n") {
				label := ""
				if k == 0 {
					label = "workspace"
				}
				put(label, l, t.Ours)
			}
		}
	case r.file != nil:
		put("content", report.FileLine(r.file), t.Text)
		put("size", fmt.Sprintf("%d bytes, mode %04o", r.file.Size, r.file.Mode.Perm()), t.Dim)
	default:
		put(
			"",
			"Certificates below were signed by "+r.missing+", whose own certificate is not among the files: ask for it.",
			t.Text,
		)
	}
	return y
}

// dir is what paths are shown relative to: the folder that the workspace, or what is looked
// at, lies in.
func (s *Screen) dir() string {
	if len(s.bench.Workspace().Credentials) > 0 && len(s.paths) > 0 {
		return filepath.Dir(s.paths[0])
	}
	return filepath.Dir(s.bench.Workspace().File)
}

func keyText(c *core.Certificate) string {
	switch {
	case c.Key == nil && c.IsCA:
		return ""
	case c.Key == nil:
		return "; its private key is not here"
	}
	s := "; its private key is in " + strings.Join(report.Bases(c.Key.Files), ", ")
	if c.Key.Locked {
		s += ", encrypted"
	}
	return s
}
