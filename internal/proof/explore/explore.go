package explore

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"time"

	"hodstone/internal/mqtt/packet"
	"hodstone/internal/proof"
	"hodstone/internal/proof/model"
	"hodstone/internal/trace"
)

// Options say how long, and with which conversations.
type Options struct {
	// For is how long to explore; Conversations bounds it as well, where it is not 0.
	For           time.Duration
	Conversations int
	// Seed makes the conversations; the same seed makes the same ones.
	Seed uint64
	// Versions are gone through in turn; 3.1.1 and 5 where it is nil.
	Versions []packet.Version
	// Parallel is how many conversations go on at a time; 16 where it is 0: most of each is waiting.
	Parallel int
	// Findings ends it once there are so many; 1 where it is 0.
	Findings int
	// Known tells of a violation that is known of the broker, and needs no looking into; nil for none.
	Known func(v packet.Version, actions []Action, found *model.Violation) bool
	// Told is told how far it has come; it must not wait. May be nil.
	Told func(Progress)
}

// Progress is how far an exploration has come.
type Progress struct {
	Conversations, Actions int
	Suspicions             int // that were tried again
	// Findings are those so far.
	Findings []Finding
	Doing    string
	Took     time.Duration
}

// Finding is a rule that was seen to be broken, three times out of three, in the fewest steps.
type Finding struct {
	Rule    *model.Rule
	Version packet.Version
	Text    string
	// Seed and Number say which conversation it came from, and Actions what is left of it.
	Seed    uint64
	Number  int
	Actions []Action
	// Before is how many actions the conversation had.
	Before int
	// Takes is what it comes of, where that was found out: findings with the same are probably of one defect. "" where
	// not.
	Takes  string
	Result proof.Result
}

// Report is what came of an exploration.
type Report struct {
	Progress
	Seed uint64
	// Tried counts which action followed which.
	Tried map[[2]Kind]int
	// Unshown are rules that looked broken once, and not again.
	Unshown []string
	// Queue is how many messages the broker keeps for an absent client, 0 where it keeps any number, or nothing made it
	// look like keeping few.
	Queue int
	// Largest is the size of the largest payload that it passes on, in bytes beside its mark, of those that conversations
	// have; 0 where it passes on all, or nothing made it look otherwise.
	Largest int
}

// Pairs counts the pairs of actions that were tried, of all that there are, and lists those that were not.
func (r *Report) Pairs() (tried, all int, not [][2]Kind) {
	for _, a := range Kinds() {
		for _, b := range Kinds() {
			all++
			if r.Tried[[2]Kind{a, b}] > 0 {
				tried++
			} else {
				not = append(not, [2]Kind{a, b})
			}
		}
	}
	return tried, all, not
}

// length is how many actions a conversation has.
const length = 32

// explorer carries an exploration out.
type explorer struct {
	target proof.Target
	offer  proof.Offer
	o      Options
	run    string
	start  time.Time

	mu      sync.Mutex
	report  Report
	talks   int  // that were begun, for their names
	counted bool // what the broker keeps for an absent client
	sized   bool // what it passes on
	handled map[string]bool
}

// Run explores a broker: what it offers is found out first, and taken out of the universe where it is not offered.
func Run(ctx context.Context, target proof.Target, o Options) (*Report, error) {
	if o.Versions == nil {
		o.Versions = []packet.Version{packet.V311, packet.V5}
	}
	if o.Parallel == 0 {
		o.Parallel = 16
	}
	if o.Findings == 0 {
		o.Findings = 1
	}
	offer, err := proof.Look(ctx, target, o.Versions)
	if err != nil {
		return nil, err
	}
	versions := slices.DeleteFunc(
		slices.Clone(o.Versions),
		func(v packet.Version) bool { return offer.Refused[v] != "" || offer.Shut[v] != "" },
	)
	if len(versions) == 0 {
		return nil, errors.New("the broker takes none of the versions that are to be explored")
	}
	e := &explorer{
		target:  target,
		offer:   offer,
		o:       o,
		run:     proof.RunID(),
		start:   time.Now(),
		handled: map[string]bool{},
		report:  Report{Seed: o.Seed, Tried: map[[2]Kind]int{}},
	}
	e.explore(ctx, versions)
	e.report.Took = time.Since(e.start)
	return &e.report, nil
}

// over tells that it is enough.
func (e *explorer) over(ctx context.Context) bool {
	e.mu.Lock()
	defer e.mu.Unlock()
	return ctx.Err() != nil || e.o.For > 0 && time.Since(e.start) >= e.o.For ||
		e.o.Conversations > 0 && e.report.Conversations >= e.o.Conversations ||
		len(e.report.Findings) >= e.o.Findings
}

// suspicion is a conversation that showed something.
type suspicion struct {
	number  int
	u       universe
	actions []Action
	v       *model.Violation
}

// explore goes through rounds of conversations side by side; what one shows is looked into before the next round. The
// weights move with the rounds, so that the same seed makes the same conversations whatever comes first.
func (e *explorer) explore(ctx context.Context, versions []packet.Version) {
	for number := 0; !e.over(ctx); {
		var wg sync.WaitGroup
		shown := make([]*suspicion, e.o.Parallel)
		for i := range e.o.Parallel {
			u := universeOf(&e.offer, versions[number%len(versions)])
			if most := e.report.Largest; most > 0 {
				u.largest = min(u.largest, most)
			}
			rnd := rand.New(rand.NewPCG(e.o.Seed, uint64(number)))
			e.mu.Lock()
			actions := u.generate(rnd, length, e.report.Tried)
			e.report.Conversations++
			e.report.Actions += len(actions)
			e.mu.Unlock()
			n := number
			number++
			wg.Go(func() {
				if v, t := e.talk(ctx, u.version, actions, quick); v != nil {
					shown[i] = &suspicion{n, u, actions[:t.reached], v}
				}
			})
		}
		wg.Wait()
		e.tell("")
		for _, s := range shown {
			if s != nil && ctx.Err() == nil &&
				(len(e.report.Findings) == 0 || !e.over(ctx)) { // one, though the time be over
				e.lookInto(ctx, s)
			}
		}
	}
}

func (e *explorer) tell(doing string) {
	if e.o.Told == nil {
		return
	}
	e.mu.Lock()
	p := e.report.Progress
	p.Findings = slices.Clone(p.Findings)
	e.mu.Unlock()
	p.Doing, p.Took = doing, time.Since(e.start)
	e.o.Told(p)
}

// mostEvents is how many packets of a conversation are kept.
const mostEvents = 4000

// talk carries a conversation out, under names of its own.
func (e *explorer) talk(ctx context.Context, v packet.Version, actions []Action, p patience) (*model.Violation, *talk) {
	e.mu.Lock()
	e.talks++
	n := e.talks
	keeps := model.New(v)
	keeps.Queue = e.report.Queue
	e.mu.Unlock()
	t := &talk{
		target:  &e.target,
		version: v,
		p:       p,
		prefix:  fmt.Sprintf("%s/%s/x%d/", proof.TopicRoot, e.run, n),
		model:   keeps,
		log:     trace.NewLog(mostEvents),
		most:    e.offer.QoS,
		in:      make(chan event, 256),
		done:    make(chan struct{}),
		peers:   make([]*peer, len(names)),
		links:   make([]int, len(names)),
		kept:    map[int]bool{},
	}
	for i := range names {
		t.ids = append(t.ids, e.target.MakeID(e.run, n*len(names)+i))
		t.flows = append(t.flows, outbox{})
	}
	ctx, cancel := context.WithTimeout(ctx, longest+time.Duration(len(actions))*(p.must+p.quiet))
	defer cancel()
	found := t.run(ctx, actions)
	if found != nil { // by the names that the steps use
		named := *found
		for i, id := range t.ids {
			named.Text = strings.ReplaceAll(named.Text, id, names[i])
		}
		found = &named
	}
	return found, t
}

// longest is how long a conversation may take beside what its actions wait for: one whose broker hangs is given up, and
// tells nothing.
const longest = 30 * time.Second

// confirmations is how often a rule has to be seen broken, each time.
const confirmations = 3

// lookInto tries a suspicion again, patiently, and shortens it.
func (e *explorer) lookInto(ctx context.Context, s *suspicion) {
	key := s.u.version.String() + " " + s.v.Rule.Name
	if e.handled[key] || e.o.Known != nil && e.o.Known(s.u.version, s.actions, s.v) {
		return
	}
	e.mu.Lock()
	e.report.Suspicions++
	e.mu.Unlock()
	e.tell("trying again: " + s.v.Error())
	e.rulesOut(ctx, s)
	if !e.shows(ctx, s.u.version, s.actions, s.v.Rule, thrifty, confirmations) {
		e.mu.Lock()
		e.report.Unshown = append(
			e.report.Unshown,
			fmt.Sprintf("%s, in conversation %d of MQTT %s", s.v.Error(), s.number, s.u.version),
		)
		e.mu.Unlock()
		return
	}
	e.handled[key] = true
	e.tell("shortening: " + s.v.Error())
	short := e.shorten(ctx, s)
	if !e.shows(ctx, s.u.version, short, s.v.Rule, patient, confirmations) {
		short = s.actions // the short form shows it now and then only
	}
	v, t := e.talk(ctx, s.u.version, short, patient)
	if v == nil || v.Rule != s.v.Rule {
		return
	}
	f := Finding{
		Rule:    v.Rule,
		Version: s.u.version,
		Text:    v.Text,
		Seed:    e.o.Seed,
		Number:  s.number,
		Actions: short,
		Before:  length,
		Result:  t.result(v),
	}
	f.Result.Notes = append(
		f.Result.Notes,
		fmt.Sprintf("conversation %d of seed %d, shortened from %d actions to %d; seen %d times out of %d",
			s.number, e.o.Seed, length, len(short), confirmations, confirmations),
	)
	f.Takes = e.takes(ctx, f.Version, short)
	e.tellTakes(&f)
	e.mu.Lock()
	e.report.Findings = append(e.report.Findings, f)
	e.mu.Unlock()
}

// shows tells whether a conversation shows a rule broken, so many times out of as many.
func (e *explorer) shows(
	ctx context.Context,
	v packet.Version,
	actions []Action,
	r *model.Rule,
	p patience,
	times int,
) bool {
	shown := make([]bool, times)
	var wg sync.WaitGroup
	for i := range times { // under names of their own: side by side they are as good as one after the other
		wg.Go(func() {
			got, _ := e.talk(ctx, v, actions, p)
			shown[i] = got != nil && got.Rule == r
		})
	}
	wg.Wait()
	return ctx.Err() == nil && !slices.Contains(shown, false)
}

// shorten leaves out actions while the same rule breaks, in chunks and one by one, and then makes the rest plainer.
// Several ways are tried side by side; what can be left out by itself is left out together, where that shows it too.
func (e *explorer) shorten(ctx context.Context, s *suspicion) []Action {
	now := s.actions
	for chunk := max(1, len(now)/2); ctx.Err() == nil; {
		var ways [][]Action
		for at := 0; at < len(now) && len(now) > chunk; at += chunk {
			ways = append(ways, slices.Delete(slices.Clone(now), at, min(at+chunk, len(now))))
		}
		some := e.which(ctx, s, ways)
		if len(some) == 0 {
			if chunk == 1 {
				return e.plainer(ctx, s, now)
			}
			chunk /= 2
			continue
		}
		var left []Action
		for at := 0; at < len(now); at += chunk {
			if !slices.Contains(some, at/chunk) {
				left = append(left, now[at:min(at+chunk, len(now))]...)
			}
		}
		if now = ways[some[0]]; len(some) > 1 && len(left) > 0 && len(e.which(ctx, s, [][]Action{left})) > 0 {
			now = left
		}
		chunk = min(chunk, max(1, len(now)/2))
	}
	return now
}

// plainer makes what is left plainer: lower QoS, shorter payloads, exact filters, no options.
func (e *explorer) plainer(ctx context.Context, s *suspicion, now []Action) []Action {
	for ctx.Err() == nil {
		var ways [][]Action
		for i := range now {
			for _, plain := range now[i].plainer() {
				if s.u.fits(&plain) {
					x := slices.Clone(now)
					x[i] = plain
					ways = append(ways, x)
				}
			}
		}
		some := e.which(ctx, s, ways)
		if len(some) == 0 {
			return now
		}
		now = ways[some[0]]
	}
	return now
}

// which tries ways side by side, and returns the places of those that show the same rule broken, of the first batch
// that has any.
func (e *explorer) which(ctx context.Context, s *suspicion, ways [][]Action) (out []int) {
	for at := 0; at < len(ways) && len(out) == 0 && ctx.Err() == nil; at += widest {
		batch := ways[at:min(at+widest, len(ways))]
		shown := make([]bool, len(batch))
		var wg sync.WaitGroup
		for i, x := range batch {
			wg.Go(func() { shown[i] = e.shows(ctx, s.u.version, x, s.v.Rule, thrifty, 1) })
		}
		wg.Wait()
		for i, is := range shown {
			if is {
				out = append(out, at+i)
			}
		}
	}
	return out
}

// widest is how many ways are tried side by side.
const widest = 32

// result is a finding's conversation as the result of a check.
func (t *talk) result(v *model.Violation) proof.Result {
	c := &proof.Check{
		Name:     "explored." + v.Rule.Name,
		Title:    v.Rule.Text,
		Expected: v.Rule.Text,
		Sections: proof.Sections{V31: v.Rule.V311, V311: v.Rule.V311, V5: v.Rule.V5},
	}
	r := proof.Result{
		Check:    c,
		Version:  t.version,
		Verdict:  proof.Broken,
		Expected: c.Expected,
		Seen:     v.Text,
		At:       t.begun,
		Took:     time.Since(t.begun),
		Steps:    t.steps,
		Clients:  t.clients,
	}
	r.Evidence, _ = t.log.Read(1, mostEvents)
	if n := len(r.Evidence); n > 0 {
		r.Decisive = []uint64{r.Evidence[n-1].Seq}
		for i := range slices.Backward(r.Evidence) { // the last packet that came, which showed it
			if r.Evidence[i].Kind == trace.Received {
				r.Decisive = []uint64{r.Evidence[i].Seq}
				break
			}
		}
	}
	return r
}
