package proof

import (
	"context"
	"fmt"
	"testing"
	"testing/synctest"
)

// TestTheGovernorFindsHowManyThereMayBe: it begins with few, takes more while none is refused, and keeps to a cap once
// one was met; a cap is lowered only by a plain client that came under it.
func TestTheGovernorFindsHowManyThereMayBe(t *testing.T) {
	ctx, stop := context.WithCancel(t.Context())
	take := func(g *governor, least, most int) string {
		n, under, ok := g.take(ctx, least, 0, most)
		return fmt.Sprint(n, under, ok)
	}
	want := func(got, want string) {
		t.Helper()
		if got != want {
			t.Errorf("%s, want %s", got, want)
		}
	}
	g := newGovernor()
	want(take(g, 1, 2), "2 0 true")
	want(take(g, 1, 2), "1 0 true") // three to begin with
	g.give(2, true)
	g.give(1, true)
	want(take(g, 6, 6), "6 0 true") // as many as it let in, twice
	g.give(6, true)
	want(take(g, 50, 50), "50 0 true") // nobody is there: more has to be tried some time
	g.give(50, false)
	want(take(g, 150, 160), "150 0 true")
	g.give(150, true)
	want(take(g, 1, 1000), "200 0 true") // no more than 200 by itself
	g.give(200, false)
	g.refused(5, 3, 0, false)
	want(fmt.Sprint(g.capped()), "5")
	want(take(g, 6, 6), "0 5 false")
	want(take(g, 2, 9), "5 5 true")
	g.give(5, true)
	for _, tt := range []struct {
		there, proven, under int
		plain                bool
		cap                  int
	}{
		{2, 2, 5, false, 5}, // it was no plain one
		{2, 2, 0, true, 5},  // it came before the cap was known
		{7, 7, 5, true, 5},  // so many were there
		{3, 7, 5, true, 4},  // one less, whatever is proven
		{1, 2, 4, true, 2}, {0, 0, 2, true, 1}, {0, 0, 1, true, 1},
	} {
		if g.refused(tt.there, tt.proven, tt.under, tt.plain); g.capped() != tt.cap {
			t.Errorf("after %+v: %d", tt, g.capped())
		}
	}
	want(take(g, 1, 9), "1 1 true")
	synctest.Test(t, func(t *testing.T) { // who waits goes on when there is room, and when it is stopped
		g := newGovernor()
		ctx, stop := context.WithCancel(t.Context())
		g.take(ctx, 3, 0, 3)
		got := make(chan string, 2)
		go func() { n, _, ok := g.take(ctx, 2, 0, 2); got <- fmt.Sprint(n, ok) }()
		synctest.Wait()
		if len(got) != 0 {
			t.Error("there was no room")
		}
		g.give(3, false)
		want(<-got, "2 true")
		go func() { n, _, ok := g.take(ctx, 3, 0, 3); got <- fmt.Sprint(n, ok) }()
		synctest.Wait()
		stop()
		want(<-got, "0 true")
	})
	stop()
	want(take(g, 1, 1), "0 0 true")
}

// TestWordsOfEvidence at their bounds.
func TestWordsOfEvidence(t *testing.T) {
	for text, want := range map[string]string{"": `""`, "123456789012345678901234": `"123456789012345678901234"`,
		"1234567890123456789012345": `"12345678901234567890"…`} {
		if got := shown(text); got != want {
			t.Errorf("%s, want %s", got, want)
		}
	}
	for _, tt := range []struct {
		got, want string
		likely    bool
	}{{"", "gone", false}, {"gone", "", false}, {"gon", "gone", true}, {"gone", "gone with", true},
		{"g0ne", "gone", false}, {"12345678x", "12345678y", true}, {"1234567x", "1234567y", false}} {
		if likely(tt.got, tt.want) != tt.likely {
			t.Errorf("%+v", tt)
		}
	}
}
