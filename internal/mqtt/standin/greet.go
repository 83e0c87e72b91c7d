package standin

import "hodstone/internal/mqtt/topic"

// greeting is what is still to greet a session's new subscriptions. It goes out in slices, so that
// nobody else has to wait for it.
type greeting struct {
	list   []stored
	byName map[string][]int // places in list; what went out is gone from here
	next   int
}

// stored is a stored message on its way to a subscription.
type stored struct {
	m   *message
	sub *subscription
}

// greetAtOnce is how many stored messages go out while the lock is held.
const greetAtOnce = 200

// greet finds the stored messages that greet a new subscription (§3.3.1.3), and sends the first.
func (s *Server) greet(ses *session, sub *subscription) {
	g := ses.greeting
	if g == nil {
		g = &greeting{byName: map[string][]int{}}
		ses.greeting = g
	}
	var old []string
	add := func(name string, m *message) {
		if s.over(m, true) {
			old = append(old, name)
			return
		}
		g.byName[name] = append(g.byName[name], len(g.list))
		g.list = append(g.list, stored{m, sub})
	}
	if s.mismatches() { // by a fault, filters may match what they should not
		for _, all := range []string{"#", "$SYS/#"} {
			s.retained.Matching(all, func(name string, m *message) {
				if s.matches(sub.Filter, name, topic.Match(sub.Filter, name)) {
					add(name, m)
				}
			})
		}
	} else {
		s.retained.Matching(sub.Filter, add)
	}
	for _, name := range old {
		s.forget(name)
	}
}

// greetMore sends the next slice, and tells whether another may follow at once. It waits for a client
// that has not taken the last yet: what is acknowledged or written calls it again.
func (ses *session) greetMore() bool {
	g, c := ses.greeting, ses.conn
	if g == nil || c != nil && (len(ses.waiting) >= greetAtOnce || c.bytes > perLink/4) {
		return false
	}
	for range greetAtOnce {
		if g.next == len(g.list) {
			ses.greeting = nil
			return false
		}
		ses.greetWith(g.next)
		g.next++
	}
	return true
}

// greetAll sends what is left, to be kept for a client that has gone.
func (ses *session) greetAll() {
	for ses.greetMore() {
	}
}

// greetBefore sends the stored messages of a topic that are still to come: they are older than what
// is published now.
func (ses *session) greetBefore(name string) {
	if g := ses.greeting; g != nil {
		for _, i := range g.byName[name] {
			ses.greetWith(i)
		}
	}
}

func (ses *session) greetWith(i int) {
	g := ses.greeting
	x := g.list[i]
	if x.m == nil {
		return // it went out already
	}
	g.list[i].m = nil
	h := hit{ses: ses, receivers: 1}
	ses.addTo(&h, min(x.m.QoS, x.sub.QoS), x.sub)
	ses.deliver(x.m, &h, true, true)
}
