package workspace

import (
	"errors"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml/ast"

	"hodstone/internal/expression"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/mqtt/topic"
)

// Prepared is a message that stands ready to be sent by hand.
type Prepared struct {
	Name string
	// Clause is whose message it is, with the values of its topic's Parameters; "" where Topic is given.
	Clause     string
	Parameters map[string]string
	Topic      string
	Payload    *expression.Template // nil for the clause's first example; of a topic, for nothing
	As         string               // the device or party that it is sent as; "" for the clause's party
	QoS        *packet.QoS          // nil for the clause's
	Retain     *bool                // nil for the clause's
	Every      time.Duration        // between one and the next; 0 for one alone
	Times      int                  // how many; 0 for without end
	Key        string               // F1 to F12, or "" for none
	Line       int
}

// Readout is a clause's live value that is shown beside its devices.
type Readout struct {
	Clause     string
	Parameters map[string]string // those that are given; the rest are any
	Line       int
}

var functionKey = regexp.MustCompile(`^F([1-9]|1[0-2])$`)

var preparedShape = shape[Prepared]{
	"message",
	"A message that stands ready to be sent by hand, on the devices screen.",
	[]key[Prepared]{
		own("clause", "string", "The clause of the message.", func(l *loader, p *Prepared, v node) {
			p.Clause, _ = v.known("clause", l.clauseNames())
		}),
		each("parameters", "string", "The values of the topic's parameters.", func(l *loader, p *Prepared, e entry) {
			p.Parameters[e.key] = e.value.str("parameter")
			l.hasParameter(p.Clause, e)
		}),
		own("topic", "string", "In place of clause: the topic name.", func(_ *loader, p *Prepared, v node) {
			p.Topic = v.str("topic")
			if err := topic.CheckName(p.Topic); err != nil {
				v.fail("", "%v", err)
			}
		}),
		own(
			"payload",
			"any",
			"The payload; parts that begin with \"= \" are expressions, such as = now(). Without it the clause's first example.",
			func(l *loader, p *Prepared, v node) { p.Payload = l.template(v, v.ordered(), nil) },
		),
		own(
			"as",
			"string",
			"The device or the party that it is sent as; the clause's party by default.",
			func(l *loader, p *Prepared, v node) {
				p.As, _ = v.known("device or party", append(l.partyNames(), l.deviceNames()...))
			},
		),
		integer("qos", "Instead of the clause's.", 0, 2, func(p *Prepared, n int) { q := packet.QoS(n); p.QoS = &q }),
		boolean("retain", "Instead of the clause's.", func(p *Prepared, is bool) { p.Retain = &is }),
		span(
			"every",
			"It is sent again and again, with this time between.",
			true,
			func(p *Prepared) *time.Duration { return &p.Every },
		),
		integer("times", "How often; without end without it.", 1, 1_000_000, func(p *Prepared, n int) { p.Times = n }),
		own("key", "string", "The key that sends it: F1 to F12.", func(l *loader, p *Prepared, v node) {
			p.Key = v.str("key")
			if !functionKey.MatchString(p.Key) {
				v.fail("write one of F1 to F12", "%q is no key for a message", p.Key)
			}
			for _, o := range l.w.Messages {
				if o.Key == p.Key {
					v.fail("give one of them another", "%s has the key %s already", o.Name, p.Key)
				}
			}
		}),
	},
}

var readoutShape = shape[Readout]{
	"readout",
	"A clause's live value that is shown beside its devices, on the devices screen.",
	[]key[Readout]{
		own("clause", "string", "The clause.", func(l *loader, r *Readout, v node) {
			r.Clause, _ = v.known("clause", l.clauseNames())
		}).must(),
		each("parameters", "string", "The values of the topic's parameters; all without it.",
			func(l *loader, r *Readout, e entry) {
				r.Parameters[e.key] = e.value.str("parameter")
				l.hasParameter(r.Clause, e)
			}),
	},
}

// hasParameter holds an entry of parameters to the topic of a clause.
func (l *loader) hasParameter(clause string, e entry) {
	if cl := l.w.Contract.Clause(clause); cl != nil && !slices.Contains(cl.Topic.Parameters(), e.key) {
		e.at.fail(suggest(e.key, cl.Topic.Parameters()), "the topic of %s has no {%s}", clause, e.key)
	}
}

// deviceNames are those of all devices, each number by itself.
func (l *loader) deviceNames() (out []string) {
	for _, d := range l.w.Devices {
		for n := range max(1, d.Count) {
			out = append(out, DeviceName(d, n+1))
		}
	}
	return out
}

func (l *loader) message(e entry) {
	p := &Prepared{Name: e.key, Parameters: map[string]string{}}
	p.Line, _ = e.value.position()
	before := len(e.at.r.problems)
	preparedShape.read(l, e.value, "message "+e.key, p)
	if len(e.at.r.problems) > before {
		return
	}
	cl := l.w.Contract.Clause(p.Clause)
	switch {
	case (p.Clause == "") == (p.Topic == ""):
		e.at.fail("write one of them", "message %s has a clause or a topic", e.key)
		return
	case cl != nil:
		for _, name := range cl.Topic.Parameters() {
			if p.Parameters[name] == "" {
				e.at.fail(
					fmt.Sprintf("add parameters: {%s: …}", name),
					"the topic of %s has {%s}, which has no value here",
					cl.Name,
					name,
				)
				return
			}
		}
	}
	if p.Times > 1 && p.Every == 0 {
		e.at.fail(
			"add every: 2s",
			"message %s is sent %d times, and it is not said with which time between",
			e.key,
			p.Times,
		)
		return
	}
	l.w.Messages = append(l.w.Messages, p)
}

func (l *loader) readout(v node) {
	r := &Readout{Parameters: map[string]string{}}
	r.Line, _ = v.position()
	before := len(v.r.problems)
	if readoutShape.read(l, v, "a readout", r); len(v.r.problems) == before {
		l.w.Readouts = append(l.w.Readouts, r)
	}
}

// PutReadout adds a readout behind those that there are, or takes it away; all else stays byte for byte.
func PutReadout(text, clause string, of map[string]string, pinned bool) (string, error) {
	_, root, ok := parse("", []byte(text))
	if !ok {
		return "", errors.New("the file cannot be read: mend it first")
	}
	value := expression.Object{{Key: "clause", Value: clause}}
	if len(of) > 0 {
		var params expression.Object
		for _, name := range slices.Sorted(maps.Keys(of)) {
			params = append(params, expression.Member{Key: name, Value: of[name]})
		}
		value = append(value, expression.Member{Key: "parameters", Value: params})
	}
	lines := strings.SplitAfter(text, "\n")
	section, is := root.entry("readouts")
	if !is || !section.exists() {
		if !pinned {
			return text, nil
		}
		if is {
			return Put(text, []any{value}, "readouts")
		}
		end := len(lines)
		lead := "\nreadouts:\n"
		if end > 0 && lines[end-1] != "" {
			lead = "\n" + lead
		}
		return splice(lines, end, end, lead+"  - "+flow(value)+"\n"), nil
	}
	list, seq := section.n.(*ast.SequenceNode)
	if !seq {
		return "", errors.New("the readouts are no list: mend them first")
	}
	same := func(n node) bool {
		got := n.entries("a readout")
		fits := len(got) > 0
		for _, e := range got {
			switch e.key {
			case "clause":
				fits = fits && e.value.str("clause") == clause
			case "parameters":
				params := e.value.entries("parameters")
				fits = fits && len(params) == len(of)
				for _, p := range params {
					fits = fits && of[p.key] == p.value.str("parameter")
				}
			}
		}
		return fits && (len(got) > 1) == (len(of) > 0)
	}
	if list.IsFlowStyle { // in brackets: the whole list is written anew
		var all []any
		for _, n := range section.list() {
			if !same(n) {
				all = append(all, n.written())
			}
		}
		if pinned {
			all = append(all, value)
		}
		if len(all) == 0 {
			return Put(text, nil, "readouts")
		}
		return Put(text, all, "readouts")
	}
	line, column := section.position()
	if !pinned {
		for _, n := range section.list() {
			if same(n) {
				at, _ := n.position()
				if len(list.Values) == 1 {
					return Put(text, nil, "readouts")
				}
				return splice(lines, at-1, blockEnd(lines, at, column), ""), nil
			}
		}
		return text, nil
	}
	end := blockEnd(lines, line-1, max(0, column-2))
	return splice(lines, end, end, strings.Repeat(" ", column-1)+"- "+flow(value)+"\n"), nil
}
