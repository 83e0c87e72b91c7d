package report

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"image/color"
	"io"
	"math"
	"strconv"
	"strings"
	"time"

	"hodstone/internal/draw"
	"hodstone/internal/fleet"
)

// LoadMoment is a time of a load, short: three digits.
func LoadMoment(d time.Duration) string {
	switch {
	case d == 0:
		return "–"
	case d < time.Millisecond:
		return fmt.Sprintf("%d µs", d.Microseconds())
	case d < 10*time.Millisecond:
		return fmt.Sprintf("%.2f ms", d.Seconds()*1e3)
	case d < 100*time.Millisecond:
		return fmt.Sprintf("%.1f ms", d.Seconds()*1e3)
	case d < time.Second:
		return fmt.Sprintf("%.0f ms", d.Seconds()*1e3)
	}
	return fmt.Sprintf("%.2f s", d.Seconds())
}

// LoadRate is a rate, short.
func LoadRate(f float64) string {
	switch {
	case f == 0:
		return "0"
	case f < 10:
		return strconv.FormatFloat(f, 'f', 2, 64)
	case f < 100:
		return strconv.FormatFloat(f, 'f', 1, 64)
	}
	return strconv.FormatFloat(f, 'f', 0, 64)
}

// LoadStepHead and LoadStepLine are the table of steps in plain text.
func LoadStepHead() string {
	return fmt.Sprintf(
		"%4s %7s %7s %9s %9s %9s %8s %9s %9s %9s %9s  %s",
		"step",
		"clients",
		"in",
		"asked/s",
		"reached/s",
		"heard/s",
		"lost",
		"p50",
		"p99",
		"p99.9",
		"longest",
		"verdict",
	)
}

// LoadStepLine is a step on a line; bounded tells that there is a bound which it has to keep.
func LoadStepLine(i int, s *fleet.StepResult, bounded bool) string {
	verdict := "no bound"
	if bounded {
		verdict = "✓ held"
	}
	switch {
	case s.Cut:
		verdict = "! stopped"
	case len(s.Broken) > 0:
		verdict = "✗ " + strings.Join(s.Broken, "; ")
	case s.Lost > 0 || s.Refused > 0 || s.Unsent > 0:
		verdict = fmt.Sprintf("! %d lost, %d refused", s.Lost, s.Refused)
		if s.Unsent > 0 {
			verdict += fmt.Sprintf(", %d not sent", s.Unsent)
		}
	}
	return fmt.Sprintf(
		"%4d %7d %7d %9s %9s %9s %8d %9s %9s %9s %9s  %s",
		i+1,
		s.Clients,
		s.In,
		LoadRate(s.Asked),
		LoadRate(s.Reached),
		LoadRate(
			s.Heard,
		),
		s.Lost,
		LoadMoment(s.Trip.P50),
		LoadMoment(s.Trip.P99),
		LoadMoment(s.Trip.P999),
		LoadMoment(s.Trip.Max),
		verdict,
	)
}

// LoadAbsent names the parts that were not there to be merged, the first of them.
func LoadAbsent(r *fleet.Result) string {
	const most = 8
	text := strings.Join(r.Absent[:min(most, len(r.Absent))], ", ")
	if more := len(r.Absent) - most; more > 0 {
		text += fmt.Sprintf(" and %d more", more)
	}
	return text
}

// LoadIndent is how many columns the words take that the lines of [LoadSummary] begin with.
const LoadIndent = 11

// LoadSummary says in a few lines what a load came to.
func LoadSummary(r *fleet.Result) (out []string) {
	t := &r.Total
	add := func(format string, args ...any) { out = append(out, fmt.Sprintf(format, args...)) }
	add("%s on %s: %s, QoS %d, %s", loadName(r), r.Target, r.Shape, r.QoS, r.Took.Round(100*time.Millisecond))
	if len(r.Shards) > 0 && r.Shards[0] != "" {
		add("merged of %d parts: %s", len(r.Shards), strings.Join(r.Shards, ", "))
	}
	if len(r.Absent) > 0 {
		add("absent     %s: nothing is known of these parts, so that no bound can be said to hold", LoadAbsent(r))
	}
	add(
		"clients    %d in of %d, %d refused; time to connect p50 %s, p99 %s, longest %s",
		t.In,
		t.Clients,
		t.Refused,
		LoadMoment(t.Connect.P50),
		LoadMoment(t.Connect.P99),
		LoadMoment(t.Connect.Max),
	)
	if t.Handshakes > 0 && t.Coming > 0 {
		add(
			"TLS        %d handshakes, %s a second while clients came",
			t.Handshakes,
			LoadRate(float64(t.Handshakes)/t.Coming.Seconds()),
		)
	}
	add(
		"messages   %d sent, %d received of %d expected, %d lost, %d twice, %d out of order, %d not sent",
		t.Sent,
		t.Received,
		t.Expected,
		t.Lost,
		t.Duplicated,
		t.OutOfOrder,
		t.Failed+t.Unsent,
	)
	if t.Trip.Count > 0 {
		x := t.Trip
		add(
			"round trip smallest %s, mean %s, p50 %s, p90 %s, p99 %s, p99.9 %s, longest %s",
			LoadMoment(x.Min),
			LoadMoment(x.Mean),
			LoadMoment(x.P50),
			LoadMoment(x.P90),
			LoadMoment(x.P99),
			LoadMoment(x.P999),
			LoadMoment(x.Max),
		)
	}
	if t.Ack.Count > 0 {
		add(
			"acknowledged %d: p50 %s, p99 %s, longest %s",
			t.Acked,
			LoadMoment(t.Ack.P50),
			LoadMoment(t.Ack.P99),
			LoadMoment(t.Ack.Max),
		)
	}
	s := t.Strain
	add(
		"generator  %.2f of %d cores, %d MB, %d of %d descriptors, late by p99 %s",
		s.CPU,
		s.Cores,
		s.Memory>>20,
		s.Descriptors,
		s.Allowed,
		LoadMoment(t.Lag.P99),
	)
	if b := t.Broker; b.Known && !b.Own {
		add(
			"broker     %.2f cores, %d MB, %d of %d descriptors (process %d, %s)",
			b.CPU,
			b.Memory>>20,
			b.Descriptors,
			b.Allowed,
			b.PID,
			b.Name,
		)
	}
	if f := t.Facts; len(f) > 0 {
		var all []string
		for _, what := range []string{"version", "clients", "messages received", "sent", "dropped"} {
			if f[what] != "" {
				all = append(all, what+" "+f[what])
			}
		}
		if len(all) > 0 {
			add("it tells   %s", strings.Join(all, ", "))
		}
	}
	if r.Judged > 0 || r.Broken > 0 {
		add("judged     %d messages of %d traced clients, %d breaches", r.Judged, r.Traced, r.Broken)
		for _, b := range r.Breaches[:min(3, len(r.Breaches))] {
			add("           ✗ %s", b)
		}
	}
	if x := r.Storm; x != nil {
		what := "clients back"
		if x.What == fleet.Wills {
			what = "wills came"
		}
		add(
			"storm      %s: %d of %d %s, p50 %s, p99 %s, the last after %s",
			x.What,
			x.Back,
			x.Of,
			what,
			LoadMoment(x.Spread.P50),
			LoadMoment(x.Spread.P99),
			LoadMoment(x.Took),
		)
	}
	if x := r.Found; x != nil {
		unit := map[string]string{"rate": "messages a second", "clients": "clients"}[x.What]
		switch {
		case x.Highest == 0:
			add(
				"found      the bound %s held nowhere: not even at %s %s (%s)",
				r.Bound,
				LoadRate(x.Broke),
				unit,
				strings.Join(x.How, "; "),
			)
		case x.Broke == 0:
			add("found      the bound %s held up to the end of the ramp, %s %s", r.Bound, LoadRate(x.Highest), unit)
		default:
			add(
				"found      the bound %s held up to %s %s, and broke at %s (%s)",
				r.Bound,
				LoadRate(x.Highest),
				unit,
				LoadRate(x.Broke),
				strings.Join(x.How, "; "),
			)
		}
	}
	out = append(out, loadMinutes(r)...)
	limit := string(r.Limit)
	if r.Limit == fleet.Neither {
		limit = "neither the broker nor the generator was at its end"
	}
	add("limit      %s", limit)
	for _, w := range r.Why {
		add("           %s", w)
	}
	if r.Stopped {
		add("stopped before its end")
	}
	return out
}

// mostMinutes is how many minutes of a soak a summary tells, evenly over all of them; the JSON has each.
const mostMinutes = 12

// loadMinutes is the record of a soak, a line each; nil for a load of less than two minutes.
func loadMinutes(r *fleet.Result) (out []string) {
	n := len(r.Minutes)
	if n < 2 {
		return nil
	}
	out = append(
		out,
		fmt.Sprintf("%-10s %7s %9s %9s %9s %9s %9s %6s %7s", "minute", "in", "sent", "heard", "p50", "p99",
			"longest", "cores", "MB"),
	)
	each := (n + mostMinutes - 1) / mostMinutes
	for i := range r.Minutes {
		if i%each != 0 && i != n-1 {
			continue
		}
		m := &r.Minutes[i]
		out = append(out, fmt.Sprintf(
			"%10d %7d %9d %9d %9s %9s %9s %6.2f %7d",
			i+1,
			m.In,
			m.Sent,
			m.Heard,
			LoadMoment(m.Trip.P50),
			LoadMoment(m.Trip.P99),
			LoadMoment(m.Trip.Max),
			m.Strain.CPU,
			m.Strain.Memory>>20,
		))
	}
	return out
}

func loadName(r *fleet.Result) string {
	if r.Name == "" {
		return "load"
	}
	return r.Name
}

// WriteLoadCSV writes the seconds of a load, a line each; times in seconds.
func WriteLoadCSV(w io.Writer, r *fleet.Result) error {
	c := csv.NewWriter(w)
	c.Write(
		[]string{
			"at",
			"length",
			"step",
			"connected",
			"asked",
			"sent",
			"heard",
			"missing",
			"p50",
			"p99",
			"longest",
			"cpu",
			"broker-cpu",
			"memory",
		},
	)
	f := func(v float64) string { return strconv.FormatFloat(v, 'g', 6, 64) }
	for _, s := range r.Seconds {
		c.Write(
			[]string{
				s.At.UTC().Format(time.RFC3339Nano),
				f(s.Spread.Seconds()),
				strconv.Itoa(s.Step + 1),
				strconv.Itoa(s.In),
				f(s.Asked),
				strconv.FormatInt(
					s.Sent,
					10,
				),
				strconv.FormatInt(s.Heard, 10),
				strconv.FormatInt(s.Missing, 10),
				f(s.P50.Seconds()),
				f(s.P99.Seconds()),
				f(s.Max.Seconds()),
				f(s.CPU),
				f(s.BrokerCPU),
				strconv.FormatInt(s.Memory, 10),
			},
		)
	}
	c.Flush()
	return c.Error()
}

// WriteLoadJSON writes all of a result, with its histograms: parts can be merged of it.
func WriteLoadJSON(w io.Writer, r *fleet.Result) error {
	e := json.NewEncoder(w)
	e.SetIndent("", " ")
	return e.Encode(r)
}

// The measures of the drawing, in points.
const (
	loadWidth  = 760.0
	loadPanel  = 104.0
	loadGap    = 34.0
	loadLeft   = 74.0
	loadAbout  = 66.0
	loadSecond = 0.35 // how strongly the second run is drawn
)

// panel is a chart of a load over its seconds.
type panel struct {
	title string
	lines []loadLine
	log   bool
	unit  func(float64) string
}

type loadLine struct {
	name  string
	col   color.RGBA
	value func(*fleet.Second) float64
	gaps  bool // 0 is nothing, and breaks the line
}

var amber, slate = color.RGBA{0xb8, 0x86, 0x0b, 0xff}, color.RGBA{0x8a, 0x98, 0xa2, 0xff}

func loadPanels() []panel {
	whole := func(f float64) string { return LoadRate(math.Round(f)) }
	per := func(s *fleet.Second, n int64) float64 { return float64(n) / math.Max(0.001, s.Spread.Seconds()) }
	return []panel{
		{
			"clients connected",
			[]loadLine{{"connected", lichen, func(s *fleet.Second) float64 { return float64(s.In) }, false}},
			false,
			whole,
		},
		{"messages a second", []loadLine{
			{"asked for", slate, func(s *fleet.Second) float64 { return s.Asked }, true},
			{"sent", water, func(s *fleet.Second) float64 { return per(s, s.Sent) }, false},
			{"heard", lichen, func(s *fleet.Second) float64 { return per(s, s.Heard) }, false},
		}, false, whole},
		{"round trip, from when it was to be sent", []loadLine{
			{"p50", lichen, func(s *fleet.Second) float64 { return s.P50.Seconds() }, true},
			{"p99", amber, func(s *fleet.Second) float64 { return s.P99.Seconds() }, true},
			{"longest", ember, func(s *fleet.Second) float64 { return s.Max.Seconds() }, true},
		}, true, func(f float64) string { return LoadMoment(time.Duration(f * 1e9)) }},
		{
			"messages that are missing: under way, or lost",
			[]loadLine{{"missing", ember, func(s *fleet.Second) float64 { return float64(s.Missing) }, false}},
			false,
			whole,
		},
		{"cores in use", []loadLine{
			{"generator", amber, func(s *fleet.Second) float64 { return s.CPU }, false},
			{"broker", water, func(s *fleet.Second) float64 { return s.BrokerCPU }, true},
		}, false, func(f float64) string { return strconv.FormatFloat(f, 'f', 2, 64) }},
	}
}

// LoadDrawing draws a load over time, with another run over it where there is one; nil for none. The error says that there is
// nothing to draw.
func LoadDrawing(name string, r, other *fleet.Result) (*draw.Surface, error) {
	if len(r.Seconds) < 2 {
		return nil, fmt.Errorf("the load lasted less than two seconds: there is nothing to draw")
	}
	small := draw.Font{Color: faint, Size: 8.5, Align: -1}
	var lines [][2]string // what it is about, and what is said
	for _, l := range LoadSummary(r)[1:] {
		l = strings.ReplaceAll(l, "✗ ", "")
		const column = 11
		about, said := strings.TrimSpace(l[:min(column, len(l))]), l[min(column, len(l)):]
		if strings.HasPrefix(l, "round trip") || strings.HasPrefix(l, "acknowledged") ||
			strings.HasPrefix(l, "merged") ||
			strings.HasPrefix(l, "stopped") {
			about, said, _ = strings.Cut(l, " ")
			if about == "round" {
				about, said = "round trip", strings.TrimPrefix(said, "trip ")
			}
		}
		for i, text := range wrapped(small, said, loadWidth-2*seqMargin-loadAbout) {
			if i > 0 {
				about = ""
			}
			lines = append(lines, [2]string{about, text})
		}
	}
	steps := len(r.Steps)
	const row = 12.0
	height := seqMargin + 40 + 5*(loadPanel+loadGap) + float64(steps+2)*row + float64(len(lines))*row + 3*seqMargin
	if other != nil {
		height += row
	}
	s := draw.New(loadWidth, math.Min(height, draw.MaxSide))
	title := name + ": a load"
	if r.Name != "" {
		title = name + ": " + r.Name
	}
	heading(s, title, r.Started)
	y := seqMargin + 40
	if other != nil {
		s.Text(
			small,
			draw.Point{X: seqMargin, Y: y},
			"pale: the run of "+other.Started.Format("2 January 2006, 15:04:05"),
		)
		y += row
	}
	for _, p := range loadPanels() {
		drawPanel(s, &p, r, other, y)
		y += loadPanel + loadGap
	}
	mono := draw.Font{Color: ink, Size: 6.6, Mono: true, Align: -1}
	s.Text(draw.Font{Color: faint, Size: 6.6, Mono: true, Align: -1}, draw.Point{X: seqMargin, Y: y}, LoadStepHead())
	for i := range r.Steps {
		y += row
		f := mono
		if len(r.Steps[i].Broken) > 0 {
			f.Color = ember
		}
		text := strings.NewReplacer("✓ ", "", "✗ ", "broken: ").
			Replace(LoadStepLine(i, &r.Steps[i], r.Bound != ""))
			// the font has no such signs
		s.Text(f, draw.Point{X: seqMargin, Y: y}, fit(f, text, loadWidth-2*seqMargin))
	}
	y += row
	for _, l := range lines {
		y += row
		s.Text(small, draw.Point{X: seqMargin, Y: y}, l[0])
		s.Text(draw.Font{Color: ink, Size: 8.5, Align: -1}, draw.Point{X: seqMargin + loadAbout, Y: y}, l[1])
	}
	return s, nil
}

func drawPanel(s *draw.Surface, p *panel, r, other *fleet.Result, y float64) {
	left, right, bottom := loadLeft, loadWidth-seqMargin, y+loadPanel
	s.Text(draw.Font{Color: ink, Size: 10, Bold: true, Align: -1}, draw.Point{X: seqMargin, Y: y}, p.title)
	x := right
	for i := len(p.lines) - 1; i >= 0; i-- { // what is which
		f := draw.Font{Color: p.lines[i].col, Size: 8.5, Align: 1}
		s.Text(f, draw.Point{X: x, Y: y}, "— "+p.lines[i].name)
		x -= f.Width("— "+p.lines[i].name) + 12
	}
	y += 8
	lo, hi, span := math.Inf(1), 0.0, 0.0
	for _, run := range []*fleet.Result{r, other} {
		if run == nil {
			continue
		}
		for i := range run.Seconds {
			span = math.Max(span, run.Seconds[i].At.Sub(run.Started).Seconds()+run.Seconds[i].Spread.Seconds())
			for _, l := range p.lines {
				v := l.value(&run.Seconds[i])
				hi = math.Max(hi, v)
				if v > 0 {
					lo = math.Min(lo, v)
				}
			}
		}
	}
	if hi == 0 {
		hi = 1
	}
	at := func(v float64) float64 {
		if p.log {
			if v <= 0 || lo >= hi {
				return bottom
			}
			a, b := math.Log10(lo)-0.1, math.Log10(hi)
			return bottom - math.Max(0, (math.Log10(v)-a)/(b-a))*(bottom-y-4)
		}
		return bottom - v/hi*(bottom-y-4)
	}
	axis := draw.Pen{Color: rule, Width: 0.8}
	s.Line(axis, draw.Point{X: left, Y: y}, draw.Point{X: left, Y: bottom}, draw.Point{X: right, Y: bottom})
	label := draw.Font{Color: faint, Size: 8, Align: 1}
	s.Text(label, draw.Point{X: left - 4, Y: at(hi) + 4}, p.unit(hi))
	if p.log && !math.IsInf(lo, 0) {
		s.Text(label, draw.Point{X: left - 4, Y: at(lo) + 2}, p.unit(lo))
	} else {
		s.Text(label, draw.Point{X: left - 4, Y: bottom + 2}, "0")
	}
	px := func(run *fleet.Result, t time.Time) float64 {
		return left + t.Sub(run.Started).Seconds()/span*(right-left)
	}
	for i := range r.Steps { // where steps begin, and where the bound broke
		from := px(r, r.Steps[i].At)
		if len(r.Steps[i].Broken) > 0 {
			to := px(r, r.Steps[i].At.Add(r.Steps[i].Took))
			box(s, color.RGBA{0xf7, 0xe3, 0xde, 0xff}, from, y, math.Max(1, math.Min(to, right)-from), bottom-y)
		}
		s.Line(
			draw.Pen{Color: rule, Width: 0.4, Dash: []float64{2, 2}},
			draw.Point{X: from, Y: y},
			draw.Point{X: from, Y: bottom},
		)
	}
	for _, run := range []*fleet.Result{other, r} {
		if run == nil {
			continue
		}
		for _, l := range p.lines {
			pen := draw.Pen{Color: l.col, Width: 1.1}
			if run == other {
				pen.Color = pale(l.col)
			}
			var points []draw.Point
			flush := func() {
				if len(points) > 1 {
					s.Line(pen, points...)
				}
				points = nil
			}
			for i := range run.Seconds {
				x := &run.Seconds[i]
				v := l.value(x)
				if v == 0 && (p.log || l.gaps) { // nothing was timed, or asked for
					flush()
					continue
				}
				points = append(points, draw.Point{X: px(run, x.At.Add(x.Spread)), Y: at(v)})
			}
			flush()
		}
	}
	s.Text(draw.Font{Color: faint, Size: 8, Align: -1}, draw.Point{X: left, Y: bottom + 11}, "0 s")
	s.Text(label, draw.Point{X: right, Y: bottom + 11}, strconv.Itoa(int(math.Ceil(span)))+" s")
}

func pale(c color.RGBA) color.RGBA {
	mix := func(v uint8) uint8 { return uint8(float64(v)*loadSecond + 255*(1-loadSecond)) }
	return color.RGBA{mix(c.R), mix(c.G), mix(c.B), 0xff}
}
