package report_test

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"strings"
	"testing"
	"time"

	"hodstone/internal/fleet"
	"hodstone/internal/report"
)

// climbed is a load of three steps, of which the last broke its bound.
func climbed() *fleet.Result {
	began := time.Date(2026, 11, 28, 4, 0, 0, 0, time.UTC)
	r := &fleet.Result{
		Name:    "spring tide",
		Target:  "quay/tcp mqtt://127.0.0.1:1883",
		Shape:   fleet.Echo,
		QoS:     1,
		Bound:   "p99<100ms,lost=0",
		Started: began,
		Took:    12 * time.Second,
		Limit:   fleet.Broker,
		Why:     []string{"the generator had time left"},
		Traced:  10,
		Judged:  44,
		Broken:  2,
		Breaches: []string{
			"v/1 breaks reading",
		},
		Storm: &fleet.StormResult{What: fleet.Wills, Of: 30, Back: 29, Took: 3 * time.Second},
	}
	for i := range 3 {
		s := fleet.StepResult{
			At:      began.Add(time.Duration(4*i) * time.Second),
			Took:    4 * time.Second,
			Clients: 10 * (i + 1),
			In:      10 * (i + 1),
			Asked:   500,
			Reached: 499,
			Heard:   498,
			Trip: fleet.Spread{
				Count: 9,
				P50:   700 * time.Microsecond,
				P99:   time.Duration(i*80+4) * time.Millisecond,
				Max:   2 * time.Second,
			},
		}
		if i == 2 {
			s.Broken, s.Lost = []string{"p99<100ms: 164ms"}, 7
		}
		r.Steps = append(r.Steps, s)
	}
	for i := range 12 {
		r.Seconds = append(
			r.Seconds,
			fleet.Second{
				At:    began.Add(time.Duration(i) * time.Second),
				Step:  i / 4,
				In:    10 * (i/4 + 1),
				Asked: 500,
				Sent:  499,
				Heard: 480,
				Missing: int64(
					i,
				),
				P50:       time.Millisecond,
				P99:       time.Duration(i+1) * 10 * time.Millisecond,
				Max:       time.Second,
				CPU:       0.3,
				BrokerCPU: 0.2,
				Memory:    1 << 20,
				Spread:    time.Second,
			},
		)
	}
	r.Total = fleet.StepResult{
		Clients: 30,
		In:      30,
		Counts:  fleet.Counts{Sent: 5988, Received: 5981, Expected: 5988, Lost: 7, Acked: 5988, Handshakes: 30},
		Coming:  3 * time.Second,
		Trip:    r.Steps[2].Trip,
		Ack:     r.Steps[0].Trip,
		Strain:  fleet.Strain{CPU: 0.31, Cores: 2, Memory: 90 << 20, Descriptors: 40, Allowed: 1024},
		Broker: fleet.Process{
			Known: true,
			CPU:   0.22,
			PID:   77,
			Name:  "broker",
		},
		Facts: map[string]string{"version": "9", "dropped": "7"},
	}
	return r
}

// TestALoadInWords: what a person wants to know of it, and of a search.
func TestALoadInWords(t *testing.T) {
	r := climbed()
	text := report.LoadStepHead() + "\n" + report.LoadStepLine(
		0,
		&r.Steps[0],
		true,
	) + "\n" + report.LoadStepLine(
		2,
		&r.Steps[2],
		true,
	) + "\n" + strings.Join(
		report.LoadSummary(r),
		"\n",
	)
	for _, want := range []string{
		"   1      10      10       500       499       498        0    700 µs   4.00 ms", "✓ held", "✗ p99<100ms: 164ms", "spring tide on quay/tcp mqtt://127.0.0.1:1883: echo, QoS 1, 12s",
		"30 in of 30, 0 refused", "30 handshakes, 10.0 a second", "5988 sent, 5981 received of 5988 expected, 7 lost", "longest 2.00 s", "acknowledged 5988",
		"0.31 of 2 cores, 90 MB, 40 of 1024 descriptors", "0.22 cores", "(process 77, broker)", "version 9, dropped 7", "44 messages of 10 traced clients, 2 breaches", "✗ v/1 breaks reading",
		"wills: 29 of 30 wills came", "limit      the broker was the limit", "the generator had time left",
	} {
		if !strings.Contains(text, want) {
			t.Errorf("no %q in\n%s", want, text)
		}
	}
	for i := range 25 { // a soak: so many lines tell enough
		r.Minutes = append(
			r.Minutes,
			fleet.Minute{In: 30, Sent: int64(1000 + i), Strain: fleet.Strain{CPU: 0.25, Memory: 80 << 20}},
		)
	}
	for range 10 {
		r.Absent = append(r.Absent, "2/4")
	}
	text = strings.Join(report.LoadSummary(r), "\n")
	for _, want := range []string{"minute          in", "         1      30      1000", "        25      30      1024", "0.25      80", "2/4, 2/4 and 2 more: nothing is known"} {
		if !strings.Contains(text, want) || strings.Contains(text, "      1001 ") {
			t.Errorf("no %q in\n%s", want, text)
		}
	}
	if line := report.LoadStepLine(
		0,
		&r.Steps[0],
		false,
	); strings.Contains(line, "held") ||
		!strings.Contains(line, "no bound") {
		t.Error(line)
	}
	for want, f := range map[string]*fleet.Found{
		"held up to 900 messages a second, and broke at 937 (p99<100ms: 0.2s)": {What: "rate", Highest: 900, Broke: 937, How: []string{"p99<100ms: 0.2s"}},
		"held up to the end of the ramp, 900 clients":                          {What: "clients", Highest: 900},
		"held nowhere: not even at 50.0 clients (x)":                           {What: "clients", Broke: 50, How: []string{"x"}},
	} {
		r.Found = f
		if text := strings.Join(report.LoadSummary(r), "\n"); !strings.Contains(text, want) {
			t.Errorf("no %q in\n%s", want, text)
		}
	}
	for want, d := range map[string]time.Duration{"–": 0, "7 µs": 7 * time.Microsecond, "7.10 ms": 7100 * time.Microsecond, "71.0 ms": 71 * time.Millisecond, "710 ms": 710 * time.Millisecond, "7.10 s": 7100 * time.Millisecond} {
		if got := report.LoadMoment(d); got != want {
			t.Errorf("%s is %s, want %s", d, got, want)
		}
	}
}

// TestALoadInFiles: CSV, JSON and the drawing, with another run under it, say the same as the result.
func TestALoadInFiles(t *testing.T) {
	r := climbed()
	var b bytes.Buffer
	if err := report.WriteLoadCSV(&b, r); err != nil {
		t.Fatal(err)
	}
	rows, err := csv.NewReader(&b).ReadAll()
	if err != nil || len(rows) != 13 ||
		strings.Join(rows[12], ",") != "2026-11-28T04:00:11Z,1,3,30,500,499,480,11,0.001,0.12,1,0.3,0.2,1048576" {
		t.Error(err, rows[len(rows)-1])
	}
	b.Reset()
	if err := report.WriteLoadJSON(&b, &fleet.Result{Name: "x", Seconds: r.Seconds, Started: r.Started}); err != nil {
		t.Fatal(err)
	}
	var back fleet.Result
	if err := json.Unmarshal(
		b.Bytes(),
		&back,
	); err != nil || len(back.Seconds) != 12 ||
		back.Seconds[3].P99 != r.Seconds[3].P99 {
		t.Error(err, back.Seconds)
	}
	other := climbed()
	other.Started = other.Started.Add(-24 * time.Hour)
	d, err := report.LoadDrawing("Marrow Voe", r, other)
	if err != nil {
		t.Fatal(err)
	}
	text := drawn(t, d)
	for _, want := range []string{"Marrow Voe: spring tide", "clients connected", "— asked for", "— sent", "— p99", "1.00 s", "1.00 ms", "pale: the run of 27 November 2026", "12 s", "164ms", "cores in use"} {
		if !strings.Contains(text, want) {
			t.Errorf("not drawn: %q, in\n%s", want, text)
		}
	}
	if _, err := report.LoadDrawing(
		"x",
		&fleet.Result{},
		nil,
	); err == nil ||
		!strings.Contains(err.Error(), "nothing to draw") {
		t.Error(err)
	}
}
