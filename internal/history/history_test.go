package history_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"hodstone/internal/history"
)

// TestProofsAreKept: what was kept comes back, the newest first, from a file that others write to as well; the oldest
// go; what is no such file is told.
func TestProofsAreKept(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a file?.proofs")
	h, err := history.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	defer h.Close()
	at := time.Date(2026, 11, 2, 9, 0, 0, 5, time.UTC)
	long := strings.Repeat("eelgrass ", 10_000)
	for i, listener := range []string{"tcp", "tls", "tcp"} {
		id, err := h.Keep(
			history.Entry{
				Started:  at.Add(time.Duration(i) * time.Hour),
				Broker:   "quay",
				Listener: listener,
				Summary:  fmt.Sprint(i),
			},
			[]byte(long+fmt.Sprint(i)),
		)
		if err != nil || id != int64(i+1) {
			t.Fatal(id, err)
		}
	}
	var wg sync.WaitGroup
	for range 4 { // several programs at once
		wg.Go(func() {
			other, err := history.Open(path)
			if err != nil {
				t.Error(err)
				return
			}
			defer other.Close()
			for range 5 {
				if _, err := other.Keep(
					history.Entry{Started: at, Broker: "harbour", Listener: "tcp"},
					[]byte("x"),
				); err != nil {
					t.Error(err)
				}
			}
		})
	}
	wg.Wait()
	list, err := h.List("quay", "tcp", 10)
	if err != nil || len(list) != 2 || list[0].ID != 3 || list[1].ID != 1 ||
		!list[0].Started.Equal(at.Add(2*time.Hour)) ||
		list[0].Summary != "2" {
		t.Errorf("%+v %v", list, err)
	}
	if all, err := h.List("", "", 100); err != nil || len(all) != 23 {
		t.Errorf("%d %v", len(all), err)
	}
	if some, err := h.List("quay", "", 1); err != nil || len(some) != 1 || some[0].ID != 3 {
		t.Errorf("%+v %v", some, err)
	}
	if d, err := h.Document(2); err != nil || string(d) != long+"1" {
		t.Errorf("%d bytes, %v", len(d), err)
	}
	if info, err := os.Stat(path); err != nil || info.Mode().Perm() != 0o600 || info.Size() > 60_000 {
		t.Errorf("%+v %v", info, err)
	}
	for range history.Most {
		h.Keep(history.Entry{Started: at, Broker: "full"}, nil)
	}
	if _, err := h.Document(2); err == nil || !strings.Contains(err.Error(), "has no proof 2") {
		t.Error(err)
	}
	if all, _ := h.List("", "", 1000); len(all) != history.Most {
		t.Errorf("%d are kept", len(all))
	}
	foreign := filepath.Join(t.TempDir(), "notes.txt")
	os.WriteFile(foreign, []byte("the boat leaves at six, and this is no database at all"), 0o600)
	if _, err := history.Open(foreign); err == nil || !strings.Contains(err.Error(), "keeps no proofs") {
		t.Error(err)
	}
	if b, _ := os.ReadFile(foreign); !strings.HasPrefix(string(b), "the boat") {
		t.Error("a foreign file was changed")
	}
	if _, err := history.Open(filepath.Join(t.TempDir(), "none", "x")); err == nil {
		t.Error("a folder that there is not")
	}
}
