package client

import (
	"testing"
	"time"
)

// TestWhatIsAStream plays ten seconds of traffic to what tells streams: who reads one waits a millisecond between
// reads, and elsewhere each packet is read as it comes. A peer that waits for our answers must not be kept waiting
// by that, but where it is told to be a stream by mistake, for a moment and ever more rarely.
func TestWhatIsAStream(t *testing.T) {
	const wait, all = time.Millisecond, 10 * time.Second
	// Each tells when the packet of a number comes, with the time of the last read and how many had been read by then.
	steady := func(every time.Duration) func(int, time.Duration, int) time.Duration {
		return func(n int, _ time.Duration, _ int) time.Duration { return time.Duration(n) * every }
	}
	bursts := func(of int, every time.Duration) func(int, time.Duration, int) time.Duration {
		return func(n int, _ time.Duration, _ int) time.Duration {
			return time.Duration(n/of)*every + time.Duration(n%of)*10*time.Microsecond
		}
	}
	window := func(of int) func(int, time.Duration, int) time.Duration { // so many wait for our answers at most
		return func(n int, read time.Duration, had int) time.Duration {
			return read + time.Duration(n-had+1)*max(20*time.Microsecond, 40*time.Microsecond/time.Duration(of))
		}
	}
	for name, x := range map[string]struct {
		comes    func(n int, read time.Duration, had int) time.Duration
		window   int     // 0 for none
		from, to float64 // the share of the time for which it is a stream
		begins   int
	}{
		"20,000 a second":              {comes: steady(50 * time.Microsecond), from: 0.99, to: 1, begins: 1},
		"twenty each millisecond":      {comes: bursts(20, time.Millisecond), from: 0.99, to: 1, begins: 1},
		"200 each ten milliseconds":    {comes: bursts(200, 10*time.Millisecond), from: 0.9, to: 1, begins: 3},
		"2,000 a second":               {comes: steady(500 * time.Microsecond), to: 0},
		"thirty each tenth":            {comes: bursts(30, 100*time.Millisecond), to: 0},
		"2,000 each tenth":             {comes: bursts(2000, 100*time.Millisecond), from: 0.1, to: 0.8, begins: 101},
		"one that waits for an answer": {comes: window(1), window: 1, from: 0.001, to: 0.03, begins: 10},
		"ten that wait for answers":    {comes: window(10), window: 10, from: 0.001, to: 0.03, begins: 10},
		"500 that wait for answers":    {comes: window(500), window: 500, from: 0.9, to: 1, begins: 3},
	} {
		t.Run(name, func(t *testing.T) {
			s := &stream{}
			var now, last, on time.Duration
			n, begins, was := 0, 0, false
			for now < all {
				next := max(now, x.comes(n, now, n))
				if s.on && next < now+wait {
					next = now + wait
				}
				had, read := n, now
				if s.on {
					on += min(next, now+streamEnds) - now
				}
				now = next
				for x.comes(n, read, had) <= now && (x.window == 0 || n-had < x.window) {
					n++
				}
				if s.count(now, now-last, uint32(n)) && !was {
					begins++
				}
				last, was = now, s.on
			}
			share := on.Seconds() / all.Seconds()
			if share < x.from || share > x.to || begins > x.begins {
				t.Errorf("a stream for %.3f of the time, begun %d times, with %d packets", share, begins, n)
			}
		})
	}
}
