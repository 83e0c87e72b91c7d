// Package lint finds what is sound in a contract and will cause trouble: each lint is a documented value that says
// what it finds, why, and what to do about it.
package lint

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/mqtt/packet"
)

// All lists the lints.
func All() []*Lint {
	return slices.Concat(topics, payloads, delivery, parties)
}

// Lint is one documented thing that a contract is held to.
type Lint struct {
	Name string
	// Doc says what it finds, and why that is trouble.
	Doc string
	// Way is a way out.
	Way  string
	Look func(*Pass)
}

// Site is what is known beside the contract.
type Site struct {
	StandIns []StandIn
	Sessions []Session
	// Lacking is what logins need by the contract and may not do at a stand-in.
	Lacking []Lack
	// Shared are the brokers that serve others too, for all that is known: real ones.
	Shared []string
}

// StandIn is what a stand-in allows.
type StandIn struct {
	Name       string
	MaxQoS     *packet.QoS
	NoRetained bool
	MaxPacket  int // 0: any
}

// Lack is something that a login needs and may not do.
type Lack struct{ StandIn, Party, Text string }

// Session is how a device connects.
type Session struct {
	Device, Party string
	Count         int // how many there are of it
	KeepAlive     time.Duration
	Version       packet.Version
}

// Finding is what a lint found.
type Finding struct {
	Lint *Lint
	// On is the name of the clause, party or relation; What is which of these it is.
	On, What string
	File     string // beside the workspace; "" for its own
	Line     int
	Message  string
	Way      string // what to do about it
	Accepted string // why it stays; "" where that is not said
}

// Pass is one lint's look at a contract.
type Pass struct {
	*contract.Contract
	Site *Site

	lint  *Lint
	found *[]Finding
}

// Clause tells of a clause.
func (p *Pass) Clause(cl *contract.Clause, format string, args ...any) {
	p.tell(Finding{On: cl.Name, What: "clause", File: cl.File, Line: cl.Line, Message: fmt.Sprintf(format, args...)})
}

// Example tells of an example of a clause.
func (p *Pass) Example(cl *contract.Clause, x *contract.Example, format string, args ...any) {
	p.tell(Finding{On: cl.Name, What: "clause", File: cl.File, Line: x.Line, Message: fmt.Sprintf(format, args...)})
}

// Party tells of a party.
func (p *Pass) Party(x *contract.Party, format string, args ...any) {
	p.tell(Finding{On: x.Name, What: "party", Line: x.Line, Message: fmt.Sprintf(format, args...)})
}

func (p *Pass) tell(f Finding) {
	f.Lint, f.Way = p.lint, p.lint.Way
	for _, a := range p.Accepted {
		if a.Lint == f.Lint.Name && (a.On == "" || a.On == f.On) {
			f.Accepted = a.Because
		}
	}
	*p.found = append(*p.found, f)
}

// Check returns what the lints find, in the order of the file.
func Check(c *contract.Contract, site Site) (out []Finding) {
	for _, l := range All() {
		l.Look(&Pass{Contract: c, Site: &site, lint: l, found: &out})
	}
	slices.SortStableFunc(out, func(a, b Finding) int {
		return cmp.Or(cmp.Compare(a.File, b.File), cmp.Compare(a.Line, b.Line))
	})
	return out
}

// Names lists the names of the lints.
func Names() (out []string) {
	for _, l := range All() {
		out = append(out, l.Name)
	}
	return out
}

// each looks at every clause.
func each(look func(*Pass, *contract.Clause)) func(*Pass) {
	return func(p *Pass) {
		for _, cl := range p.Clauses {
			look(p, cl)
		}
	}
}

// consumers are the parties that a clause's messages go to.
func (p *Pass) consumers(cl *contract.Clause) (out []*contract.Party) {
	for _, name := range cl.To {
		if x := p.Contract.Party(name); x != nil {
			out = append(out, x)
		}
	}
	return out
}

// concerned are the parties that have to do with a clause, with their terms.
func (p *Pass) concerned(cl *contract.Clause) (out []*contract.Party) {
	all := p.consumers(cl)
	if x := p.Contract.Party(cl.From); x != nil {
		all = append([]*contract.Party{x}, all...)
	}
	for _, x := range all {
		if x.Terms != nil {
			out = append(out, x)
		}
	}
	return out
}
