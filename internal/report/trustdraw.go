package report

import (
	"fmt"
	"image/color"
	"path/filepath"
	"strings"
	"time"

	"hodstone/internal/draw"
	"hodstone/internal/trust"
)

// The measures of the drawing of credentials, in points.
const (
	trustName = 190.0
	trustKey  = 110.0
	trustAxis = 420.0
	trustEnd  = 80.0
	trustRow  = 18.0
)

// TrustDrawing draws credentials as bars of validity on one time axis, or, where handshake is
// set, what a server's TLS takes and refuses. The error says that there is nothing to draw.
func TrustDrawing(name string, at time.Time, v *trust.Inventory, where string, s *trust.Survey, handshake bool) (*draw.Surface, error) {
	switch {
	case handshake && (s == nil || s.Err != nil):
		return nil, fmt.Errorf("no handshake was tried yet: there is nothing to draw")
	case handshake:
		return surveyDrawing(name, at, where, s), nil
	case v == nil || len(v.Certificates) == 0:
		return nil, fmt.Errorf("there is no certificate: there is nothing to draw")
	}
	return inventoryDrawing(name, at, v), nil
}

func heading(s *draw.Surface, title string, at time.Time) {
	s.Text(draw.Font{Color: ink, Size: 13, Bold: true, Align: -1}, draw.Point{X: seqMargin, Y: seqMargin + 6}, title)
	s.Text(draw.Font{Color: faint, Size: 9, Align: -1}, draw.Point{X: seqMargin, Y: seqMargin + 22}, at.Format("2 January 2006, 15:04:05 MST"))
}

// box fills a rectangle.
func box(s *draw.Surface, c color.Color, x, y, w, h float64) {
	s.Fill(c, draw.Point{X: x, Y: y}, draw.Point{X: x + w, Y: y}, draw.Point{X: x + w, Y: y + h}, draw.Point{X: x, Y: y + h})
}

func severityColor(s trust.Severity) color.Color {
	switch s {
	case trust.Broken:
		return ember
	case trust.Worry:
		return ochre
	case trust.Note:
		return faint
	}
	return lichen
}

func inventoryDrawing(name string, at time.Time, v *trust.Inventory) *draw.Surface {
	width := 2*seqMargin + trustName + trustKey + trustAxis + trustEnd
	small := draw.Font{Color: faint, Size: 9, Align: -1}
	var notes []trust.Finding
	for _, f := range v.Findings {
		if f.Severity != trust.Note {
			notes = append(notes, f)
		}
	}
	height := 2*seqMargin + 70 + float64(len(v.Certificates))*trustRow + float64(len(notes)+2)*reachText
	s := draw.New(width, height)
	heading(s, name+": credentials", at)
	from, to := v.Span()
	left := seqMargin + trustName + trustKey
	px := func(t time.Time) float64 {
		return left + min(1, max(0, float64(t.Sub(from))/float64(to.Sub(from))))*trustAxis
	}
	top := seqMargin + 56
	bottom := top + float64(len(v.Certificates))*trustRow
	for m := time.Date(from.Year(), from.Month(), 1, 0, 0, 0, 0, time.UTC).AddDate(0, 1, 0); m.Before(to); m = m.AddDate(0, 3, 0) {
		s.Line(draw.Pen{Color: rule, Width: 0.5}, draw.Point{X: px(m), Y: top - 4}, draw.Point{X: px(m), Y: bottom})
		s.Text(draw.Font{Color: faint, Size: 8}, draw.Point{X: px(m), Y: top - 8}, m.Format("2006-01"))
	}
	s.Line(draw.Pen{Color: stored, Width: 1}, draw.Point{X: px(v.At), Y: top - 4}, draw.Point{X: px(v.At), Y: bottom})
	s.Text(draw.Font{Color: stored, Size: 8}, draw.Point{X: px(v.At), Y: bottom + 10}, "today")
	row := map[*trust.Certificate]float64{}
	y := top + trustRow/2
	for _, c := range v.Tree() {
		row[c] = y
		worst := trust.Severity("")
		for _, f := range v.Findings {
			if f.Where == c.Title() && (worst == "" || f.Severity == trust.Broken || worst == trust.Note) {
				worst = f.Severity
			}
		}
		depth := float64(max(0, len(c.Chain)-1)) * 12
		s.Text(draw.Font{Color: ink, Size: 9, Align: -1}, draw.Point{X: seqMargin + depth, Y: y + 3}, fit(small, c.Title()+", "+string(c.Role), trustName-depth-6))
		if c.Missing != "" && len(c.Chain) == 1 {
			s.Text(draw.Font{Color: ember, Size: 8, Align: -1}, draw.Point{X: seqMargin + trustName, Y: y + 3}, fit(small, "signer missing: "+c.Missing, trustKey-6))
		}
		if len(c.Chain) > 1 {
			if up, ok := row[c.Chain[1]]; ok {
				x := seqMargin + depth - 7
				s.Line(draw.Pen{Color: rule, Width: 0.8}, draw.Point{X: x, Y: up + 5}, draw.Point{X: x, Y: y}, draw.Point{X: x + 5, Y: y})
			}
		}
		if c.Key != nil {
			s.Text(draw.Font{Color: stored, Size: 8, Align: -1}, draw.Point{X: seqMargin + trustName, Y: y + 3}, fit(small, "key "+strings.Join(Bases(c.Key.Files), ", "), trustKey-6))
		}
		if worst == trust.Note { // it says nothing against the certificate
			worst = ""
		}
		past := color.Color(rule)
		if c.NotAfter.Before(v.At) {
			past = ember
		}
		if now := px(v.At); px(c.NotBefore) < now {
			box(s, past, px(c.NotBefore), y-3, min(px(c.NotAfter), now)-px(c.NotBefore), 6)
		}
		if c.NotAfter.After(v.At) {
			start := max(px(v.At), px(c.NotBefore))
			box(s, severityColor(worst), start, y-3, max(1, px(c.NotAfter)-start), 6)
		}
		s.Text(draw.Font{Color: severityColor(worst), Size: 9, Align: 1}, draw.Point{X: width - seqMargin, Y: y + 3}, trust.Day(c.NotAfter))
		y += trustRow
	}
	y = bottom + 30
	for _, f := range notes {
		col := draw.Font{Color: severityColor(f.Severity), Size: 9, Align: -1}
		where := filepath.Base(f.Where)
		s.Text(col, draw.Point{X: seqMargin, Y: y}, fit(col, fmt.Sprintf("%s: %s: %s", f.Severity, where, f.What), width-2*seqMargin))
		y += reachText
	}
	return s
}

func surveyDrawing(name string, at time.Time, where string, v *trust.Survey) *draw.Surface {
	ids := v.Suites()
	const column, suite = 52.0, 290.0
	width := 2*seqMargin + suite + column*4 + 260
	rows := len(ids) + len(v.Trials) + len(v.Presented.Chain) + len(v.Findings) + len(v.Device)
	s := draw.New(width, 2*seqMargin+160+float64(rows)*trustRow)
	heading(s, fmt.Sprintf("%s: handshake at %s, as %s", name, where, v.ServerName), at)
	f := func(c color.Color) draw.Font { return draw.Font{Color: c, Size: 9, Align: -1} }
	y := seqMargin + 52
	for i, x := range v.Versions {
		s.Text(draw.Font{Color: faint, Size: 9}, draw.Point{X: seqMargin + suite + column*(float64(i)+0.5), Y: y}, "TLS "+trust.VersionName(x.Version))
	}
	y += trustRow
	for _, id := range ids {
		col := color.Color(ink)
		if trust.WeakSuite(id) != "" {
			col = ochre
		}
		s.Text(f(col), draw.Point{X: seqMargin, Y: y}, trust.SuiteName(id))
		for i, x := range v.Versions {
			for k, y2 := range x.Suites {
				if y2 == id {
					cx := seqMargin + suite + column*(float64(i)+0.5)
					mark(s, cx-6, y-3, "done")
					s.Text(draw.Font{Color: lichen, Size: 8, Align: -1}, draw.Point{X: cx + 2, Y: y}, fmt.Sprint(k+1))
				}
			}
		}
		y += trustRow
	}
	section := func(title string) {
		y += 10
		s.Text(draw.Font{Color: ink, Size: 10, Bold: true, Align: -1}, draw.Point{X: seqMargin, Y: y}, title)
		y += trustRow
	}
	put := func(c color.Color, text string) {
		s.Text(f(c), draw.Point{X: seqMargin + 12, Y: y}, fit(f(c), text, width-2*seqMargin-12))
		y += trustRow
	}
	section("the chain as presented")
	for _, c := range v.Presented.Chain {
		put(ink, fmt.Sprintf("%s, %s, %s, names %s", trust.Subject(c.Subject.String()), trust.Strength(c.PublicKey), span(c.NotBefore, c.NotAfter), orNone(trust.NamesOf(c))))
	}
	section("tried")
	for _, t := range v.Trials {
		col := map[trust.Verdict]color.Color{trust.Kept: lichen, trust.Failed: ember, trust.Undecided: ochre, trust.Skipped: faint}[t.Verdict]
		put(col, fmt.Sprintf("%s: %s: %s", t.Verdict, t.Name, t.Seen))
	}
	for _, d := range v.Device {
		put(ink, d.Title()+": "+d.Seen)
	}
	for _, x := range v.Findings {
		put(severityColor(x.Severity), string(x.Severity)+": "+x.What)
	}
	return s
}
