package wire

import (
	"fmt"
	"sort"
	"time"

	tea "charm.land/bubbletea/v2"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/payload"
	"hodstone/internal/trace"
	"hodstone/internal/tui/look"
)

func journeyPacket(j *trace.Journey) packet.Packet {
	return &packet.Publish{Topic: j.Topic, Payload: j.Payload, QoS: j.QoS, Retain: j.Retain}
}

// roleOf guesses a client's role from its name: the observers are ours.
func (s *Screen) roleOf(client string) trace.Role {
	if client == "observer" || len(client) > 9 && client[:9] == "observer-" {
		return trace.RoleObserver
	}
	return ""
}

// statisticsView counts by topic, or by client.
type statisticsView struct {
	clients bool // else topics
	order   int
	cursor  int
	first   int
	height  int
	names   []string // of the rows
}

// orders are what the rows can be sorted by.
var orders = []string{"rate", "count", "bytes", "last", "name"}

func (v *statisticsView) actions(s *Screen) []look.Action {
	other := "by client"
	if v.clients {
		other = "by topic"
	}
	out := []look.Action{look.Moves("scroll", &v.cursor, len(v.names), v.height, nil)}
	if v.cursor < len(v.names) {
		name := v.names[v.cursor]
		out = append(out,
			look.Act("enter", "its packets", func() tea.Cmd { return v.packetsOf(s, name) }),
			look.Act("y", "copy name", func() tea.Cmd {
				return tea.Batch(tea.SetClipboard(name), look.Tell(false, "name copied"))
			}),
		)
	}
	return append(out,
		look.Let("c", other, func() { v.clients, v.cursor = !v.clients, 0 }),
		look.Let("o", "order by "+orders[(v.order+1)%len(orders)], func() { v.order = (v.order + 1) % len(orders) }),
	)
}

// packetsOf shows the sequence of a topic or a client alone.
func (v *statisticsView) packetsOf(s *Screen, name string) tea.Cmd {
	term := "topic:" + name
	if v.clients {
		term = "client:" + name
	}
	f, err := trace.ParseFilter(term)
	if err != nil {
		return look.Tell(true, err.Error())
	}
	s.filter, s.view = f, viewSequence
	s.refill()
	return nil
}

// row is a line of the table, ready to be sorted and drawn.
type row struct {
	name  string
	rate  float64
	count int
	bytes int64
	last  time.Time
	cells []string
	note  string
}

// column is a column of the table: wide enough for what it is for.
type column struct {
	title string
	width int
	right bool
}

func (v *statisticsView) draw(s *Screen, c look.Canvas) {
	t := c.Theme
	topics, clients := s.bench.Statistics()
	now := time.Now()
	if s.record() {
		now = latest(clients) // ages are those at its end
	}
	var rows []row
	var columns []column
	if v.clients {
		columns, rows = clientRows(clients, now)
	} else {
		columns, rows = topicRows(topics, now, c.W)
	}
	sort.SliceStable(rows, func(i, j int) bool {
		a, b := rows[i], rows[j]
		switch orders[v.order] {
		case "rate":
			if a.rate != b.rate {
				return a.rate > b.rate
			}
			return a.count > b.count
		case "count":
			return a.count > b.count
		case "bytes":
			return a.bytes > b.bytes
		case "last":
			return a.last.After(b.last)
		}
		return a.name < b.name
	})
	if done := s.bench.Analysed(); done < 1 {
		c.Right(c.W-1, 0, fmt.Sprintf("%.0f %% of the record read", done*100), t.Warn)
	}
	if len(rows) == 0 {
		c.Teach("Statistics count what went over, by topic and by client.", "Nothing has been published yet.")
		return
	}
	v.names = v.names[:0]
	for _, r := range rows {
		v.names = append(v.names, r.name)
	}
	v.cursor = max(0, min(v.cursor, len(rows)-1))
	nameW := max(14, min(44, c.W/4))
	head := "topic"
	if v.clients {
		head = "client"
	}
	c.Text(1, 0, look.Clip(look.Plural(len(rows), head)+", by "+orders[v.order], nameW), t.Dim)
	place := func(y int, cells []string, st func(int) look.Style) int {
		x := nameW + 2
		for i, col := range columns {
			if x+col.width > c.W {
				return x
			}
			text := look.Clip(cells[i], col.width)
			if col.right {
				c.Right(x+col.width, y, text, st(i))
			} else {
				c.Text(x, y, text, st(i))
			}
			x += col.width + 2
		}
		return x
	}
	titles := make([]string, len(columns))
	for i, col := range columns {
		titles[i] = col.title
	}
	place(0, titles, func(int) look.Style { return t.Dim })
	v.height = c.H - 1
	v.first = look.Scroll(v.first, v.cursor, v.height, len(rows))
	for i := 0; i < v.height && v.first+i < len(rows); i++ {
		r := rows[v.first+i]
		y := i + 1
		c.Text(1, y, look.Middle(r.name, nameW), t.Text)
		x := place(y, r.cells, func(i int) look.Style {
			if columns[i].right {
				return t.Text
			}
			return t.Dim
		})
		if r.note != "" && x < c.W {
			c.Text(x, y, look.Clip(r.note, c.W-x), t.Dim)
		}
		if v.first+i == v.cursor {
			c.Paint(0, y, c.W, t.Select)
			c.Text(0, y, "▸", t.Select)
		}
	}
}

func latest(clients []trace.ClientStatistics) (at time.Time) {
	for _, c := range clients {
		if c.Last.After(at) {
			at = c.Last
		}
	}
	return at
}

func topicRows(topics []trace.TopicStatistics, now time.Time, w int) (columns []column, rows []row) {
	columns = []column{
		{"messages", 8, true},
		{"rate", 8, true},
		{"bytes", 9, true},
		{"QoS", 3, true},
		{"retained", 8, false},
		{"age", 4, true},
		{"last value", max(10, w/3), false},
	}
	if w < 90 {
		columns = []column{
			{"count", 6, true},
			{"rate", 7, true},
			{"QoS", 3, false},
			{"age", 4, true},
			{"last value", max(8, w-18-max(14, w/4)-14), false},
		}
	}
	for i := range topics {
		t := &topics[i]
		retained := ""
		switch {
		case t.Retained && t.Messages == 0:
			retained = "stored"
		case t.Retained:
			retained = "retain"
		}
		if w < 90 { // the value tells more than its length
			rows = append(
				rows,
				row{
					name:  t.Topic,
					rate:  t.Rate,
					count: t.Messages,
					bytes: t.Bytes,
					last:  t.Last,
					cells: []string{fmt.Sprint(t.Messages), fmt.Sprintf("%.1f/s", t.Rate),
						fmt.Sprintf(
							"%d%s",
							t.QoS,
							map[bool]string{true: " r"}[retained != ""],
						), look.Age(now.Sub(t.Last)), payload.Show(t.Payload, w)},
				},
			)
			continue
		}
		rows = append(
			rows,
			row{
				name:  t.Topic,
				rate:  t.Rate,
				count: t.Messages,
				bytes: t.Bytes,
				last:  t.Last,
				cells: []string{fmt.Sprint(t.Messages), fmt.Sprintf("%.1f/s", t.Rate), size(t.Bytes),
					fmt.Sprint(t.QoS), retained, look.Age(now.Sub(t.Last)), payload.Show(t.Payload, w)},
			},
		)
	}
	return columns, rows
}

func clientRows(clients []trace.ClientStatistics, now time.Time) (columns []column, rows []row) {
	columns = []column{
		{"state", 5, false},
		{"published", 9, true},
		{"rate", 8, true},
		{"received", 9, true},
		{"rate", 8, true},
		{"out", 9, true},
		{"in", 9, true},
		{"packets", 8, true},
		{"conn.", 5, true},
		{"broken", 6, true},
		{"version", 7, false},
		{"age", 4, true},
	}
	for i := range clients {
		c := &clients[i]
		state, version := "away", ""
		if c.Connected {
			state = "in"
		}
		if c.Version != 0 {
			version = c.Version.String()
		}
		rows = append(
			rows,
			row{
				name:  c.Client,
				rate:  c.PublishRate + c.GetRate,
				count: c.Sent + c.Received,
				bytes: c.BytesIn + c.BytesOut,
				last:  c.Last,
				cells: []string{state, fmt.Sprint(c.Published),
					fmt.Sprintf(
						"%.1f/s",
						c.PublishRate,
					), fmt.Sprint(c.Got), fmt.Sprintf("%.1f/s", c.GetRate), size(c.BytesOut), size(c.BytesIn),
					fmt.Sprint(c.Sent + c.Received), fmt.Sprint(c.Connections),
					fmt.Sprint(c.Broken), version, look.Age(now.Sub(c.Last))},
			},
		)
	}
	return columns, rows
}

// size writes a number of bytes with its unit.
func size(n int64) string {
	switch {
	case n < 10_000:
		return fmt.Sprintf("%d B", n)
	case n < 10_000_000:
		return fmt.Sprintf("%.1f KB", float64(n)/1e3)
	}
	return fmt.Sprintf("%.1f MB", float64(n)/1e6)
}
