package explore

import (
	"fmt"
	"slices"
	"time"

	"hodstone/internal/proof"
)

// Sound is what an exploration is called that found nothing.
const Sound = "explored"

// AsProof tells an exploration as a proof: a broken result for each finding, or one that is kept.
func AsProof(t proof.Target, r *Report, start time.Time) *proof.Proof {
	p := &proof.Proof{Target: t, Started: start, Took: r.Took}
	for _, f := range r.Findings {
		f.Result.Notes = append(slices.Clip(f.Result.Notes), limits(r)...)
		p.Results = append(p.Results, f.Result)
	}
	if len(r.Findings) > 0 {
		return p
	}
	tried, all, _ := r.Pairs()
	p.Results = []proof.Result{
		{
			Check: &proof.Check{
				Name:     Sound,
				Title:    "random conversations are as the model of the standard allows",
				Expected: "nothing that the model forbids",
				Once:     true,
				Sections: proof.Same("the model of the standard", "the model of the standard"),
			},
			Verdict:  proof.Kept,
			Expected: "nothing that the model forbids",
			At:       start,
			Took:     r.Took,
			Seen: fmt.Sprintf(
				"%d conversations of seed %d, %d actions, %d of %d pairs of actions",
				r.Conversations,
				r.Seed,
				r.Actions,
				tried,
				all,
			),
		},
	}
	p.Results[0].Notes = limits(r)
	if r.Conversations == 0 {
		p.Results[0].Verdict, p.Results[0].Seen = proof.Undecided, "stopped before the first conversation"
	}
	return p
}

// limits says which limits of the broker's were found on the way.
func limits(r *Report) (out []string) {
	if r.Queue > 0 {
		out = append(
			out,
			fmt.Sprintf("the broker keeps %d messages for an absent client: beyond so many none is missed", r.Queue),
		)
	}
	if r.Largest > 0 {
		out = append(
			out,
			fmt.Sprintf(
				"the broker passes on no payloads that are much longer than %d bytes: none was tried further",
				r.Largest,
			),
		)
	}
	return out
}
