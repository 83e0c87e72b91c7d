package fleet

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/plain"
)

// The reasons why a client does not get in that are told apart by name.
const (
	ownDescriptors = "this program may open no more files"
	noPort         = "no local port is free"
	notListening   = "nobody listens there (connection refused)"
	closedUnsaid   = "the connection was closed without a word"
	resetUnsaid    = "the connection was reset"
	noAnswer       = "no answer in time"
	brokeRule      = "what it sent breaks the standard"
	linkEnded      = "link ended: "      // before the reason of one that was in
	linkThrown     = "link thrown out: " // where its end was surely the broker's doing
)

// causeOf is why something failed, in few words that are the same for the same reason.
func causeOf(err error) string {
	var refused *client.RefusedError
	var ended *client.EndedError
	switch {
	case errors.As(err, &refused):
		return "CONNACK: " + refused.Error()
	case errors.Is(err, syscall.EMFILE), errors.Is(err, syscall.ENFILE):
		return ownDescriptors
	case errors.Is(err, syscall.EADDRNOTAVAIL):
		return noPort
	case errors.Is(err, syscall.ECONNREFUSED):
		return notListening
	case errors.Is(err, context.DeadlineExceeded),
		errors.Is(err, os.ErrDeadlineExceeded),
		errors.Is(err, syscall.ETIMEDOUT):
		return noAnswer
	case errors.Is(err, syscall.ECONNRESET), client.BlameOf(err) == client.ByReset:
		return resetUnsaid
	case errors.As(err, &ended),
		errors.Is(err, io.EOF),
		errors.Is(err, syscall.EPIPE),
		errors.Is(err, io.ErrClosedPipe):
		switch {
		case ended == nil:
			return closedUnsaid
		case ended.Broken != nil || ended.Rule: // we closed it for that
			_, rule, _ := strings.Cut(ended.Reason, ": ")
			return clipped(brokeRule + ": " + rule)
		case ended.Silent > 0:
			return noAnswer
		case ended.Coded, client.BlameOf(err) == client.ByUs:
			return ended.Error()
		}
		return closedUnsaid
	}
	var e net.Error
	if errors.As(err, &e) && e.Timeout() {
		return noAnswer
	}
	return clipped(portPattern.ReplaceAllString(err.Error(), ":…")) // an address in it would make each its own reason
}

func clipped(text string) string {
	const most = 160
	return strings.ToValidUTF8(text[:min(len(text), most)], "")
}

var portPattern = regexp.MustCompile(`:\d{4,5}\b`)

// What the log of a broker says of limits.
var (
	logDescriptors = regexp.MustCompile(`(?i)too many open files|file descriptor|out of (?:file )?handles|EMFILE`)
	logCap         = regexp.MustCompile(
		`(?i)max[_ ]connections|connection limit|maximum (?:number of )?(?:client )?connections|too many connections|licen[cs]e`,
	)
	logDropped = regexp.MustCompile(
		`(?i)\bmessages? (?:are|is|were|was|being|has been|have been)?\s*(?:being )?dropp|dropped .*(?:queue|message)|queue (?:is )?full|max[_ ]queued`,
	)
)

// causes names the limits that a step ran into.
func (f *Fleet) causes(s *StepResult) (out []string) {
	say := func(format string, args ...any) {
		if text := fmt.Sprintf(format, args...); !slices.Contains(out, text) {
			out = append(out, text)
		}
	}
	var log []string
	if f.plan.Log != nil {
		log = f.plan.Log(f.began)
	}
	told := func(re *regexp.Regexp) string {
		for _, line := range slices.Backward(log) {
			if re.MatchString(line) {
				return line
			}
		}
		return ""
	}
	var silent []string // the ways in which clients were turned away without a word
	for _, why := range slices.Sorted(maps.Keys(s.Refusals)) {
		n := s.Refusals[why]
		switch {
		case why == ownDescriptors:
			say(
				"the generator's descriptors: this program may open %d files; raise it with ulimit -n",
				s.Strain.Allowed,
			)
		case why == noPort:
			say("the generator's ports: no local port is free any more; dial from more addresses with --local")
		case why == notListening && f.ends.Load() > 0:
			say(
				"the broker was down for a while: %d links ended, and %d tries to connect found nobody listening",
				f.ends.Load(),
				n,
			)
		case why == closedUnsaid, why == resetUnsaid, why == notListening && s.In > 0, why == noAnswer && s.In > 0:
			silent = append(silent, why)
		case strings.HasPrefix(why, linkEnded), strings.HasPrefix(why, linkThrown):
			_, reason, _ := strings.Cut(why, ": ")
			say("%s ended: %s", plain.Count(n, "link"), reason)
		case strings.HasPrefix(why, "CONNACK"):
			say("%d tries to connect were refused with %s", n, strings.TrimPrefix(why, "CONNACK: "))
		default:
			say("%s: %s", plain.Count(n, "time"), why)
		}
	}
	if len(silent) > 0 {
		n := 0
		said := make([]string, len(silent))
		for i, why := range silent {
			n += s.Refusals[why]
			said[i] = fmt.Sprintf("%d times %s", s.Refusals[why], why)
		}
		if len(silent) == 1 {
			said = silent
		}
		capped(s, n, strings.Join(said, ", "), told, say)
	}
	if s.Unsent > 0 {
		say("due while the links of their publishers had ended: %s", plain.Count(s.Unsent, "message"))
	}
	if s.Lost > s.Away {
		lost := s.Lost - s.Away
		const still, some = time.Second, 10 // of one message that was lost nothing follows
		if f.unheard >= some && f.sentAt.Sub(f.cameAt) > still {
			since := "at all"
			if !f.cameAt.IsZero() {
				since = "any more from " + f.cameAt.Format("15:04:05") + " on"
			}
			say("nothing came %s, while messages were sent: the broker stood still, or the way to it", since)
		}
		switch line := told(logDropped); {
		case line != "":
			say("a queue of the broker's: %s did not come; its log says: %s", plain.Count(lost, "message"), line)
		case cmp.Or(f.dropped, "0") != cmp.Or(s.Facts["dropped"], "0"):
			say(
				"a queue of the broker's: %s did not come, and it tells that it dropped %s in all, before %s",
				plain.Count(lost, "message"),
				s.Facts["dropped"],
				cmp.Or(f.dropped, "0"),
			)
		default:
			say(
				"%s did not come to receivers that were connected: the broker took what was sent and did not pass it on, such as for a queue that was full",
				plain.Count(lost, "message"),
			)
		}
	}
	if s.Away > 0 {
		say("lost with the links of their receivers, or while these were not connected: %s", plain.Count(s.Away, "message"))
	}
	return out
}

// capped tells a cap on connections from a lack of descriptors, as far as that can be.
func capped(s *StepResult, n int, why string, told func(*regexp.Regexp) string, say func(string, ...any)) {
	const spare = 24 // descriptors that a process keeps for other things
	p := s.Broker
	descriptors, limit := told(logDescriptors), told(logCap)
	switch {
	case p.Known && !p.Own && p.Allowed > 0 && uint64(p.Descriptors)+spare >= p.Allowed:
		say(
			"the broker's descriptors: its process has %d of %d open, and %d tries failed: %s",
			p.Descriptors,
			p.Allowed,
			n,
			why,
		)
	case descriptors != "":
		say("the broker's descriptors: its log says: %s", descriptors)
	case limit != "":
		say("a cap on connections: the broker's log says: %s", limit)
	case s.In == 0: // a cap lets some in
		say("no client stays in: %d tries failed: %s", n, why)
	case p.Known && !p.Own && p.Allowed > 0:
		say(
			"a cap on connections, of the broker's configuration or licence: %d clients are in, %d tries failed (%s), and its process has only %d of %d descriptors open",
			s.In,
			n,
			why,
			p.Descriptors,
			p.Allowed,
		)
	default:
		say(
			"a cap on connections, or the broker's limit of descriptors: %d clients are in, and %d tries failed: %s. From outside the two look alike; follow its log, or run this on its machine",
			s.In,
			n,
			why,
		)
	}
}

// endOf is under which name the end of a link is counted: apart where it was surely the broker's doing, by its
// DISCONNECT or because it broke a rule of the standard.
func endOf(err error) string {
	var ended *client.EndedError
	if errors.As(err, &ended) && (ended.Coded || ended.Broken != nil || ended.Rule) {
		return linkThrown + causeOf(err)
	}
	return linkEnded + causeOf(err)
}

// thrown tells whether links ended, and all surely by the broker's doing.
func (s *StepResult) thrown() (all bool) {
	for why := range s.Refusals {
		if strings.HasPrefix(why, linkEnded) {
			return false
		}
		all = all || strings.HasPrefix(why, linkThrown)
	}
	return all
}

// sum adds the steps up.
func (r *Result) sum() {
	t := StepResult{At: r.Started, Refusals: map[string]int{}}
	var sending time.Duration
	for i := range r.Steps {
		s := &r.Steps[i]
		t.join(
			StepResult{
				Counts:   s.Counts,
				Trip:     s.Trip,
				Ack:      s.Ack,
				Connect:  s.Connect,
				Lag:      s.Lag,
				Refusals: s.Refusals,
			},
		)
		t.Clients, t.In = max(t.Clients, s.Clients), max(t.In, s.In)
		t.Refused, t.Out = max(t.Refused, s.Refused), max(t.Out, s.Out)
		t.Asked, t.Reached, t.Heard = max(t.Asked, s.Asked), max(t.Reached, s.Reached), max(t.Heard, s.Heard)
		sending += s.Took
		t.Coming += s.Coming
		for _, l := range s.Limits {
			if !slices.Contains(t.Limits, l) {
				t.Limits = append(t.Limits, l)
			}
		}
		if s.Strain.CPU >= t.Strain.CPU {
			t.Strain = s.Strain
		}
		if s.Broker.Known && s.Broker.CPU >= t.Broker.CPU {
			t.Broker = s.Broker
		}
		t.Facts = s.Facts
	}
	t.Took = sending
	t.Lost = max(0, t.Expected-t.Received)
	t.Away = min(t.Away, t.Lost)
	r.Total = t
}

// Figures at which the generator is taken for the limit.
const (
	busyCores = 0.9                   // of those that it may use
	lateMost  = 20 * time.Millisecond // of the worst hundredth
	fewer     = 0.95                  // of what was asked for
)

// gaveWay is the step to judge by: where the bound broke, of a search the last one at what it found too much; without
// that the first at which something did not go well. nil for none.
func (r *Result) gaveWay() *StepResult {
	if f := r.Found; f != nil && f.Broke > 0 {
		for i := range slices.Backward(r.Steps) {
			x := &r.Steps[i]
			if f.What == "rate" && x.Asked == f.Broke || f.What == "clients" && float64(x.Clients) == f.Broke {
				return x
			}
		}
	}
	if i := r.BrokeAt(); i >= 0 && !r.Steps[i].Cut {
		return &r.Steps[i]
	}
	for i := range r.Steps {
		x := &r.Steps[i]
		if !x.Cut &&
			(x.Lost > 0 || x.Out > 0 || x.Refused > 0 || r.Each == 0 && x.Asked > 0 && x.Reached < fewer*x.Asked) {
			return x
		}
	}
	return nil
}

// judge says who gave way, by the first step at which something did.
func (r *Result) judge() {
	why := func(format string, args ...any) { r.Why = append(r.Why, fmt.Sprintf(format, args...)) }
	s := r.gaveWay()
	if len(r.Steps) == 0 {
		r.Limit = Unclear
		return
	}
	if s == nil {
		r.Limit = Neither
		last := &r.Steps[len(r.Steps)-1]
		for i := range slices.Backward(r.Steps) {
			if !r.Steps[i].Cut {
				last = &r.Steps[i]
				break
			}
		}
		if last.Cut {
			why("it was stopped before a step came to its end")
			return
		}
		if r.Bound != "" {
			why("the bound held at every step that came to its end")
		}
		if r.Each > 0 {
			why("all clients were in, and sent what they were to")
		} else if last.Asked == 0 {
			why("all clients were in")
		} else {
			why("all clients were in, and what was asked for was reached (%s of %s messages a second at the last step)",
				rounded(last.Reached), rounded(last.Asked))
		}
		return
	}
	share := s.Strain.CPU / float64(max(1, s.Strain.Cores))
	// A generator that is late or busy makes round trips long and rates low.
	slow := r.Each == 0 && s.Asked > 0 && s.Reached < fewer*s.Asked ||
		slices.ContainsFunc(s.Broken, func(text string) bool {
			return !strings.HasPrefix(text, "lost") && !strings.HasPrefix(text, "refused") &&
				!strings.HasPrefix(text, "duplicated") &&
				!strings.HasPrefix(text, "out-of-order") &&
				!strings.HasPrefix(text, wereIn) && !strings.HasSuffix(text, neverCame)
		})
	tired := r.tired(s, share)
	var own []string
	for _, l := range s.Limits {
		if strings.HasPrefix(l, "the generator's") {
			own = append(own, l)
		}
	}
	lost, refused := s.Lost-s.Away, 0
	for why, n := range s.Refusals {
		switch {
		case strings.HasPrefix(why, "CONNACK"), strings.HasPrefix(why, brokeRule),
			s.Refused > 0 && (why == closedUnsaid || why == resetUnsaid):
			refused += n
		}
	}
	if len(own) > 0 { // what is lost goes with it
		lost, refused = 0, 0
	}
	if slow {
		own = append(own, tired...)
	}
	broker := ""
	switch p := s.Broker; {
	case p.Known && p.Own:
		broker = "the stand-in is a part of this program, so what it used is among that"
	case p.Known:
		broker = fmt.Sprintf("the broker's process used %.2f cores of this machine", p.CPU)
	}
	for _, b := range s.Broken {
		why("bound broken at %d clients, %s messages a second: %s", s.Clients, rounded(s.Asked), b)
	}
	const oneCore = 0.85
	// What went with links that ended may have been lost by the broker, or on the way to it.
	linksOnly := s.Lost+s.Unsent+int64(s.Out) > 0 && s.Lost == s.Away && s.Refused == 0 && s.Refusals[notListening] == 0 &&
		!slices.ContainsFunc(s.Broken, func(text string) bool {
			return !strings.HasPrefix(text, "lost") && !strings.HasPrefix(text, "short") && !strings.HasPrefix(text, wereIn) &&
				!strings.HasSuffix(text, neverCame)
		}) &&
		len(own) == 0
	// What receivers read too late fills a broker's queue, so that it drops: but only as much as they were late.
	tenfold := s.Lag.P90 <= lateMost && lost > s.Expected/10
	switch {
	case refused > 0: // whatever else: nobody is refused because the other is slow, and who is not in does not send
		r.Limit = Broker
		why("%d tries to connect were refused", refused)
		if broker != "" {
			why("%s", broker)
		}
	case lost > 0 && (len(tired) == 0 || tenfold):
		r.Limit = Broker
		if len(tired) == 0 {
			r.hadTimeLeft(s, broker)
			break
		}
		why(
			"the generator gave way too (%s), but came on time nine times in ten, which does not explain %d of %d lost",
			strings.Join(tired, ", "), lost, s.Expected,
		)
		if broker != "" {
			why("%s", broker)
		}
	case lost > 0:
		r.Limit = Unclear
		why(
			"%d messages did not come while the generator was at its end (%s): what its receivers read too late fills a broker's queue as well",
			lost,
			strings.Join(tired, ", "),
		)
		if broker != "" {
			why("%s", broker)
		}
	case linksOnly && s.thrown():
		r.Limit = Broker
		why("the broker ended links, or made their clients end them: "+
			"%d messages were lost with them, %d not sent, and %d clients were out at the end", s.Lost, s.Unsent, s.Out)
	case linksOnly:
		r.Limit = Unclear
		why(
			"links ended, by the broker or on the way to it: with them %d messages were lost, %d not sent, and %d clients were out at the end",
			s.Lost,
			s.Unsent,
			s.Out,
		)
	case s.Broker.Known && !s.Broker.Own && s.Broker.CPU >= oneCore && share >= busyCores:
		r.Limit = Unclear
		why(
			"both are at their end, and share this machine: %s, and %s. Put the generator on another machine",
			strings.Join(own, ", "),
			broker,
		)
	case len(own) > 0 && s.Broker.Own:
		r.Limit = Unclear
		why("%s, and %s: put the load on a broker of its own", strings.Join(own, ", "), broker)
	case len(own) > 0:
		r.Limit = Generator
		why("%s", strings.Join(own, "; "))
		if broker != "" {
			why("%s", broker)
		}
	default:
		r.Limit = Broker
		r.hadTimeLeft(s, broker)
	}
	for _, l := range s.Limits {
		if !slices.Contains(own, l) {
			why("%s", l)
		}
	}
}

// hadTimeLeft says why it was not the generator.
func (r *Result) hadTimeLeft(s *StepResult, broker string) {
	r.Why = append(r.Why, fmt.Sprintf(
		"the generator had time left: it used %.2f of %d cores, and came to send %s late at the 99th percentile",
		s.Strain.CPU, s.Strain.Cores, s.Lag.P99.Round(10*time.Microsecond),
	))
	if broker != "" {
		r.Why = append(r.Why, broker)
	}
}

// tired says at what the generator was at its end.
func (r *Result) tired(s *StepResult, share float64) (out []string) {
	if share >= busyCores {
		out = append(out, fmt.Sprintf("it used %.1f of %d cores", s.Strain.CPU, s.Strain.Cores))
	}
	if r.late(s) {
		out = append(out, fmt.Sprintf(
			"it came to send %s late, by its own doing, at the 99th percentile",
			s.Lag.P99.Round(100*time.Microsecond),
		))
	}
	return out
}

// late tells whether the generator came so late that it explains what was broken: a rate that was not reached or messages
// that were lost by [lateMost], and a round trip where it would have held without that, there and back.
func (r *Result) late(s *StepResult) bool {
	if s.Lag.Count == 0 {
		return false
	}
	short := r.Each == 0 && s.Asked > 0 && s.Reached < fewer*s.Asked
	if (short || s.Lost > s.Away) && s.Lag.P99 > lateMost {
		return true
	}
	bound, _ := ParseBound(r.Bound) // as it was written by itself
	for _, l := range bound {
		if !l.timed() || l.What == "connect-p99" ||
			!slices.ContainsFunc(s.Broken, func(text string) bool { return strings.HasPrefix(text, l.String()+": ") }) {
			continue
		}
		lag := s.Lag.P99
		switch l.What {
		case "p99.9":
			lag = s.Lag.P999
		case "max":
			lag = s.Lag.Max
		}
		v, known := s.measure(l.What)
		if known && !l.holds(v) && time.Duration(v*float64(time.Second))-2*lag <= l.Span {
			return true
		}
	}
	return false
}

func rounded(f float64) string {
	switch {
	case f >= 100:
		return strconv.FormatFloat(f, 'f', 0, 64)
	case f >= 10:
		return strconv.FormatFloat(f, 'f', 1, 64)
	}
	return strconv.FormatFloat(f, 'f', 2, 64)
}
