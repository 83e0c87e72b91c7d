package client

import (
	"math/rand/v2"
	"time"
)

// The bounds of [Backoff].
const (
	// BackoffMin is the shortest wait: long enough not to flood a broker that
	// throws a client out at once.
	BackoffMin = 500 * time.Millisecond
	// BackoffMax is the longest: short enough that a person waits for it.
	BackoffMax = 30 * time.Second
)

// Backoff spreads attempts to come back: full jitter between [BackoffMin] and a bound that
// doubles up to [BackoffMax]. It is not safe for concurrent use.
type Backoff struct {
	// Rand is where the jitter comes from.
	Rand  *rand.Rand
	tries int
}

// Next returns how long to wait before the next attempt.
func (b *Backoff) Next() time.Duration {
	bound := min(BackoffMax, 2*BackoffMin<<min(b.tries, 10))
	b.tries++
	return BackoffMin + time.Duration(b.Rand.Int64N(int64(bound-BackoffMin)+1))
}

// Reset starts over after a success.
func (b *Backoff) Reset() { b.tries = 0 }
