package proof

import (
	"fmt"
	"strings"

	"hodstone/internal/mqtt/packet"
	core "hodstone/internal/proof"
	"hodstone/internal/report"
	"hodstone/internal/tui/look"
)

// mostColumns is how wide a table may be that stands beside the board.
const mostColumns = 4

// drawGrids draws the tables that checks show, for each version that there is room for.
func (s *Screen) drawGrids(c look.Canvas) {
	t := c.Theme
	y, note := 0, ""
	var last string
	for _, v := range versions {
		for _, ch := range s.checks {
			r := s.byKey[key(ch, v)]
			if r == nil {
				continue
			}
			for i := range r.Tables {
				table := &r.Tables[i]
				if c.H-y < len(table.Rows)+4 || len(table.Columns) > mostColumns {
					continue // it shows where the check is opened
				}
				if table.Title != last {
					c.Rule(y, table.Title, t.Strong)
					last = table.Title
					y++
				}
				y = drawTable(c, y, v, table) + 1
				note = table.Note
			}
		}
	}
	if last == "" {
		c.Rule(0, "tables", t.Strong)
		y++
		note = "What checks find out pair by pair, such as QoS published and subscribed, stands here once they ran."
	}
	for _, l := range look.Wrap(note, c.W-2) {
		c.Text(1, y, l, t.Old)
		y++
	}
	s.drawDoors(c.Sub(0, y+1, c.W, max(0, c.H-y-1)))
}

// drawTable draws a table, and returns the row behind it.
func drawTable(c look.Canvas, y int, v packet.Version, table *core.Table) int {
	t := c.Theme
	const first = 14
	width := max(6, (c.W-first)/max(1, len(table.Columns)))
	c.Text(1, y, "MQTT "+v.String(), t.Ours)
	c.Text(first, y, table.Across, t.Dim)
	for i, name := range table.Columns {
		c.Text(first+i*width, y+1, look.Clip(name, width-1), t.Dim)
	}
	c.Text(1, y+1, table.Down, t.Dim)
	for r, name := range table.Rows {
		c.Text(1, y+2+r, look.Clip(name, first-2), t.Dim)
		for k, cell := range table.Cells[r] {
			text, st := "·", t.Old
			if cell.Verdict != "" {
				text, st = report.Sign(cell.Verdict), verdictStyle(t, cell.Verdict)
				if cell.Text != text {
					text += " " + cell.Text
				}
			}
			c.Text(first+k*width, y+2+r, look.Clip(text, width-1), st)
		}
	}
	return y + 2 + len(table.Rows)
}

// drawDoors lists what is left open at the broker that is put to the proof.
func (s *Screen) drawDoors(c look.Canvas) {
	t := c.Theme
	if c.H < 3 || len(s.ways) == 0 {
		return
	}
	broker, _, _ := strings.Cut(s.ways[s.way], "/")
	c.Rule(0, "doors left open at "+broker, t.Strong)
	doors, known := s.bench.Doors(broker)
	y := 1
	put := func(text string, st look.Style) {
		for _, l := range look.Wrap(text, c.W-2) {
			c.Text(1, y, l, st)
			y++
		}
	}
	switch {
	case !known:
		put("not looked for: on the reach screen (1), r tries the ways in", t.Old)
	case len(doors) == 0:
		put("none was found", t.Kept)
	}
	for _, d := range doors {
		if d.Accepted != "" {
			put("· "+d.What+", accepted: "+d.Accepted, t.Old)
		} else {
			put("! "+d.What, t.Warn)
		}
	}
}

// wide tells whether a result has a table that does not fit beside the board.
func wide(r *core.Result) bool {
	for i := range r.Tables {
		if len(r.Tables[i].Columns) > mostColumns {
			return true
		}
	}
	return false
}

// lines is how many lines the tables have in all.
func (e *evidence) lines() (n int) {
	for i := range e.r.Tables {
		n += len(e.r.Tables[i].Rows)
	}
	return n
}

// narrowest is how narrow a column may become: what a cell says is no longer.
const narrowest = 5

// drawTables draws the tables of the opened check over the whole width, what is broken first to the eye.
func (e *evidence) drawTables(c look.Canvas) {
	t := c.Theme
	e.down = max(0, min(e.down, e.lines()-1))
	skip, y := e.down, 0
	for i := range e.r.Tables {
		table := &e.r.Tables[i]
		c.Rule(y, table.Title, t.Strong)
		first := len(table.Down) + 2
		for _, name := range table.Rows {
			first = max(first, len([]rune(name))+3)
		}
		first = min(first, max(16, c.W/3))
		const least = 8
		width := least
		for _, name := range table.Columns {
			width = max(width, len([]rune(name))+2)
		}
		width = max(narrowest, min(width, (c.W-first)/max(1, len(table.Columns))))
		shown := min(len(table.Columns), (c.W-first)/width)
		c.Text(1, y+1, table.Down, t.Dim)
		for k, name := range table.Columns[:shown] {
			c.Text(first+k*width, y+1, look.Clip(name, width-1), t.Dim)
		}
		y += 2
		for r, name := range table.Rows {
			if skip > 0 {
				skip--
				continue
			}
			if y >= c.H-2 {
				break
			}
			c.Text(1, y, look.Clip(name, first-2), t.Text)
			for k, cell := range table.Cells[r][:shown] {
				st := t.Old
				switch cell.Verdict {
				case core.Kept:
					st = t.Kept
				case core.Broken, core.Undecided:
					st = verdictStyle(t, cell.Verdict)
				}
				text := cell.Text
				if text == "··" {
					st = t.Old // nothing is allowed, and nothing should be
				}
				c.Text(first+k*width, y, look.Clip(text, width-1), st)
			}
			y++
		}
		if y < c.H {
			note, st := table.Note, t.Dim
			if hidden := len(table.Columns) - shown; hidden > 0 {
				note, st = fmt.Sprintf("%s more have no room here: prove --tables writes all", look.Plural(hidden, "column")), t.Warn
			}
			c.Text(1, y, look.Clip(note, c.W-2), st)
		}
		y += 2
	}
	e.height = max(1, c.H-4)
}
