package fleet

import (
	"fmt"
	"slices"
	"sort"
	"time"
)

// Merge adds the results of the parts of a fleet: histograms and counts exactly. Steps are matched by their order, and seconds by
// their distance from each part's beginning, so that clocks that differ do no harm. Parts of different loads are an error, as
// is one part given twice.
func Merge(parts ...*Result) (*Result, error) {
	if len(parts) == 0 {
		return nil, fmt.Errorf("there are no parts")
	}
	first := parts[0]
	out := &Result{
		Name:    first.Name,
		Target:  first.Target,
		Shape:   first.Shape,
		QoS:     first.QoS,
		Size:    first.Size,
		Each:    first.Each,
		Bound:   first.Bound,
		Plan:    first.Plan,
		Started: first.Started,
	}
	bound, err := ParseBound(first.Bound)
	if err != nil {
		return nil, err
	}
	seconds := map[int]*Second{}
	for _, p := range parts {
		if err := p.sound(); err != nil {
			return nil, fmt.Errorf("part %s: %w", p.Shard, err)
		}
		switch {
		case p.Plan != out.Plan:
			return nil, fmt.Errorf(
				"part %s is of another load:\n  %s\nand part %s of\n  %s",
				p.Shard,
				p.Plan,
				first.Shard,
				first.Plan,
			)
		case len(p.Steps) != len(first.Steps) && !p.Stopped && !first.Stopped:
			return nil, fmt.Errorf(
				"part %s has %d steps, and part %s %d: one of them is not whole",
				p.Shard,
				len(p.Steps),
				first.Shard,
				len(first.Steps),
			)
		case p.Name != out.Name || p.Shape != out.Shape || p.QoS != out.QoS || p.Size != out.Size || p.Bound != out.Bound:
			return nil, fmt.Errorf(
				"part %s is of another load: %s, %s, QoS %d, %d bytes, %s",
				p.Shard,
				p.Name,
				p.Shape,
				p.QoS,
				p.Size,
				p.Bound,
			)
		case len(parts) > 1 && p.Shard == "" && len(p.Shards) == 0:
			return nil, fmt.Errorf(
				"the load of %s was no part: there is nothing to be added to it",
				p.Started.Format(time.DateTime),
			)
		case p.Found != nil:
			return nil, fmt.Errorf("a search has no parts")
		}
		for _, part := range p.parts() {
			if slices.Contains(out.Shards, part) {
				return nil, fmt.Errorf("part %q is given twice", part)
			}
			out.Shards = append(out.Shards, part)
		}
		if p.Started.Before(out.Started) {
			out.Started = p.Started
		}
		out.Took = max(out.Took, p.Took)
		out.Stopped = out.Stopped || p.Stopped
		for i := range p.Steps {
			if i == len(out.Steps) {
				out.Steps = append(out.Steps, StepResult{At: p.Steps[i].At, Refusals: map[string]int{}})
			}
			out.Steps[i].merge(&p.Steps[i])
		}
		for _, x := range p.Seconds {
			at := int(x.At.Sub(p.Started).Round(time.Second) / time.Second)
			s := seconds[at]
			if s == nil {
				s = &Second{At: out.Started.Add(time.Duration(at) * time.Second), Step: x.Step, Spread: x.Spread}
				seconds[at] = s
			}
			s.In, s.Asked, s.Sent, s.Heard, s.Missing = s.In+x.In, s.Asked+x.Asked, s.Sent+x.Sent, s.Heard+x.Heard, s.Missing+x.Missing
			// Percentiles of parts cannot be added: the worst part's are shown. The steps' are exact.
			s.P50, s.P99, s.Max = max(s.P50, x.P50), max(s.P99, x.P99), max(s.Max, x.Max)
			s.CPU, s.Memory, s.BrokerCPU = s.CPU+x.CPU, s.Memory+x.Memory, max(s.BrokerCPU, x.BrokerCPU)
		}
		out.Traced, out.Judged, out.Broken = out.Traced+p.Traced, out.Judged+p.Judged, out.Broken+p.Broken
		const most = 100
		out.Breaches = append(out.Breaches, p.Breaches[:min(len(p.Breaches), most-min(most, len(out.Breaches)))]...)
		if x := p.Storm; x != nil {
			if out.Storm == nil {
				out.Storm = &StormResult{What: x.What}
			}
			out.Storm.Of, out.Storm.Back = out.Storm.Of+x.Of, out.Storm.Back+x.Back
			out.Storm.Took, out.Storm.Spread = max(out.Storm.Took, x.Took), out.Storm.Spread.add(x.Spread)
		}
	}
	for i := range out.Steps {
		if !out.Steps[i].Cut {
			out.Steps[i].Broken = bound.Broken(&out.Steps[i])
		}
	}
	for _, s := range seconds {
		out.Seconds = append(out.Seconds, *s)
	}
	sort.Slice(out.Seconds, func(i, j int) bool { return out.Seconds[i].At.Before(out.Seconds[j].At) })
	slices.SortFunc(out.Shards, func(a, b string) int { return shardOf(a).Index - shardOf(b).Index })
	out.Absent = absent(out.Shards)
	out.minutes(parts)
	out.sum()
	out.judge()
	return out, nil
}

// parts are those that a result is of: its own, or those that were merged before.
func (r *Result) parts() []string {
	if len(r.Shards) > 0 {
		return r.Shards
	}
	return []string{r.Shard}
}

// sound tells what of a result cannot be.
func (r *Result) sound() error {
	if len(r.Steps) == 0 {
		return fmt.Errorf("it has no steps: it ended before its first")
	}
	for i := range r.Steps {
		c := r.Steps[i].Counts
		for _, n := range []int64{
			c.Sent, c.Failed, c.Unsent, c.Acked, c.Expected, c.Received, c.Lost, c.Away, c.Duplicated, c.OutOfOrder, c.Handshakes,
		} {
			const most = 1 << 50
			if n < 0 || n > most {
				return fmt.Errorf("step %d counts %d of something: the file was changed", i+1, n)
			}
		}
	}
	return nil
}

// shardOf reads what [Shard.String] wrote.
func shardOf(text string) (s Shard) {
	fmt.Sscanf(text, "%d/%d", &s.Index, &s.Of)
	return s
}

// absent are the parts that are missing among those of a fleet.
func absent(shards []string) (out []string) {
	of := 0
	for _, s := range shards {
		of = max(of, shardOf(s).Of)
	}
	const most = 100_000 // a file may say anything
	for i := range min(of, most) {
		if s := (Shard{Index: i + 1, Of: of}).String(); !slices.Contains(shards, s) {
			out = append(out, s)
		}
	}
	return out
}

// minutes lays the records of the parts side by side, minute by minute.
func (r *Result) minutes(parts []*Result) {
	for _, p := range parts {
		for i := range p.Minutes {
			x := p.Minutes[i]
			if i == len(r.Minutes) {
				r.Minutes = append(r.Minutes, Minute{At: r.Started.Add(x.At.Sub(p.Started))})
			}
			m := &r.Minutes[i]
			m.In, m.Sent, m.Heard, m.Trip = m.In+x.In, m.Sent+x.Sent, m.Heard+x.Heard, m.Trip.add(x.Trip)
			m.Strain.CPU, m.Strain.Memory = m.Strain.CPU+x.Strain.CPU, m.Strain.Memory+x.Strain.Memory
			m.Broker.CPU = max(m.Broker.CPU, x.Broker.CPU)
		}
	}
}

// merge adds the same step of another part.
func (s *StepResult) merge(o *StepResult) {
	s.join(*o)
	s.Cut = s.Cut || o.Cut
	s.Took, s.Coming = max(s.Took, o.Took), max(s.Coming, o.Coming)
	s.Clients, s.In, s.Refused, s.Out = s.Clients+o.Clients, s.In+o.In, s.Refused+o.Refused, s.Out+o.Out
	s.Asked, s.Reached, s.Heard = s.Asked+o.Asked, s.Reached+o.Reached, s.Heard+o.Heard
	if busier := o.Strain.Cores > 0 && (s.Strain.Cores == 0 ||
		o.Strain.CPU/float64(o.Strain.Cores) > s.Strain.CPU/float64(s.Strain.Cores)); busier {
		s.Strain = o.Strain // the part that was strained the most: by it the generator is judged
	}
	if !s.Broker.Known {
		s.Broker = o.Broker
	}
	for _, l := range o.Limits {
		if !slices.Contains(s.Limits, l) {
			s.Limits = append(s.Limits, l)
		}
	}
	if s.Facts == nil {
		s.Facts = o.Facts
	}
}
