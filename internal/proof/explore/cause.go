package explore

import (
	"context"
	"fmt"
	"slices"

	"hodstone/internal/mqtt/packet"
)

// replaced is what a finding takes that goes where each subscription is given up before it is made anew. The standard has
// the new one replace the old with its options (3.1.1, 5.0 §3.8.4), so that it makes no difference to what is allowed.
const replaced = "a subscription that is made again while it stands"

// takes finds out what a finding comes of, where that can be told: "" for nothing. One defect breaks many rules: two
// findings that take the same are probably of one.
func (e *explorer) takes(ctx context.Context, v packet.Version, actions []Action) string {
	other := renewed(actions)
	if len(other) == len(actions) {
		return ""
	}
	for range confirmations {
		if got, _ := e.talk(ctx, v, other, patient); got != nil || ctx.Err() != nil {
			return ""
		}
	}
	return replaced
}

// tellTakes says of a finding what it takes, and which found before takes the same.
func (e *explorer) tellTakes(f *Finding) {
	if f.Takes == "" {
		return
	}
	text := fmt.Sprintf("it takes %s: with UNSUBSCRIBE before, nothing is amiss", f.Takes)
	e.mu.Lock()
	defer e.mu.Unlock()
	if i := slices.IndexFunc(e.report.Findings, func(x Finding) bool { return x.Takes == f.Takes }); i >= 0 {
		first := &e.report.Findings[i]
		text += fmt.Sprintf(
			"; so does explored.%s in %s, and it is probably the same defect",
			first.Rule.Name,
			first.Version,
		)
	}
	f.Result.Notes = append(f.Result.Notes, text)
}

// renewed is a conversation in which a client unsubscribes before it subscribes to a filter again.
func renewed(actions []Action) (out []Action) {
	before := map[[2]int]bool{} // client and filter
	for _, a := range actions {
		for _, f := range a.subscribes() {
			k := [2]int{a.Client, f}
			if before[k] {
				out = append(out, Action{Kind: Unsubscribe, Client: a.Client, Filter: f})
			}
			before[k] = true
		}
		out = append(out, a)
	}
	return out
}

// subscribes returns the filters, by their places, that the action subscribes to.
func (a *Action) subscribes() (filters []int) {
	switch a.Kind {
	case Subscribe:
		filters = []int{a.Filter}
	case Many:
		for i := range a.Times {
			filters = append(filters, a.among(i))
		}
	}
	return filters
}
