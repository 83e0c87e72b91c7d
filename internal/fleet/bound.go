package fleet

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Bound is what has to hold at each step of a load: all of its limits.
type Bound []Limit

// Limit is one thing that has to hold.
type Limit struct {
	What  string        // one of Measures
	Is    string        // <, <= or =
	Span  time.Duration // of what is a time
	Count float64       // of what is a number; of a share, from 0 to 1
	Share bool          // it is written in percent
}

// Measures are what a bound may speak of, with what it is.
var Measures = []struct{ Name, Is string }{
	{"p50", "round trip, from the time at which it was to be sent"},
	{"p90", ""}, {"p99", ""}, {"p99.9", ""}, {"max", "the longest round trip"}, {"mean", "the mean round trip"},
	{"connect-p99", "time to connect"},
	{"lost", "messages lost, or their share in percent"},
	{"duplicated", "messages that came twice"},
	{"out-of-order", "messages that a later one overtook"},
	{"refused", "clients that did not get in"},
	{"short", "how far the rate stays below the one asked for, in percent"},
}

// ParseBound reads p99<100ms,lost=0.
func ParseBound(text string) (Bound, error) {
	var out Bound
	for part := range strings.SplitSeq(text, ",") {
		if part = strings.TrimSpace(part); part == "" {
			continue
		}
		l, err := parseLimit(part)
		if err != nil {
			return nil, err
		}
		out = append(out, l)
	}
	return out, nil
}

// LimitOf makes a limit of a measure and what it is to be at most: 100ms, 0, 1%.
func LimitOf(what, most string) (Limit, error) {
	sign := "<="
	switch {
	case strings.HasPrefix(most, "<"), strings.HasPrefix(most, "="):
		sign = ""
	case most == "0":
		sign = "=" // which is the same, of a count
	}
	return parseLimit(what + sign + most)
}

func parseLimit(part string) (l Limit, err error) {
	i := strings.IndexAny(part, "<=")
	if i < 0 {
		return l, fmt.Errorf("%q is no bound: write p99<100ms or lost=0", part)
	}
	l.What, l.Is = strings.TrimSpace(part[:i]), "<"
	rest := part[i+1:]
	switch {
	case part[i] == '=':
		l.Is = "="
	case strings.HasPrefix(rest, "="):
		l.Is, rest = "<=", rest[1:]
	}
	var names []string
	known := false
	for _, m := range Measures {
		names = append(names, m.Name)
		known = known || m.Name == l.What
	}
	rest = strings.TrimSpace(rest)
	if !known {
		return l, fmt.Errorf("nothing measured is called %q; there are: %s", l.What, strings.Join(names, ", "))
	}
	if l.timed() {
		l.Span, err = time.ParseDuration(rest)
		if err != nil || l.Span < 0 {
			return l, fmt.Errorf("%s is a time, such as 100ms, and not %q", l.What, rest)
		}
		return l, nil
	}
	number, share := strings.CutSuffix(rest, "%")
	l.Share = share
	if l.Count, err = strconv.ParseFloat(strings.TrimSpace(number), 64); err != nil || l.Count < 0 || l.Count > 1e15 {
		return l, fmt.Errorf("%s is a number, such as 0, or a share, such as 1%%, and not %q", l.What, rest)
	}
	if share {
		l.Count /= 100
	}
	if l.What == "short" && !share {
		return l, fmt.Errorf("short is a share: write %s%s5%%", l.What, l.Is)
	}
	return l, nil
}

func (l *Limit) timed() bool {
	switch l.What {
	case "p50", "p90", "p99", "p99.9", "max", "mean", "connect-p99":
		return true
	}
	return false
}

// String writes the limit as it is read.
func (l Limit) String() string {
	switch {
	case l.timed():
		return l.What + l.Is + l.Span.String()
	case l.Share:
		return l.What + l.Is + strconv.FormatFloat(l.Count*100, 'f', -1, 64) + "%"
	}
	return l.What + l.Is + strconv.FormatFloat(l.Count, 'f', -1, 64)
}

// String writes the bound as it is read.
func (b Bound) String() string {
	var all []string
	for _, l := range b {
		all = append(all, l.String())
	}
	return strings.Join(all, ",")
}

// holds compares what was measured with a limit.
func (l *Limit) holds(v float64) bool {
	most := l.Count
	if l.timed() {
		most = l.Span.Seconds()
	}
	switch l.Is {
	case "<":
		return v < most
	case "<=":
		return v <= most
	}
	return v == most
}

// short is a time in three digits.
func short(d time.Duration) time.Duration {
	unit := time.Duration(1)
	for d/unit >= 1000 {
		unit *= 10
	}
	return d.Round(unit)
}

// Broken tells which limits a step broke, each in words; nil for none. What was not measured breaks nothing but a
// bound on a round trip: without one it cannot be said to hold. What never came took longer than anything; and no
// bound holds where clients that had been in were gone at the end, nor where clients did not get in, unless it says
// how many may be refused.
func (b Bound) Broken(s *StepResult) (out []string) {
	if len(b) > 0 && s.Out > 0 {
		out = append(out, fmt.Sprintf("%s%d of %d clients were out at its end", wereIn, s.Out, s.Clients))
	}
	lets := slices.ContainsFunc(b, func(l Limit) bool { return l.What == "refused" })
	if len(b) > 0 && s.Refused > 0 && !lets { // what holds for those that got in is not what was asked
		out = append(out, fmt.Sprintf(
			"refused: %d of %d clients did not get in; refused<=%[1]d allows it", s.Refused, s.Clients,
		))
	}
	for _, l := range b {
		v, known := s.measure(l.What)
		never, most := s.never(), beyond[l.What]
		switch {
		case !known:
			out = append(out, l.String()+": no round trip was measured")
		case l.timed() && most > 0 && never >= most && l.holds(v):
			out = append(out, fmt.Sprintf("%s: %.3g%%%s", l, never*100, neverCame))
		case l.Share && l.What != "short":
			if of := float64(s.Expected); of > 0 {
				v /= of
			}
			if !l.holds(v) {
				out = append(out, fmt.Sprintf("%s: %.3g%%", l, v*100))
			}
		case !l.holds(v) && l.timed():
			out = append(out, fmt.Sprintf("%s: %s", l, short(time.Duration(v*1e9))))
		case !l.holds(v) && l.Share:
			out = append(out, fmt.Sprintf("%s: %.3g%%", l, v*100))
		case !l.holds(v):
			out = append(out, fmt.Sprintf("%s: %g", l, v))
		}
	}
	return out
}

// What is said of a step whose clients were gone, and of messages that have no round trip, in place of a figure.
const (
	wereIn    = "connected: "
	neverCame = " never came"
)

// beyond is the share of the messages that may take longer than a measure tells.
var beyond = map[string]float64{"p50": .5, "p90": .1, "p99": .01, "p99.9": .001, "max": 1e-15}

// never is the share of what was due that was lost, or could not be sent: it took longer than anything.
func (s *StepResult) never() float64 {
	due := s.Expected + s.Unsent
	if due <= 0 {
		return 0
	}
	return float64(s.Lost+s.Unsent) / float64(due)
}

// measure is what a step has of a measure: seconds, a count, or a share; not known where no round trip was measured.
func (s *StepResult) measure(what string) (v float64, known bool) {
	x := &s.Trip
	if d, is := map[string]time.Duration{"p50": x.P50, "p90": x.P90, "p99": x.P99, "p99.9": x.P999, "max": x.Max, "mean": x.Mean}[what]; is {
		return d.Seconds(), x.Count > 0
	}
	switch what {
	case "connect-p99":
		return s.Connect.P99.Seconds(), true
	case "lost":
		return float64(s.Lost), true
	case "duplicated":
		return float64(s.Duplicated), true
	case "out-of-order":
		return float64(s.OutOfOrder), true
	case "refused":
		return float64(s.Refused), true
	case "short":
		if s.Asked <= 0 {
			return 0, true
		}
		return max(0, 1-s.Reached/s.Asked), true
	}
	return 0, true
}
