package workbench

import (
	"context"
	"net"
	"sync"
	"time"

	"hodstone/internal/mqtt/link"
	"hodstone/internal/mqtt/standin"
)

// probes remembers the local addresses from which ways in, handshakes and checks were tried at stand-ins: what a
// stand-in refused to them is no trouble of the site's. Safe for concurrent use.
type probes struct {
	mu sync.Mutex
	at map[string]time.Time // by address: when it was dialled
}

// A probe lives no longer than this; its address may be another's afterwards. So many are remembered.
const (
	probeLife  = 3 * time.Minute
	probesKept = 8192
)

func (p *probes) add(a net.Addr) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.at == nil {
		p.at = map[string]time.Time{}
	}
	if len(p.at) >= probesKept {
		oldest, when := "", time.Now()
		for k, t := range p.at {
			if t.Before(when) {
				oldest, when = k, t
			}
		}
		delete(p.at, oldest)
	}
	p.at[a.String()] = time.Now()
}

// forget takes an address back: somebody else dials from it now.
func (p *probes) forget(a net.Addr) {
	p.mu.Lock()
	defer p.mu.Unlock()
	delete(p.at, a.String())
}

func (p *probes) has(address string, at time.Time) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	dialled, is := p.at[address]
	return is && at.Sub(dialled) < probeLife
}

// probed notes a link of Hodstone's own looking.
func (b *Bench) probed(a net.Addr) {
	b.brokers.dialled.Store(a.String(), true)
	b.brokers.probes.add(a)
}

// probing is dial, for clients that only look.
func (b *Bench) probing(dial func(context.Context) (*link.Link, error)) func(context.Context) (*link.Link, error) {
	return func(ctx context.Context) (*link.Link, error) {
		l, err := dial(ctx)
		if err == nil {
			b.probed(l.LocalAddr())
		}
		return l, err
	}
}

// Refusals returns what a broker's stand-in did not allow, oldest first: to the site's clients, and to Hodstone's
// own probes, checks included, which ask for what must be refused.
func (b *Bench) Refusals(broker string) (site, own []standin.Refusal) {
	s := b.StandIn(broker)
	if s == nil {
		return nil, nil
	}
	for _, r := range s.Refusals() {
		if b.brokers.probes.has(r.Address, r.At) {
			own = append(own, r)
		} else {
			site = append(site, r)
		}
	}
	return site, own
}
