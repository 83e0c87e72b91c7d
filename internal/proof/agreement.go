package proof

import (
	"context"
	"fmt"
	"slices"
	"time"

	"hodstone/internal/contract"
	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/workspace"
)

// Agreement is what the contract says about who may do what at a broker, for the checks that are made from it.
type Agreement struct {
	Contract *contract.Contract
	// Speakers are the logins that the broker knows, but for the one that the checks come with.
	Speakers []Speaker
	// More tells how many logins were left out, because others of their kind are there; 0 for none.
	More int
	// Unrestricted is why logins may do more than the contract needs; "" where they are not meant to.
	Unrestricted string
}

// Speaker is a login, and the party that it speaks for.
type Speaker struct {
	Login *workspace.Login
	// Dial opens a link as clients of this login do, with its certificate where it has one; nil for the target's own.
	Dial  func(context.Context) (*link.Link, error)
	Party string // "" for none
	// Values are the parameters that are its own: pen-1 speaks for pen 1 alone.
	Values map[string]string
	// Here tells that clients of its party come by this listener, as far as the workspace tells.
	Here bool
}

// Agreement is what the contract says about this broker; nil where there is none.
func (p *Pass) Agreement() *Agreement { return p.r.target.Agreement }

// OnTopics tells whether messages on the contract's own topics are allowed.
func (p *Pass) OnTopics() bool { return p.r.o.OnTopics }

// Restart restarts the broker; nil where nobody can. MayRestart tells whether that is allowed.
func (p *Pass) Restart() func(ctx context.Context, killed bool) error { return p.r.target.Restart }

// MayRestart tells whether the broker may be restarted.
func (p *Pass) MayRestart() bool { return p.r.o.Restarts }

// Return connects a client again after a restart, which may take its time.
func (p *Pass) Return(peer *Client) (*packet.Connack, error) {
	for until := time.Now().Add(returnWithin); ; {
		ack, err := p.Try(peer)
		if err == nil {
			return ack, nil
		}
		if time.Now().After(until) || p.ctx.Err() != nil {
			return nil, Undecide("the %s could not come back within %s: %v", peer.Name, returnWithin, err)
		}
		select {
		case <-time.After(returnPause):
		case <-p.ctx.Done():
		}
	}
}

// A broker that was restarted is tried again for so long, with such a pause between.
const (
	returnWithin = 30 * time.Second
	returnPause  = 200 * time.Millisecond
)

// CheckMark begins the payloads of what checks publish on topics of the contract, so that nobody takes it for a
// device's.
const CheckMark = "hodstone check "

// Text makes a payload that tells on its face that a check of this run published it.
func (p *Pass) Text(what string) string { return fmt.Sprintf("%s%s %s", CheckMark, p.r.run, what) }

// Comes lets the client come as a speaker's do.
func Comes(s *Speaker) Option {
	return func(p *Client) {
		WithLogin(s.Login)(p)
		if s.Dial != nil {
			p.opt.Dial = s.Dial
		}
	}
}

// shared is something that several checks rest on, found out once in each version.
type shared struct {
	turn  chan struct{} // holds one for who may look, and guards what follows
	found bool
	value any
	by    *Pass
}

// Share finds something out once in a run and version, by whichever check comes first; the others rest on the same
// value, and have its steps and packets as their evidence. What fails is tried again by the next.
func Share[T any](p *Pass, name string, find func() (T, error)) (value T, err error) {
	k := name + "/" + p.Version.String()
	p.r.mu.Lock()
	if p.r.shared == nil {
		p.r.shared = map[string]*shared{}
	}
	s := p.r.shared[k]
	if s == nil {
		s = &shared{turn: make(chan struct{}, 1)}
		s.turn <- struct{}{}
		p.r.shared[k] = s
	}
	p.r.mu.Unlock()
	select {
	case <-s.turn:
		defer func() { s.turn <- struct{}{} }()
	case <-p.ctx.Done():
		return value, Undecide("stopped before it began")
	}
	if s.found {
		p.rest(s.by)
		return s.value.(T), nil
	}
	value, err = find()
	p.mu.Lock()
	full := p.full // then it is begun again
	p.mu.Unlock()
	if err == nil && !full {
		s.found, s.value, s.by = true, value, p
	}
	return value, err
}

// rest takes another pass's evidence for its own.
func (p *Pass) rest(on *Pass) {
	on.mu.Lock()
	steps, names, notes := slices.Clone(on.result.Steps), slices.Clone(on.names), slices.Clone(on.result.Notes)
	on.mu.Unlock()
	p.mu.Lock()
	defer p.mu.Unlock()
	p.log, p.names, p.start = on.log, names, on.start
	p.result.Steps, p.result.Notes, p.result.At = steps, notes, on.start
}
