package contract

import (
	"container/heap"
	"time"
)

// eye is an observer, as the judge knows it: it judges silence only where it is sure that somebody saw.
type eye struct {
	name  string
	open  bool
	since time.Time // it sees, or is blind
	seen  time.Time // until when it is proven to have seen all
	due   deadlines
	reads func(topic string) bool // what it is known to be able to read; nil for everything
	blind time.Duration           // in all, up to since where it sees
}

// Sight is how one observer sees.
type Sight struct {
	// Eye is the observer's broker.
	Eye  string
	Open bool
	// Since is since when it sees, or is blind.
	Since time.Time
	// Blind is how long it was blind in all, from when it first saw; while it is blind, up to now. Ever tells
	// that it saw at all.
	Blind time.Duration
	Ever  bool
}

// Expect tells that there is an observer who does not see yet. What was heard nowhere is not missed before
// all have seen that it does not come.
func (j *Judge) Expect(name string, now time.Time) {
	if j.eyes[name] == nil {
		j.eyes[name] = &eye{name: name, since: now}
		j.names = append(j.names, name)
	}
}

// Sees tells that an observer sees from now on. What was due before is not counted. reads tells of which
// topics it is known that it may read them, nil for all: of the others, what was never heard is not missed.
func (j *Judge) Sees(name string, now time.Time, reads func(topic string) bool) {
	j.Expect(name, now)
	e := j.eyes[name]
	if e.open {
		return
	}
	if !e.seen.IsZero() {
		e.blind += now.Sub(e.since)
	}
	e.open, e.since, e.seen, e.reads = true, now, now, reads
	for _, cell := range j.order {
		if cell.eye == e || cell.eye == nil && j.allOpen() && j.allRead(cell.Topic) {
			j.look(&Pass{Fact: FactSight, At: now, Clause: cell.Clause, Cell: cell}, false)
		}
	}
}

// Blind tells that an observer has not seen anything since a time: nothing is judged by its silence until
// it sees again. What it was proven to have seen before stays judged.
func (j *Judge) Blind(name string, since time.Time) {
	e := j.eyes[name]
	if e == nil || !e.open {
		return
	}
	e.open = false
	if e.since = e.seen; since.Before(e.since) || e.since.IsZero() {
		e.since = since
	}
	e.due.drop()
	j.everywhere.due.drop()
}

func (h *deadlines) drop() {
	for _, d := range *h {
		d.index = -1
	}
	*h = nil
}

// Seen tells that an observer has seen all that came up to a time. It returns the breaches of those who
// had to say something by then.
func (j *Judge) Seen(name string, until time.Time) []Breach { return j.passed(name, until, true) }

// Before is Seen for all that came before a moment: what is due at that very moment may still come. [Judge.Message]
// does the same, without telling.
func (j *Judge) Before(name string, at time.Time) []Breach { return j.passed(name, at, false) }

// passed is Seen; deadlines at the very moment count where they are included.
func (j *Judge) passed(name string, until time.Time, included bool) (out []Breach) {
	e := j.eye
	if e == nil || e.name != name {
		e = j.eyes[name]
		j.eye = e
	}
	if e == nil || !e.open {
		return nil
	}
	if until.After(e.seen) {
		e.seen = until
	}
	out = j.fire(e, e.seen, included)
	if j.everywhere.due.Len() > 0 && j.allOpen() {
		// What was heard nowhere yet is missed when all observers have seen that it did not come.
		first := e.seen
		for _, x := range j.eyes {
			if x.seen.Before(first) {
				first = x.seen
			}
		}
		out = append(out, j.fire(&j.everywhere, first, included)...)
	}
	return out
}

func (j *Judge) allOpen() bool {
	for _, e := range j.eyes {
		if !e.open {
			return false
		}
	}
	return len(j.eyes) > 0
}

func (j *Judge) allRead(topic string) bool {
	for _, e := range j.eyes {
		if e.reads != nil && !e.reads(topic) {
			return false
		}
	}
	return true
}

func (j *Judge) fire(e *eye, until time.Time, included bool) (out []Breach) {
	for len(e.due) > 0 {
		d := e.due[0]
		if d.at.After(until) || !included && d.at.Equal(until) {
			break
		}
		heap.Pop(&e.due)
		if j.excused != nil && d.cell != nil && j.excused(d.rule, d.cell.Clause, d.cell.Topic, d.at) {
			if every := d.cell.Clause.Every; d.rule == RuleSilence &&
				every.Period > 0 { // it may be silent on, by itself
				d.at = d.at.Add(every.Period + every.Tolerance)
				e.due.add(d)
			}
			continue
		}
		b := d.missed(until)
		if b.Expected == "" {
			continue
		}
		if b.Rule, b.At = d.rule, until; d.cell == nil {
			b.Party, b.Sender = d.session.Party, d.session.Client
			j.count(b)
		} else {
			b.Clause, b.Topic, b.Instance = d.cell.Clause.Name, d.cell.Topic, d.cell.Instance
			j.broken(d.cell, b)
		}
		out = append(out, b)
	}
	return out
}

// Excuse has what did not come in time asked about, before it is missed: where excused returns true nothing is told of it, as of
// devices that we ourselves hold off. Nil excuses nothing.
func (j *Judge) Excuse(excused func(rule RuleName, cl *Clause, topic string, at time.Time) bool) {
	j.excused = excused
}

// eyeOf is the eye whose deadlines a cell's are.
func (j *Judge) eyeOf(cell *Cell) *eye {
	if cell.eye == nil {
		return &j.everywhere
	}
	return cell.eye
}

// Waiting names the observers of whom it would have to be known that they see, since something is overdue.
func (j *Judge) Waiting(now time.Time) (out []string) {
	everywhere := len(j.everywhere.due) > 0 && !j.everywhere.due[0].at.After(now)
	for _, name := range j.names {
		e := j.eyes[name]
		if e.open &&
			(len(e.due) > 0 && !e.due[0].at.After(now) || everywhere && e.seen.Before(j.everywhere.due[0].at)) {
			out = append(out, name)
		}
	}
	return out
}

// Sights tells how the observers see, in the order in which they began.
func (j *Judge) Sights(now time.Time) (out []Sight) {
	for _, name := range j.names {
		e := j.eyes[name]
		s := Sight{Eye: name, Open: e.open, Since: e.since, Blind: e.blind, Ever: !e.seen.IsZero()}
		if !e.open && !e.seen.IsZero() {
			s.Blind += now.Sub(e.since)
		}
		out = append(out, s)
	}
	return out
}
