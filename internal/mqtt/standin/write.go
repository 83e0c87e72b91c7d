package standin

import (
	"slices"
	"time"

	"hodstone/internal/mqtt/packet"
)

// standStill is how long a peer may take nothing at all before its connection is closed, where its
// keep alive is not longer.
const standStill = time.Minute

// write is the writing goroutine.
func (c *conn) write() {
	var buf []byte
	var spare []packet.Packet // the last batch's memory, for the next queue
	var ours packet.Aliases   // that we have set
	written := 0              // bytes of the batch before
	for {
		c.s.mu.Lock()
		c.release(written)
		if ses := c.session; ses != nil && ses.conn == c && !c.closing {
			ses.greetMore()
		}
		for len(c.queue) == 0 && !c.closing {
			c.queued.Wait()
		}
		batch := c.queue
		c.queue = spare[:0]
		written = c.bytes
		version := c.version
		aliasMax := c.aliasMax
		last := c.closing
		patience := max(standStill, 2*c.keepAlive)
		if last { // a peer that takes nothing must not hold up the end
			patience = lingerForGoodbye
		}
		c.s.mu.Unlock()
		err := error(nil)
		for i := 0; err == nil && i < len(batch); {
			buf = buf[:0]
			for ; i < len(batch) && len(buf) < writeAtOnce; i++ {
				p := batch[i]
				if m, ok := p.(*packet.Publish); ok && aliasMax > 0 {
					p = ours.Abbreviate(m, aliasMax)
				}
				at := len(buf)
				buf = p.Append(buf, version)
				if c.peer != nil {
					c.s.opt.Hooks.Sent(c.peer, p, slices.Clone(buf[at:]))
				}
			}
			err = c.put(buf, patience)
		}
		clear(batch)
		spare = nil
		if cap(batch) <= keptQueue {
			spare = batch
		}
		if last || err != nil {
			c.link.Close()
			c.s.mu.Lock()
			c.closing, c.queue = true, nil
			c.release(c.bytes)
			c.s.mu.Unlock()
			return
		}
		if cap(buf) > keptBuffer {
			buf = nil // an idle connection holds no memory
		}
	}
}

// put writes bytes in pieces, each of which must get through within a time.
func (c *conn) put(b []byte, patience time.Duration) error {
	for len(b) > 0 {
		n := min(len(b), writeAtOnce)
		timer := time.AfterFunc(patience, func() { c.link.Close() })
		_, err := c.link.Write(b[:n])
		timer.Stop()
		if err != nil {
			return err
		}
		b = b[n:]
	}
	return nil
}

// release counts bytes that are written, or given up.
func (c *conn) release(n int) {
	c.bytes -= n
	c.s.held -= n
}

// pushLocked queues a packet; PUBLISH at QoS 0 is dropped where too much waits or the packet is
// larger than the client takes (5.0 §3.1.2.11.4). A client that asks and asks, and does not take
// the answers, is disconnected.
func (c *conn) pushLocked(p packet.Packet) {
	if c.closing {
		return
	}
	size := sizeOfQueued(p)
	if pub, ok := p.(*packet.Publish); ok {
		ses := c.session
		full := len(c.queue) > maxWriteQueue || c.bytes+size > perLink || c.s.held+size > c.s.opt.Limits.memory()
		if pub.QoS == 0 && full {
			ses.dropped++
			return
		}
		ses.delivered.AddSecond(c.s.second)
	} else if c.bytes+size > 2*perLink {
		c.queue = nil
		c.disconnectLocked(packet.QuotaExceeded)
		return
	}
	if c.counts(p, true) {
		c.lastRead = time.Now()
	}
	c.bytes += size
	c.s.held += size
	c.queue = append(c.queue, p)
	c.queued.Signal()
}
