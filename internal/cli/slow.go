package cli

import (
	"io"
	"sync"
	"time"

	"hodstone/internal/plain"
)

// tellAfter is how long something goes on before a command says what it is.
const tellAfter = 2 * time.Second

// slowness says what a command waits for, once that takes long. Safe for concurrent use.
type slowness struct {
	w     io.Writer
	after time.Duration

	mu    sync.Mutex
	timer *time.Timer
}

func slowly(w io.Writer, after time.Duration) *slowness { return &slowness{w: w, after: after} }

// doing begins something, and ends what went on before; "" only ends that.
func (s *slowness) doing(what string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.timer != nil {
		s.timer.Stop()
		s.timer = nil
	}
	if what == "" {
		return
	}
	var mine *time.Timer
	mine = time.AfterFunc(s.after, func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.timer == mine {
			plain.Fprintln(s.w, what+" …")
		}
	})
	s.timer = mine
}
