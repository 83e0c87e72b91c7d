package fleet

import (
	"encoding/json"
	"fmt"
	"time"

	"github.com/HdrHistogram/hdrhistogram-go"
)

// What is measured: microseconds, from 1 to 10 minutes, to three digits.
const (
	shortest = 1
	longest  = int64(10 * time.Minute / time.Microsecond)
	digits   = 3
)

func newHistogram() *hdrhistogram.Histogram { return hdrhistogram.New(shortest, longest, digits) }

// record adds a time to a histogram.
func record(h *hdrhistogram.Histogram, d time.Duration) {
	h.RecordValue(min(longest, max(shortest, int64(d/time.Microsecond))))
}

// Spread is how times are spread. Its values are those of a histogram of three digits, in microseconds.
type Spread struct {
	Count                               int64
	Min, Mean, P50, P90, P99, P999, Max time.Duration
	hist                                *hdrhistogram.Histogram
}

// spreadOf takes a histogram over.
func spreadOf(h *hdrhistogram.Histogram) Spread {
	s := Spread{Count: h.TotalCount(), hist: h}
	if s.Count == 0 {
		return s
	}
	at := func(v int64) time.Duration { return time.Duration(v) * time.Microsecond }
	s.Min, s.Max, s.Mean = at(h.Min()), at(h.Max()), time.Duration(h.Mean()*float64(time.Microsecond))
	s.P50, s.P90 = at(h.ValueAtQuantile(50)), at(h.ValueAtQuantile(90))
	s.P99, s.P999 = at(h.ValueAtQuantile(99)), at(h.ValueAtQuantile(99.9))
	return s
}

// add is the spread of both together, exactly.
func (s Spread) add(o Spread) Spread {
	h := newHistogram()
	for _, x := range []*hdrhistogram.Histogram{s.hist, o.hist} {
		if x != nil {
			h.Merge(x)
		}
	}
	return spreadOf(h)
}

// Bars are the counts of a spread by value, for drawings.
func (s Spread) Bars() (out []hdrhistogram.Bar) {
	if s.hist == nil {
		return nil
	}
	for _, b := range s.hist.Distribution() {
		if b.Count > 0 {
			out = append(out, b)
		}
	}
	return out
}

// spreadJSON is a spread in JSON: times in seconds; the histogram in the compressed encoding of HdrHistogram, version 2, in
// base 64, with values in microseconds.
type spreadJSON struct {
	Count     int64   `json:"count"`
	Min       float64 `json:"min"`
	Mean      float64 `json:"mean"`
	P50       float64 `json:"p50"`
	P90       float64 `json:"p90"`
	P99       float64 `json:"p99"`
	P999      float64 `json:"p99.9"`
	Max       float64 `json:"max"`
	Histogram string  `json:"histogram,omitempty"`
}

// MarshalJSON implements [json.Marshaler].
func (s Spread) MarshalJSON() ([]byte, error) {
	x := spreadJSON{
		s.Count,
		s.Min.Seconds(),
		s.Mean.Seconds(),
		s.P50.Seconds(),
		s.P90.Seconds(),
		s.P99.Seconds(),
		s.P999.Seconds(),
		s.Max.Seconds(),
		"",
	}
	if s.hist != nil && s.Count > 0 {
		b, err := s.hist.Encode(hdrhistogram.V2CompressedEncodingCookieBase)
		if err != nil {
			return nil, err
		}
		x.Histogram = string(b)
	}
	return json.Marshal(x)
}

// UnmarshalJSON implements [json.Unmarshaler].
func (s *Spread) UnmarshalJSON(b []byte) (err error) {
	var x spreadJSON
	if err := json.Unmarshal(b, &x); err != nil {
		return err
	}
	if x.Histogram == "" {
		*s = Spread{}
		if x.Count > 0 {
			return fmt.Errorf("a spread of %d values has no histogram", x.Count)
		}
		return nil
	}
	defer func() {
		if p := recover(); p != nil { // what is no histogram
			err = fmt.Errorf("the histogram is broken: %v", p)
		}
	}()
	const most = 4 << 20
	if len(x.Histogram) > most {
		return fmt.Errorf("a histogram of %d bytes is none of a load", len(x.Histogram))
	}
	h, err := hdrhistogram.Decode([]byte(x.Histogram))
	if err != nil {
		return fmt.Errorf("the histogram is broken: %w", err)
	}
	own := newHistogram()
	if dropped := own.Merge(h); dropped > 0 || own.TotalCount() != x.Count {
		return fmt.Errorf("the histogram has %d values, and not %d", own.TotalCount(), x.Count)
	}
	*s = spreadOf(own)
	return nil
}

// Counts are what went over. Expected is what the fleet's receivers had to get by what was sent while they were there.
type Counts struct {
	Sent       int64 `json:"sent"`
	Failed     int64 `json:"failed"` // could not be sent
	Unsent     int64 `json:"unsent"` // due while the link of its publisher had ended
	Acked      int64 `json:"acknowledged"`
	Expected   int64 `json:"expected"`
	Received   int64 `json:"received"`
	Lost       int64 `json:"lost"`
	Away       int64 `json:"lost-while-away"` // of the lost: their receiver was not connected
	Duplicated int64 `json:"duplicated"`
	OutOfOrder int64 `json:"out-of-order"`
	Handshakes int64 `json:"tls-handshakes"`
}

func (c Counts) plus(o Counts) Counts {
	return Counts{
		c.Sent + o.Sent,
		c.Failed + o.Failed,
		c.Unsent + o.Unsent,
		c.Acked + o.Acked,
		c.Expected + o.Expected,
		c.Received + o.Received,
		c.Lost + o.Lost,
		c.Away + o.Away,
		c.Duplicated + o.Duplicated,
		c.OutOfOrder + o.OutOfOrder,
		c.Handshakes + o.Handshakes,
	}
}

// StepResult is what one step came to.
type StepResult struct {
	At      time.Time     `json:"at"`
	Took    time.Duration `json:"took"` // of the sending, in nanoseconds; not of the waiting for what was under way
	Clients int           `json:"clients"`
	In      int           `json:"connected"`     // at its end
	Cut     bool          `json:"cut,omitempty"` // it was stopped before its end: it breaks nothing
	Coming  time.Duration `json:"coming"`        // how long its clients took to come in, in nanoseconds
	Refused int           `json:"refused"`       // clients that did not get in, and were given up
	Out     int           `json:"out,omitempty"` // clients that had been in, and were not at its end
	// Refusals counts tries that failed, by why.
	Refusals map[string]int `json:"refusals,omitempty"`
	Asked    float64        `json:"asked"`   // messages a second
	Reached  float64        `json:"reached"` // of them that were sent
	Heard    float64        `json:"heard"`   // messages a second that came to receivers
	Counts
	Trip    Spread  `json:"round-trip"`      // from the time at which a message was to be sent
	Ack     Spread  `json:"acknowledgement"` // of QoS 1 and 2, from when it was sent
	Connect Spread  `json:"connect"`
	Lag     Spread  `json:"lag"` // by how much later than meant the generator came to send, by its own doing
	Strain  Strain  `json:"strain"`
	Broker  Process `json:"broker"`
	// Broken are the limits of the bound that did not hold; Limits what was found to be in the way, by name.
	Broken []string          `json:"broken,omitempty"`
	Limits []string          `json:"limits,omitempty"`
	Facts  map[string]string `json:"facts,omitempty"`
}

// Second is one second of a load, for charts.
type Second struct {
	At        time.Time     `json:"at"`
	Step      int           `json:"step"`
	In        int           `json:"connected"`
	Asked     float64       `json:"asked"`
	Sent      int64         `json:"sent"`
	Heard     int64         `json:"heard"`
	Missing   int64         `json:"missing"` // not heard yet, or lost
	P50       time.Duration `json:"p50"`
	P99       time.Duration `json:"p99"`
	Max       time.Duration `json:"max"`
	CPU       float64       `json:"cpu"`        // of the generator, in cores
	BrokerCPU float64       `json:"broker-cpu"` // 0 where it is not known
	Memory    int64         `json:"memory"`
	Spread    time.Duration `json:"length"` // of the stretch: a second, or longer where seconds were joined
}

// Result is what a load came to.
type Result struct {
	Name    string        `json:"name"`
	Target  string        `json:"target"`
	Shape   Shape         `json:"shape"`
	QoS     int           `json:"qos"`
	Size    int           `json:"size"`
	Each    int           `json:"each,omitempty"` // messages of each client, where they are so many
	Bound   string        `json:"bound,omitempty"`
	Plan    string        `json:"plan,omitempty"` // what the whole fleet was to do, see [Plan.Whole]
	Shard   string        `json:"shard,omitempty"`
	Shards  []string      `json:"shards,omitempty"` // of what parts were merged
	Absent  []string      `json:"absent,omitempty"` // parts that were not there to be merged: nothing is known of them
	Started time.Time     `json:"started"`
	Took    time.Duration `json:"took"`
	Stopped bool          `json:"stopped,omitempty"` // before its end, by hand
	Steps   []StepResult  `json:"steps"`
	Seconds []Second      `json:"seconds"`
	Minutes []Minute      `json:"minutes,omitempty"`
	Total   StepResult    `json:"total"`
	// Limit says who gave way, and Why by what that is seen.
	Limit Culprit      `json:"limit"`
	Why   []string     `json:"why,omitempty"`
	Found *Found       `json:"found,omitempty"`
	Storm *StormResult `json:"storm,omitempty"`
	// Traced sessions were judged by the contract; Breaches is what was found, a line each, up to a hundred.
	Traced   int      `json:"traced"`
	Judged   int      `json:"judged"`
	Broken   int      `json:"breaches"`
	Breaches []string `json:"breach-lines,omitempty"`
}

// Minute is a line of the record of a soak.
type Minute struct {
	At     time.Time `json:"at"`
	In     int       `json:"connected"`
	Sent   int64     `json:"sent"`
	Heard  int64     `json:"heard"`
	Trip   Spread    `json:"round-trip"`
	Strain Strain    `json:"strain"`
	Broker Process   `json:"broker"`
}

// Found is what a search came to.
type Found struct {
	What    string   `json:"what"`
	Highest float64  `json:"highest"`  // at which the bound held; 0 for none
	Broke   float64  `json:"broke-at"` // the lowest at which it did not; 0 where it always held
	How     []string `json:"how,omitempty"`
	Tries   int      `json:"tries"`
}

// StormResult is how a storm was weathered.
type StormResult struct {
	What   Storm         `json:"what"`
	Of     int           `json:"of"`
	Back   int           `json:"back"` // clients, or wills
	Took   time.Duration `json:"took"` // until the last
	Spread Spread        `json:"spread"`
}

// Culprit is who gave way.
type Culprit string

// Who may have given way.
const (
	Neither   Culprit = "neither"
	Broker    Culprit = "the broker was the limit"
	Generator Culprit = "the generator was the limit"
	Unclear   Culprit = "not known"
)

// Holds tells whether the bound held at every step, or, of a search, anywhere; where parts are absent nobody knows that it
// did.
func (r *Result) Holds() bool {
	if r.Bound != "" && len(r.Absent) > 0 {
		return false
	}
	if r.Found != nil {
		return r.Found.Highest > 0
	}
	for i := range r.Steps {
		if len(r.Steps[i].Broken) > 0 {
			return false
		}
	}
	return true
}

// BrokeAt is the first step that broke the bound; -1 for none.
func (r *Result) BrokeAt() int {
	for i := range r.Steps {
		if len(r.Steps[i].Broken) > 0 {
			return i
		}
	}
	return -1
}
