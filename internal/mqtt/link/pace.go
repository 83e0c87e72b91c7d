package link

import (
	"cmp"
	"errors"
	"io"
	"net"
	"sync"
	"time"
)

// Pace slows a link, in both directions. The zero value does not.
type Pace struct {
	// Delay is how much later than sent the bytes arrive.
	Delay time.Duration
	// Rate is how many bytes a second get through; 0 for no limit.
	Rate int
}

// pacedBuffer is how many bytes are under way in one direction of a slowed link before
// whoever writes them is blocked.
const pacedBuffer = 256 << 10

// paced carries bytes of one direction later than they came.
type paced struct {
	mu      sync.Mutex
	changed *sync.Cond
	chunks  []chunk
	held    int
	err     error     // after the last chunk
	free    time.Time // when the line is free for the next byte
	stopped bool      // by the link's end: nobody waits any longer
	stop    chan struct{}
}

type chunk struct {
	write
	due time.Time
}

func newPaced() *paced {
	p := &paced{stop: make(chan struct{})}
	p.changed = sync.NewCond(&p.mu)
	return p
}

// put takes in bytes, blocking while too many are under way. fate, which may be nil, is told whether
// they came through.
func (p *paced) put(b []byte, pace Pace, fate Fate) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	for p.held > pacedBuffer && p.err == nil && !p.stopped {
		p.changed.Wait()
	}
	if p.err != nil || p.stopped {
		if fate != nil {
			fate(false)
		}
		return cmp.Or(p.err, net.ErrClosed)
	}
	now := time.Now()
	if p.free.Before(now) {
		p.free = now
	}
	if pace.Rate > 0 {
		p.free = p.free.Add(time.Duration(len(b)) * time.Second / time.Duration(pace.Rate))
	}
	p.chunks = append(p.chunks, chunk{write{append([]byte(nil), b...), fate}, p.free.Add(pace.Delay)})
	p.held += len(b)
	p.changed.Broadcast()
	return nil
}

// finish lets get return err after the last bytes.
func (p *paced) finish(err error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.err == nil {
		p.err = err
	}
	p.changed.Broadcast()
}

// abort drops what is under way and wakes everyone.
func (p *paced) abort() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if !p.stopped {
		p.stopped = true
		for i := range p.chunks {
			p.chunks[i].told(false)
		}
		p.chunks = nil
		close(p.stop)
		p.changed.Broadcast()
	}
}

// get waits for the next bytes to be due and moves them into b.
func (p *paced) get(b []byte) (int, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for {
		switch {
		case p.stopped:
			return 0, net.ErrClosed
		case len(p.chunks) == 0 && p.err != nil:
			return 0, p.err
		case len(p.chunks) == 0:
			p.changed.Wait()
			continue
		}
		c := &p.chunks[0]
		if wait := time.Until(c.due); wait > 0 {
			p.mu.Unlock()
			timer := time.NewTimer(wait)
			select {
			case <-timer.C:
			case <-p.stop:
				timer.Stop()
			}
			p.mu.Lock()
			continue
		}
		if c.fate != nil {
			c.told(true)
			c.fate = nil // the rest follows
		}
		n := copy(b, c.data)
		p.held -= n
		if c.data = c.data[n:]; len(c.data) == 0 {
			p.chunks = p.chunks[1:]
		}
		p.changed.Broadcast()
		return n, nil
	}
}

// pacing is the state of a link that is, or was, slowed.
type pacing struct {
	pace    Pace
	in, out *paced
	sent    chan struct{} // closed when the last written byte is out
	handed  chan struct{} // closed when who was reading as it began has handed over; nil for nobody
}

// Slow delays and throttles the link from now on; the zero Pace ends that. Once slowed, a link uses two
// goroutines more, until it ends.
func (l *Link) Slow(pace Pace) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.pacing != nil {
		l.pacing.pace = pace
		return
	}
	if pace == (Pace{}) || l.end != EndNone {
		return
	}
	p := &pacing{pace: pace, in: newPaced(), out: newPaced(), sent: make(chan struct{})}
	l.pacing = p
	if l.reading { // who waits in a read gets what comes next: it has to be let through like all that follows, and before it
		p.handed = make(chan struct{})
	}
	handed := p.handed
	go func() {
		if handed != nil {
			<-handed
		}
		buf := make([]byte, 16<<10)
		for {
			n, err := l.conn.Read(buf)
			if n > 0 && p.in.put(buf[:n], l.pace(), nil) != nil {
				return
			}
			if err != nil {
				p.in.finish(err)
				return
			}
		}
	}()
	go func() {
		defer close(p.sent)
		buf := make([]byte, 16<<10)
		for {
			n, err := p.out.get(buf)
			if err == nil {
				_, err = l.conn.Write(buf[:n])
			}
			if err != nil {
				p.out.finish(err)
				return
			}
		}
	}()
}

func (l *Link) pace() Pace {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.pacing.pace
}

// paced reads from what a slowed link has let through; of any other n bytes were read into b, or an error.
func (l *Link) paced(b []byte, n int, err error) (int, error) {
	l.mu.Lock()
	p, reading := l.pacing, l.reading
	l.reading = false
	l.mu.Unlock()
	switch {
	case p == nil:
		return n, err
	case !reading:
		return p.in.get(b)
	case p.handed == nil:
		return n, err
	}
	// The link was slowed meanwhile.
	if n > 0 {
		err = errors.Join(err, p.in.put(b[:n], l.pace(), nil))
	}
	if err != nil {
		p.in.finish(err)
	}
	close(p.handed)
	return p.in.get(b)
}

// drain lets a slowed link's last bytes out before it is closed, but not for ever.
func (p *pacing) drain(delay time.Duration) {
	p.out.finish(io.EOF)
	timer := time.NewTimer(delay + DialTimeout)
	defer timer.Stop()
	select {
	case <-p.sent:
	case <-timer.C:
	}
}

func (p *pacing) abort() {
	p.in.abort()
	p.out.abort()
}
