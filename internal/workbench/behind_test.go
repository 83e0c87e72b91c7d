package workbench

import (
	"testing"
	"time"
)

// TestAnObserverThatIsBehind: it is where all that comes comes late, and not where one publisher's way is long; what came
// is judged as of when it was sent, and time never goes back.
func TestAnObserverThatIsBehind(t *testing.T) {
	start := time.Unix(1000, 0)
	at := func(ms int) time.Time { return start.Add(time.Duration(ms) * time.Millisecond) }
	type came struct {
		sender    string
		ms, delay int
		want      int // judged as of
	}
	for name, all := range map[string][]came{
		"in time":           {{"a", 0, 2, 0}, {"b", 100, 5, 100}, {"", 200, 0, 200}},
		"one way is long":   {{"a", 0, 3, 0}, {"b", 100, 4000, 100}, {"", 5000, 0, 5000}},
		"only one is seen":  {{"a", 0, 4000, 0}, {"a", 100, 4000, 100}},
		"all are late":      {{"a", 0, 10, 0}, {"a", 3000, 1000, 3000}, {"b", 3100, 1050, 2000 + 1000}, {"", 4100, 0, 3050}, {"a", 4200, 10, 4200}},
		"it catches up":     {{"a", 0, 3000, 0}, {"b", 100, 3000, 0}, {"", 200, 0, 0}, {"", 3050, 0, 50}, {"", 3200, 0, 3200}},
		"later and later":   {{"a", 0, 600, 0}, {"b", 100, 700, 0}, {"a", 650, 3000, 0}, {"b", 2600, 3000, 0}, {"b", 5400, 3100, 2300}},
		"just below counts": {{"a", 0, 499, 0}, {"b", 10, 499, 10}},
	} {
		var b behind
		for i, x := range all {
			if x.sender != "" {
				b.came(arrival{x.sender, at(x.ms), time.Duration(x.delay) * time.Millisecond})
			}
			if got := b.when(at(x.ms)); !got.Equal(at(x.want)) {
				t.Errorf("%s, %d: judged as of %d ms, want %d", name, i, got.Sub(start).Milliseconds(), x.want)
			}
		}
	}
}
