package workbench

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"hodstone/internal/contract"
	"hodstone/internal/contract/draft"
	"hodstone/internal/contract/rule"
	"hodstone/internal/expression"
	"hodstone/internal/trace"
	"hodstone/internal/workspace"
)

// maxStrayRate is how many messages on strays are taken for drafts, at one look at the trace.
const maxStrayRate = 200

// stray takes a message that no clause covers for a draft.
func (o *observing) stray(e *trace.Event, j *trace.Journey) {
	if o.drafts == nil {
		o.drafts = NewDrafter(nil)
	}
	if o.taken++; o.taken <= maxStrayRate {
		o.drafts.Traffic.Plays(j.Sender, o.players[j.Sender].Party)
		o.drafts.observed(e, j)
	}
}

// Proposal is a clause as it would stand in the contract.
type Proposal struct {
	Name  string
	Tree  expression.Object
	Notes map[string][]string // what is to be told of its parts, by the keys that lead there
	// Parties and Parameters are those that the contract has not yet.
	Parties, Parameters expression.Object
}

// Text is the clause as it would stand in the file.
func (p *Proposal) Text() string {
	notes := workspace.Comments{}
	for at, n := range p.Notes {
		notes["/"+p.Name+at] = n
	}
	return workspace.YAML(expression.Object{{Key: p.Name, Value: p.Tree}}, 0, notes)
}

// ErrNothingToDraft tells that a topic is no stray that was heard.
var ErrNothingToDraft = errors.New("nothing was heard there of which a clause could be drafted")

// Draft drafts a clause of what was heard on a stray topic, and on those like it.
func (b *Bench) Draft(name string) (*Proposal, error) {
	b.obs.mu.Lock()
	defer b.obs.mu.Unlock()
	if b.obs.drafts == nil {
		return nil, ErrNothingToDraft
	}
	c := b.obs.contract
	var names []string
	for _, cl := range c.Clauses {
		names = append(names, cl.Name)
	}
	r := b.obs.drafts.Traffic.Only(func(t string) bool { cl, _ := c.Find(t); return cl == nil }).Write(draft.Options{Names: names, Known: c})
	for _, m := range part(r.Contract, "clauses") {
		tree, _ := m.Value.(expression.Object)
		text, _ := value(tree, "topic").(string)
		pattern, err := contract.ParsePattern(text)
		if err != nil {
			continue
		}
		if _, fits := pattern.Match(name); !fits {
			continue
		}
		p := &Proposal{Name: m.Key, Tree: tree, Notes: map[string][]string{}}
		for at, n := range r.Notes {
			if rest, is := strings.CutPrefix(at, "/clauses/"+m.Key); is && (rest == "" || rest[0] == '/') {
				p.Notes[rest] = n
			}
		}
		p.Parties = unknown(part(r.Contract, "parties"), p.parties(), func(n string) bool { return c.Party(n) != nil })
		p.Parameters = unknown(part(r.Contract, "parameters"), pattern.Parameters(), func(n string) bool { return c.Parameters[n].Limited() })
		return p, nil
	}
	return nil, ErrNothingToDraft
}

// parties are those that the clause names.
func (p *Proposal) parties() (out []string) {
	if from, is := value(p.Tree, "from").(string); is {
		out = append(out, from)
	}
	switch to := value(p.Tree, "to").(type) {
	case string:
		out = append(out, to)
	case []any:
		for _, x := range to {
			out = append(out, fmt.Sprint(x))
		}
	}
	return out
}

// unknown are the entries of those names that are not known yet.
func unknown(from expression.Object, names []string, known func(string) bool) (out expression.Object) {
	for _, m := range from {
		if slices.Contains(names, m.Key) && !known(m.Key) {
			out = append(out, m)
		}
	}
	return out
}

func value(o expression.Object, key string) any {
	for _, m := range o {
		if m.Key == key {
			return m.Value
		}
	}
	return nil
}

func part(o expression.Object, key string) expression.Object {
	inner, _ := value(o, key).(expression.Object)
	return inner
}

// Weighing is what a clause would do if it stood in the contract.
type Weighing struct {
	Err     error    // why it cannot stand there
	Topics  []string // that were seen and would be covered
	Strays  int      // of them, those that no clause covers now
	Overlap string   // a clause that covers one of its topics already
	// Tried is how many payloads were held to it, Pass how many fit; Fails says of the first that does not on which
	// topic it was and why.
	Tried, Pass int
	Fails       string
	Heard       []Heard // the last payload of each topic that would be covered
}

// Heard is a payload that was heard on a topic, held to a clause.
type Heard struct {
	Topic   string
	Payload []byte
	Breach  *contract.Breach // nil where it fits
}

// How many payloads are held to a clause that is being written, and how many are shown.
const (
	maxWeighed = 200
	maxHeard   = 40
)

// Weigh tells what a clause would do in the contract, in place of the clause of the name where there is one.
func (b *Bench) Weigh(p *Proposal) (w Weighing) {
	b.obs.mu.Lock()
	defer b.obs.mu.Unlock()
	c := b.obs.contract
	cl, limits, err := p.clause(c)
	if err != nil {
		w.Err = err
		return w
	}
	for _, other := range c.Clauses {
		if other.Name != p.Name && overlap(cl, other) {
			w.Overlap = fmt.Sprintf("%s (%s)", other.Name, other.Topic)
			break
		}
	}
	weigh := func(topic string, payloads ...[]byte) {
		values, fits := cl.Topic.Match(topic)
		if !fits {
			return
		}
		for i, name := range cl.Topic.Parameters() {
			if !limits[name].Allows(values[i]) {
				return
			}
		}
		w.Topics = append(w.Topics, topic)
		if n := len(payloads); n > 0 && len(w.Heard) < maxHeard {
			h := Heard{Topic: topic, Payload: payloads[0]}
			if found := rule.Payload(c, cl, payloads[0]); len(found) > 0 && len(payloads[0]) > 0 {
				h.Breach = &found[0]
			}
			w.Heard = append(w.Heard, h)
		}
		for _, body := range payloads {
			if w.Tried >= maxWeighed || len(body) == 0 {
				continue
			}
			w.Tried++
			found := rule.Payload(c, cl, body)
			if len(found) == 0 {
				w.Pass++
			} else if w.Fails == "" {
				x := found[0]
				w.Fails = strings.TrimSpace(fmt.Sprintf("%s: %s %s expected %s, saw %s", topic, x.Rule, x.Where, x.Expected, x.Seen))
			}
		}
	}
	for _, cell := range b.obs.judge.Cells() {
		if cell.Last.At.IsZero() {
			continue
		}
		payloads := [][]byte{cell.Last.Payload}
		for i := len(cell.History) - 2; i >= 0 && len(payloads) < 10; i-- {
			payloads = append(payloads, cell.History[i].Bytes())
		}
		weigh(cell.Topic, payloads[:min(len(payloads), 10)]...)
	}
	for _, s := range b.obs.judge.Strays() {
		before := len(w.Topics)
		weigh(s.Topic, s.Last.Payload)
		w.Strays += len(w.Topics) - before
	}
	return w
}

// overlap tells whether two clauses may cover one topic, as far as their shapes tell.
func overlap(a, b *contract.Clause) bool {
	x, y := strings.Split(a.Topic.String(), "/"), strings.Split(b.Topic.String(), "/")
	if len(x) != len(y) {
		return false
	}
	for i := range x {
		if !strings.HasPrefix(x[i], "{") && !strings.HasPrefix(y[i], "{") && x[i] != y[i] {
			return false
		}
	}
	return true
}

// clause reads the proposal by itself, with what the contract knows beside it.
func (p *Proposal) clause(c *contract.Contract) (*contract.Clause, map[string]contract.Parameter, error) {
	tree := p.Tree
	parties := expression.Object{}
	for i := range c.Parties {
		parties = append(parties, expression.Member{Key: c.Parties[i].Name, Value: expression.Object{}})
	}
	parties = append(parties, p.Parties...)
	// What it answers is looked at when it is written: the clause stands alone here.
	alone := slices.DeleteFunc(slices.Clone(tree), func(m expression.Member) bool { return m.Key == "answer" })
	var parameters expression.Object
	for name, x := range c.Parameters {
		if x.Limited() && value(p.Parameters, name) == nil {
			parameters = append(parameters, expression.Member{Key: name, Value: x.Tree()})
		}
	}
	parameters = append(parameters, p.Parameters...)
	whole := expression.Object{{Key: "parties", Value: parties}}
	if len(parameters) > 0 {
		whole = append(whole, expression.Member{Key: "parameters", Value: parameters})
	}
	whole = append(whole, expression.Member{Key: "clauses", Value: expression.Object{{Key: p.Name, Value: alone}}})
	w, err := workspace.ReadContract(whole, nil, "the clause")
	if err != nil {
		var problem *workspace.Problem
		if errors.As(err, &problem) {
			text := problem.Message
			if problem.Hint != "" {
				text += ": " + problem.Hint
			}
			return nil, nil, errors.New(text)
		}
		return nil, nil, err
	}
	if len(w.Contract.Clauses) == 0 {
		return nil, nil, errors.New("it is no clause yet")
	}
	return w.Contract.Clauses[0], w.Contract.Parameters, nil
}

// Adopt writes a clause into the workspace's file, or into the included one in which it stands, with the parties and
// parameters that it needs; comments and order of all else stay. It is in force at once. The error says why not; then
// nothing has changed.
func (b *Bench) Adopt(p *Proposal) error {
	return b.edit(func(d *workspace.Document, w *workspace.Workspace) error {
		file := ""
		if cl := w.Contract.Clause(p.Name); cl != nil {
			file = cl.File
		}
		before := w
		put := func(text string) (string, error) {
			text, err := workspace.PutClause(text, file != "", p.Name, p.Tree)
			if err != nil {
				return "", err
			}
			now, err := workspace.Try(before, file, text)
			if err == nil && len(now.Problems) > 0 {
				err = fmt.Errorf("line %d: %s", now.Problems[0].Line, now.Problems[0].Message)
			}
			return text, err
		}
		needs := len(p.Parties)+len(p.Parameters) > 0
		if file != "" && !needs {
			return d.RewriteIn(file, put)
		}
		err := d.Rewrite(func(text string) (string, error) {
			var err error
			for _, x := range []struct {
				section string
				list    expression.Object
			}{{"parties", p.Parties}, {"parameters", p.Parameters}} {
				for _, m := range x.list {
					if text, err = workspace.Put(text, m.Value, "contract", x.section, m.Key); err != nil {
						return "", err
					}
				}
			}
			if file != "" {
				return text, nil
			}
			return put(text)
		})
		if err != nil || file == "" {
			return err
		}
		before = d.Workspace()
		if err := d.RewriteIn(file, put); err != nil {
			_, back := d.Undo()
			return errors.Join(err, back)
		}
		return nil
	})
}

// Undo takes the last change of the workspace's file that was made here back. It tells whether there was one.
func (b *Bench) Undo() (was bool, err error) {
	err = b.edit(func(d *workspace.Document, _ *workspace.Workspace) (err error) {
		was, err = d.Undo()
		return err
	})
	return was, err
}

// CanUndo tells whether there is a change to take back.
func (b *Bench) CanUndo() bool { return b.doc.CanUndo() }

// edit changes the workspace's file, and brings the change into force.
func (b *Bench) edit(change func(*workspace.Document, *workspace.Workspace) error) error {
	if b.Record != nil {
		return errors.New("a record is looked at: its workspace cannot be changed")
	}
	b.editing.Lock()
	defer b.editing.Unlock()
	before := b.doc.Workspace()
	if err := change(b.doc, before); err != nil {
		return err
	}
	if now := b.doc.Workspace(); now != before {
		b.revise(before, now)
	}
	return nil
}
