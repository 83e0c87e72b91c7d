package workbench

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"time"

	"hodstone/internal/draw"
	"hodstone/internal/trace"
)

// analyse follows the journeys and counts what stands on a record, in the background.
func (b *Bench) analyse() {
	end := b.Events.Next()
	for from := b.Events.Oldest(); from < end && b.ctx.Err() == nil; {
		events, missed := b.Events.Read(from, 2_000)
		if len(events) == 0 {
			break
		}
		from += uint64(len(events)) + missed
		b.obs.mu.Lock()
		for i := range events {
			b.obs.journeys.Add(&events[i])
			b.obs.statistics.Add(&events[i])
		}
		b.obs.analysed = float64(from-1) / float64(end-1)
		b.obs.mu.Unlock()
	}
	b.obs.mu.Lock()
	b.obs.analysed = 1
	b.obs.mu.Unlock()
}

// Analysed tells how much of a record the journeys and statistics cover, from 0 to 1; it
// is 1 for a bench at work.
func (b *Bench) Analysed() float64 {
	b.obs.mu.Lock()
	defer b.obs.mu.Unlock()
	return b.obs.analysed
}

// Statistics returns what was counted: by topic and by client.
func (b *Bench) Statistics() (topics []trace.TopicStatistics, clients []trace.ClientStatistics) {
	b.obs.mu.Lock()
	defer b.obs.mu.Unlock()
	now := time.Now()
	if b.Record != nil {
		now = b.obs.statistics.Last()
	}
	return b.obs.statistics.Topics(now), b.obs.statistics.Clients(now)
}

// Journeys returns the journeys from the newest back, as copies, that fit, at most limit.
func (b *Bench) Journeys(limit int, fits func(*trace.Journey) bool) []trace.Journey {
	b.obs.mu.Lock()
	defer b.obs.mu.Unlock()
	var out []trace.Journey
	all := b.obs.journeys.All()
	for i := len(all) - 1; i >= 0 && len(out) < limit; i-- {
		if fits == nil || fits(all[i]) {
			j := *all[i]
			j.Hops = append([]trace.Hop(nil), j.Hops...)
			out = append(out, j)
		}
	}
	return out
}

// Export writes a drawing into a file, in the format that its name ends in. It overwrites
// nothing.
func (b *Bench) Export(name string, d *draw.Surface) error {
	if err := draw.Writable(name); err != nil {
		return err
	}
	return create(name, func(w io.Writer) error { return d.Write(w, name) })
}

// create writes a new file, and leaves none behind where that fails.
func create(name string, write func(io.Writer) error) error {
	f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if errors.Is(err, fs.ErrExist) {
		return fmt.Errorf("%s is there already: choose another name", name)
	} else if err != nil {
		return fmt.Errorf("it cannot be written: %w", err)
	}
	if err := errors.Join(write(f), f.Close()); err != nil {
		os.Remove(name)
		return err
	}
	return nil
}
