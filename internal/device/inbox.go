package device

import (
	"sync"

	"hodstone/internal/mqtt/packet"
)

// inboxSize is how many messages may wait for a device. A real one has its own bounds; here it is those of a
// simulation that must not eat the memory.
const inboxSize = 10_000

// inbox are the messages that wait for a device, oldest first. It takes no room for those that do not.
type inbox struct {
	wake chan struct{} // has one element while messages wait

	mu   sync.Mutex // guards what follows
	wait []*packet.Publish
}

func newInbox() *inbox { return &inbox{wake: make(chan struct{}, 1)} }

// put adds a message; false where there is no room.
func (q *inbox) put(m *packet.Publish) bool {
	q.mu.Lock()
	defer q.mu.Unlock()
	if len(q.wait) >= inboxSize {
		return false
	}
	q.wait = append(q.wait, m)
	q.nudge()
	return true
}

// nudge wakes who takes; q.mu is held.
func (q *inbox) nudge() {
	select {
	case q.wake <- struct{}{}:
	default:
	}
}

// take returns the oldest message; nil for none. Where more wait, who takes is woken again.
func (q *inbox) take() *packet.Publish {
	q.mu.Lock()
	defer q.mu.Unlock()
	if len(q.wait) == 0 {
		return nil
	}
	m := q.wait[0]
	q.wait[0] = nil
	if q.wait = q.wait[1:]; len(q.wait) == 0 {
		q.wait = nil
	} else {
		q.nudge()
	}
	return m
}
