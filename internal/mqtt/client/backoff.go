package client

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"time"

	"hodstone/internal/mqtt/packet"
)

// The bounds of [Backoff].
const (
	// BackoffMin is the shortest wait: long enough not to flood a broker that
	// throws a client out at once.
	BackoffMin = 500 * time.Millisecond
	// BackoffMax is the longest: short enough that a person waits for it.
	BackoffMax = 30 * time.Second
	// shortLived is how long a connection lasts at most that a broker ended right after it began.
	shortLived = 3 * time.Second
)

// Backoff spreads attempts to come back: full jitter between [BackoffMin] and a bound that
// doubles up to [BackoffMax]. It is not safe for concurrent use.
type Backoff struct {
	// Rand is where the jitter comes from.
	Rand  *rand.Rand
	tries int
	taken int // connections in a row that ended as by another client under the same identifier
}

// Next returns how long to wait before the next attempt.
func (b *Backoff) Next() time.Duration {
	bound := min(BackoffMax, 2*BackoffMin<<min(b.tries, 10))
	b.tries++
	return BackoffMin + time.Duration(b.Rand.Int64N(int64(bound-BackoffMin)+1))
}

// Ended takes in how a connection that was accepted ended, and after how long. After a success the waits
// begin anew, unless connections end in a row as they do where another client uses the same client identifier
// (3.1.1 §3.1.4, 5.0 §3.1.4): then they go on growing, and the error that is returned says so.
func (b *Backoff) Ended(err error, lasted time.Duration, id string) error {
	var e *EndedError
	told := errors.As(err, &e) && e.Coded && e.Code == packet.SessionTakenOver
	// Before version 5 the broker does not tell: it closes.
	guessed := !told && e != nil && !e.Coded && BlameOf(err) == ByBroker && e.Broken == nil && !e.Rule &&
		lasted < shortLived
	if !told && !guessed {
		b.tries, b.taken = 0, 0
		return err
	}
	switch b.taken++; {
	case b.taken < 2:
		b.tries = 0
	case told:
		return fmt.Errorf(
			"another client uses the client identifier %q, and both throw each other out: give each one of its own (%w)",
			id,
			err,
		)
	default:
		return fmt.Errorf(
			"the broker ends the connection right after it began, %d times in a row: does another client use the client identifier %q? (%w)",
			b.taken,
			id,
			err,
		)
	}
	return err
}
