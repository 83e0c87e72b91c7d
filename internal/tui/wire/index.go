package wire

import (
	"context"
	"sort"
	"sync"

	"hodstone/internal/trace"
)

// index knows which events of a trace are shown, by position: all of them, or those that
// were found to fit. Events themselves are fetched when they are drawn, so that a record of
// a million opens at once.
type index struct {
	all bool     // every event from 1 on
	n   int      // with all: how many
	ids []uint64 // without: their numbers
}

func (x *index) len() int {
	if x.all {
		return x.n
	}
	return len(x.ids)
}

// number returns the event's number at a position.
func (x *index) number(i int) uint64 {
	if x.all {
		return uint64(i) + 1
	}
	return x.ids[i]
}

// position returns where the event stands, or where it would.
func (x *index) position(seq uint64) int {
	if x.all {
		return min(x.n, int(max(seq, 1)-1))
	}
	return sort.Search(len(x.ids), func(i int) bool { return x.ids[i] >= seq })
}

// trim forgets what the trace no longer keeps, and returns how many were forgotten.
func (x *index) trim(oldest uint64) int {
	if x.all {
		return 0
	}
	cut := x.position(oldest)
	x.ids = x.ids[cut:]
	return cut
}

// scanBatch is how many events a scan reads at a time.
const scanBatch = 2_000

// scan looks through a trace in the background.
type scan struct {
	cancel context.CancelFunc
	done   chan struct{}

	mu    sync.Mutex
	found []uint64 // not yet fetched
	at    uint64
	total uint64
	over  bool
}

// startScan looks for all events that fit, from the first to the end of the trace as it
// is now. Records narrow the search down by themselves.
func startScan(src trace.Reader, filter trace.Filter, fits func(*trace.Event) bool) *scan {
	ctx, cancel := context.WithCancel(context.Background())
	s := &scan{cancel: cancel, done: make(chan struct{}), total: src.Next() - 1}
	take := func(ids []uint64, at uint64) {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.found, s.at = append(s.found, ids...), at
	}
	go func() {
		defer close(s.done)
		defer func() { s.mu.Lock(); s.over = true; s.mu.Unlock() }()
		var ids []uint64
		if file, ok := src.(searcher); ok {
			file.Search(ctx, filter, 1, func(e *trace.Event) bool {
				if fits(e) {
					ids = append(ids, e.Seq)
				}
				return true
			}, func(done, _ uint64) { take(ids, done); ids = nil })
			return
		}
		for from, end := src.Oldest(), src.Next(); from < end && ctx.Err() == nil; {
			events, missed := src.Read(from, scanBatch)
			if len(events) == 0 {
				return
			}
			for i := range events {
				if events[i].Seq < end && fits(&events[i]) {
					ids = append(ids, events[i].Seq)
				}
			}
			from += uint64(len(events)) + missed
			take(ids, from-1)
			ids = nil
		}
	}()
	return s
}

// searcher is a trace that can narrow a search down: a record.
type searcher interface {
	Search(ctx context.Context, f trace.Filter, from uint64, visit func(*trace.Event) bool, progress func(done, total uint64)) error
}

// fetch returns what was found since, how far the scan has come, and whether it is over.
func (s *scan) fetch() (ids []uint64, at, total uint64, over bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	ids, s.found = s.found, nil
	return ids, s.at, s.total, s.over
}

// seek finds the next event, or the one before, that the predicate holds for.
func seek(ctx context.Context, src trace.Reader, from uint64, forward bool, fits func(*trace.Event) bool) (uint64, bool) {
	if forward {
		for from++; from < src.Next() && ctx.Err() == nil; {
			events, missed := src.Read(from, scanBatch)
			for i := range events {
				if fits(&events[i]) {
					return events[i].Seq, true
				}
			}
			if len(events) == 0 {
				break
			}
			from += uint64(len(events)) + missed
		}
		return 0, false
	}
	for to := from; to > src.Oldest() && ctx.Err() == nil; {
		start := max(src.Oldest(), to-min(to, scanBatch))
		events, _ := src.Read(start, int(to-start))
		for i := len(events) - 1; i >= 0; i-- {
			if events[i].Seq < to && fits(&events[i]) {
				return events[i].Seq, true
			}
		}
		to = start
	}
	return 0, false
}
