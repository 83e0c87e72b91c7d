package main

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"hodstone/internal/brokertest"
	"hodstone/internal/fleet"
)

// TestPartsOfALoadAreProcesses: four of them, on machines whose clocks differ, begin together at one broker; merged, their
// counts and histograms are those of the whole, and what one of them lacks is told.
func TestPartsOfALoadAreProcesses(t *testing.T) {
	broker := brokertest.Start(t, brokertest.Options{Anonymous: true})
	bin, dir := binary(t), t.TempDir()
	begin := time.Now().Add(3 * time.Second)
	var all sync.WaitGroup
	names := make([]string, 4)
	for i := range names {
		names[i] = filepath.Join(dir, fmt.Sprintf("part%d.json", i+1))
		all.Go(func() {
			out, err := exec.Command(bin, "load", broker.URLs["tcp"], "--clients", "42", "--each", "20", "--every", "50ms",
				"--qos", "1", "--shape", "pairs", "--bound", "lost=0,refused=0", "--start-at", begin.Format(time.RFC3339Nano),
				"--shard", fmt.Sprintf("%d/4", i+1), "--out", names[i]).
				CombinedOutput()
			if err != nil {
				t.Errorf("part %d: %v\n%s", i+1, err, out)
			}
		})
	}
	all.Wait()
	var count int64
	length := 0
	for i, name := range names {
		b, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		var r fleet.Result
		if err := json.Unmarshal(b, &r); err != nil {
			t.Fatal(err)
		}
		if late := r.Started.Sub(begin); late < 0 || late > 5*time.Second {
			t.Errorf("part %d began %s after the time", i+1, late)
		}
		count += r.Total.Trip.Count
		length = max(length, len(r.Seconds))
		by := time.Duration(i) * 47 * time.Minute
		r.Started = r.Started.Add(by)
		for k := range r.Seconds {
			r.Seconds[k].At = r.Seconds[k].At.Add(by)
		}
		for k := range r.Steps {
			r.Steps[k].At = r.Steps[k].At.Add(by)
		}
		if b, err = json.Marshal(r); err == nil {
			err = os.WriteFile(name, b, 0o600)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	whole := filepath.Join(dir, "whole.json")
	merge := exec.Command(bin, append([]string{"load", "merge", "--out", whole}, names...)...)
	text, err := merge.CombinedOutput()
	for _, want := range []string{"merged of 4 parts: 1/4, 2/4, 3/4, 4/4", "42 in of 42, 0 refused", "420 sent, 420 received of 420 expected, 0 lost"} {
		if err != nil || !strings.Contains(string(text), want) {
			t.Errorf("%v, no %q in\n%s", err, want, text)
		}
	}
	var r fleet.Result
	if b, err := os.ReadFile(
		whole,
	); err != nil || json.Unmarshal(b, &r) != nil || r.Total.Trip.Count != count || count != 420 ||
		len(r.Seconds) > length+1 ||
		!r.Holds() {
		t.Errorf("%v: %d of %d round trips, %d seconds of %d", err, r.Total.Trip.Count, count, len(r.Seconds), length)
	}
	text, err = exec.Command(bin, "load", "merge", names[0], names[1], names[3]).CombinedOutput()
	if err == nil || !strings.Contains(string(text), "parts are absent: 3/4") {
		t.Errorf("%v\n%s", err, text)
	}
}
