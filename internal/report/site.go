package report

import (
	"fmt"
	"strings"

	"hodstone/internal/device"
	"hodstone/internal/draw"
)

// SiteMember is a device of the drawn site, or a kind of device with all that are of it.
type SiteMember struct {
	Name  string
	Kind  string
	Party string
	// Count is how many devices it stands for, and Words how these stand; 0 for one device.
	Count  int
	Phase  device.Phase
	Words  string // how it stands, and since when
	Broker string
	// Right tells that it stands right of the broker: it takes more clauses than it publishes.
	Right bool
	// Sent and Received are messages a second.
	Sent, Received float64
	Odd            bool // not at work, or misbehaving
	Gone           bool // a real one that was seen, and is not connected
	// Beside is what stands beside it: readouts, and messages that are ready.
	Beside []string
}

// Link is the phase by which its link looks.
func (m *SiteMember) Link() device.Phase {
	if m.Gone {
		return device.Away
	}
	return m.Phase
}

// SiteBroker is a broker of the drawn site.
type SiteBroker struct {
	Name  string
	In    bool
	Words []string
	// Behind tells that what the observer sees there comes late.
	Behind bool
}

// Site is the site as it is drawn: the brokers in the middle, who publishes left of them, who consumes right.
type Site struct {
	Caption []string
	Brokers []SiteBroker
	Members []SiteMember
}

// Place is where a member or a broker stands: its first row, counted from 0 at the top, and how many rows it has.
type Place struct{ Row, Rows int }

// Arrange gives members and brokers their rows, and says how many there are in all.
func (s *Site) Arrange() (members, brokers []Place, rows int) {
	members = make([]Place, len(s.Members))
	for _, b := range s.Brokers {
		var at [2]int
		for i := range s.Members {
			m := &s.Members[i]
			if m.Broker != b.Name {
				continue
			}
			side := 0
			if m.Right {
				side = 1
			}
			members[i] = Place{rows + at[side], 1 + len(m.Beside)}
			at[side] += 1 + len(m.Beside)
		}
		tall := max(at[0], at[1], 3+len(b.Words))
		brokers = append(brokers, Place{rows, tall})
		rows += tall + 1
	}
	return members, brokers, max(0, rows-1)
}

// The measures of the drawing, in points.
const (
	siteRow    = 16.0
	siteMargin = 24.0
	siteBlock  = 250.0
	siteLink   = 110.0
	siteBox    = 150.0
)

// Draw draws the site. The error says that there is nothing to draw.
func (s *Site) Draw() (*draw.Surface, error) {
	if len(s.Members) == 0 || len(s.Brokers) == 0 {
		return nil, fmt.Errorf("the site has no device and no broker to draw")
	}
	members, brokers, rows := s.Arrange()
	top := siteMargin + float64(len(s.Caption))*siteRow + siteRow
	h := top + float64(rows)*siteRow + 3*siteRow + siteMargin
	w := 2*siteMargin + 2*siteBlock + 2*siteLink + siteBox
	if h > draw.MaxSide {
		return nil, fmt.Errorf("%d rows are too many for a drawing: fold the kinds of devices", rows)
	}
	d := draw.New(w, h)
	for i, line := range s.Caption {
		d.Text(
			draw.Font{Color: ink, Size: 11, Bold: i == 0, Align: -1},
			draw.Point{X: siteMargin, Y: siteMargin + float64(i)*siteRow},
			line,
		)
	}
	left := siteMargin + siteBlock
	box := left + siteLink
	for i, b := range s.Brokers {
		y := top + float64(brokers[i].Row)*siteRow
		tall := float64(brokers[i].Rows) * siteRow
		pen := draw.Pen{Color: water, Width: 1.4}
		switch {
		case b.Behind:
			pen = draw.Pen{Color: amber, Width: 1.4}
		case !b.In:
			pen = draw.Pen{Color: ember, Width: 1.4, Dash: []float64{4, 3}}
		}
		d.Line(
			pen,
			draw.Point{X: box, Y: y - 11},
			draw.Point{X: box + siteBox, Y: y - 11},
			draw.Point{
				X: box + siteBox,
				Y: y + tall - 11,
			},
			draw.Point{X: box, Y: y + tall - 11},
			draw.Point{X: box, Y: y - 11},
		)
		d.Text(draw.Font{Color: ink, Size: 11, Bold: true, Align: 0}, draw.Point{X: box + siteBox/2, Y: y + 3}, b.Name)
		for k, line := range b.Words {
			d.Text(
				draw.Font{Color: faint, Size: 8},
				draw.Point{X: box + siteBox/2, Y: y + 3 + float64(k+1)*siteRow*0.8},
				line,
			)
		}
	}
	for i := range s.Members {
		s.drawMember(d, &s.Members[i], top+float64(members[i].Row)*siteRow, left, box)
	}
	y := h - siteMargin
	d.Text(
		draw.Font{Color: faint, Size: 8, Align: -1},
		draw.Point{X: siteMargin, Y: y},
		"solid: connected   dashed: connecting or lost   dotted: frozen   none: off   arrows: which way messages go, a second",
	)
	return d, nil
}

func (s *Site) drawMember(d *draw.Surface, m *SiteMember, y, left, box float64) {
	x, align := left-8, 1
	from, to := left, box
	if m.Right {
		x, align = box+siteBox+siteLink+8, -1
		from, to = box+siteBox+siteLink, box+siteBox
	}
	name := m.Name
	if m.Count > 0 {
		name = fmt.Sprintf("%s ×%d", m.Name, m.Count)
	}
	words := strings.TrimSpace(string(m.Phase) + " " + m.Words)
	if m.Count > 0 {
		words = m.Words
	}
	col := ink
	if m.Odd {
		col = ember
	}
	f := draw.Font{Color: col, Size: 9.5, Bold: true, Align: align}
	d.Text(f, draw.Point{X: x, Y: y}, name)
	next := x - f.Width(name) - 8
	if m.Right {
		next = x + f.Width(name) + 8
	}
	d.Text(draw.Font{Color: faint, Size: 8.5, Align: align}, draw.Point{X: next, Y: y}, words)
	for k, line := range m.Beside {
		d.Text(draw.Font{Color: water, Size: 8.5, Align: align}, draw.Point{X: x, Y: y + float64(k+1)*siteRow}, line)
	}
	pen := draw.Pen{Color: faint, Width: 1}
	switch m.Link() {
	case device.Off:
		return
	case device.Frozen:
		pen.Dash = []float64{1, 3}
	case device.Away, device.Connecting:
		pen.Color, pen.Dash = ember, []float64{5, 4}
	}
	d.Line(pen, draw.Point{X: from, Y: y - 3}, draw.Point{X: to, Y: y - 3})
	arrow := func(at, toward float64) {
		d.Fill(water, draw.Point{X: at, Y: y - 6}, draw.Point{X: at + toward*6, Y: y - 3}, draw.Point{X: at, Y: y})
	}
	dir := 1.0
	if m.Right {
		dir = -1
	}
	small := draw.Font{Color: faint, Size: 7}
	if m.Sent > 0 {
		arrow(from+(to-from)*0.3, dir)
		d.Text(small, draw.Point{X: from + (to-from)*0.3, Y: y - 8}, rateText(m.Sent))
	}
	if m.Received > 0 {
		arrow(from+(to-from)*0.7, -dir)
		d.Text(small, draw.Point{X: from + (to-from)*0.7, Y: y - 8}, rateText(m.Received))
	}
}

// rateText is a rate a second, in few characters.
func rateText(r float64) string {
	if r >= 10 {
		return fmt.Sprintf("%.0f/s", r)
	}
	return fmt.Sprintf("%.1f/s", r)
}
