package fleet

import (
	"context"
	"fmt"
	"math"
	"slices"
)

// find searches the highest rate, or number of clients, at which the bound holds: upward by doubling, then between the
// highest that held and the lowest that did not, until they are within 4 %.
func (f *Fleet) find(ctx context.Context) {
	const near = 1.04
	first, last := f.plan.Steps[0], f.plan.Steps[len(f.plan.Steps)-1]
	value := func(s Step) float64 {
		if f.plan.Find == "clients" {
			return float64(s.Clients)
		}
		return s.Rate
	}
	found := &Found{What: f.plan.Find}
	low, high, most := 0.0, 0.0, value(last)
	const tries = 3 // of a step at which the generator itself gave way
	gaveWay := 0
	x := value(first)
	if x >= most && len(f.plan.Steps) == 1 {
		x = math.Max(1, most/64)
	}
	for ctx.Err() == nil {
		step := Step{Clients: first.Clients, Rate: x, Hold: first.Hold}
		if f.plan.Find == "clients" {
			step = Step{Clients: int(x), Rate: first.Rate, Hold: first.Hold}
		} else {
			step.Clients = last.Clients
		}
		f.mu.Lock()
		f.step = found.Tries
		f.mu.Unlock()
		s := f.carry(ctx, step)
		if ctx.Err() != nil {
			break
		}
		f.keep(s)
		found.Tries++
		// A rate that was not reached does not hold, whatever came back of what was sent.
		broken := s.Broken
		if f.plan.Find == "rate" && s.Reached < s.Asked*0.95 {
			broken = append(
				slices.Clone(broken),
				fmt.Sprintf("%.0f of %.0f messages a second were sent", s.Reached, s.Asked),
			)
		}
		if f.plan.Find == "clients" && s.Refused > 0 {
			broken = append(slices.Clone(broken), fmt.Sprintf("%d clients did not get in", s.Refused))
		}
		if len(broken) > 0 {
			if gaveWay++; gaveWay < tries && f.own(s) {
				continue
			}
			high, found.How = x, broken
		} else {
			low = x
		}
		gaveWay = 0
		found.Highest, found.Broke = low, high
		f.mu.Lock()
		copied := *found
		f.result.Found = &copied
		f.mu.Unlock()
		switch {
		case high == 0 && x >= most:
			return
		case high == 0:
			x = math.Min(2*x, most)
		case low == 0:
			if x = high / 2; x < 1 || f.plan.Find == "clients" && int(x) < 1 {
				return
			}
		case high/low <= near || f.plan.Find == "clients" && high-low < 2:
			return
		default:
			x = (low + high) / 2
		}
		if f.plan.Find == "clients" {
			x = math.Floor(x)
		}
	}
}

// own tells whether what a step broke may be the generator's own doing: the machine was busy for a while. Who comes late
// sends what is due in a heap, and a broker that is nearly at its end takes long to get through that.
func (f *Fleet) own(s StepResult) bool {
	if s.Lag.P99 > lateMost {
		return true
	}
	r := Result{Bound: f.plan.Bound.String(), Steps: []StepResult{s}}
	r.judge()
	return r.Limit == Generator || r.Limit == Unclear
}
