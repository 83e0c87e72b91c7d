package device

import "time"

// Clock is where a device has its time from: it waits by it, and its expressions tell it. The
// protocol's own times, such as keep alive, go by the link and not by it.
type Clock interface {
	Now() time.Time
	// Timer returns a channel that is sent to after d, and what ends the wait.
	Timer(d time.Duration) (c <-chan time.Time, stop func() bool)
}

// Wall is the machine's clock.
type Wall struct{}

// Now implements [Clock].
func (Wall) Now() time.Time { return time.Now() }

// Timer implements [Clock].
func (Wall) Timer(d time.Duration) (<-chan time.Time, func() bool) {
	t := time.NewTimer(d)
	return t.C, t.Stop
}

// atOnce is what is due now. It is closed, not a timer of no length: under a fake clock the race
// detector of Go 1.26 crashes where two goroutines read timers that are due.
var atOnce = func() <-chan time.Time {
	c := make(chan time.Time)
	close(c)
	return c
}()

// after waits until a time by the clock; the zero time never comes.
func after(c Clock, at time.Time) (<-chan time.Time, func() bool) {
	none := func() bool { return false }
	if at.IsZero() {
		return nil, none
	}
	if wait := at.Sub(c.Now()); wait > 0 {
		return c.Timer(wait)
	}
	return atOnce, none
}
