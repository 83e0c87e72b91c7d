package record_test

import (
	"bufio"
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"strings"
	"syscall"
	"testing"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/record"
	"hodstone/internal/trace"
)

const asChild = "HODSTONE_RECORD_CHILD"

func TestMain(m *testing.M) {
	if path := os.Getenv(asChild); path != "" {
		recordUntilKilled(path)
	}
	os.Exit(m.Run())
}

// fill adds n messages of a few clients, with what surrounds them.
func fill(log *trace.Log, n int) {
	at := time.Date(2026, 11, 23, 9, 30, 0, 0, time.Local)
	add := func(e trace.Event, p packet.Packet) {
		if p != nil {
			e.Packet, e.Raw = p, p.Append(nil, e.Version)
		}
		e.At, e.Broker = at, "quay"
		at = at.Add(time.Millisecond)
		log.Add(trace.Redact(e))
	}
	for i := range 3 {
		e := trace.Event{Client: fmt.Sprint("pen-", i), Role: trace.RoleDevice, Version: packet.V5, Conn: 1}
		link := e
		link.Kind, link.Link, link.Text, link.By = trace.Link, client.LinkEnded, "127.0.0.1:1883", client.ByBroker
		add(link, nil)
		e.Kind = trace.Sent
		add(
			e,
			&packet.Connect{
				Level:       packet.V5,
				ClientID:    e.Client,
				HasUsername: true,
				Username:    "pen",
				HasPassword: true,
				Password:    []byte("sesame"),
			},
		)
		add(e, &packet.Subscribe{ID: 1, Subscriptions: []packet.Subscription{{Filter: "farm/+/set"}}})
	}
	bad := trace.Event{
		Kind:    trace.Received,
		Client:  "pen-0",
		Role:    trace.RoleDevice,
		Version: packet.V5,
		Conn:    1,
		Raw:     []byte{0x36, 2, 0, 0},
		Broken:  "QoS 3",
	}
	add(bad, nil)
	for i := range n {
		e := trace.Event{
			Kind:    trace.Sent + trace.Kind(i%2),
			Client:  fmt.Sprint("pen-", i%3),
			Role:    trace.RoleDevice,
			Version: packet.V5,
			Conn:    1,
		}
		name := fmt.Sprintf("farm/%d/oxygen", i%7)
		e.Meaning = trace.Meaning{
			Topic:    name,
			Stored:   trace.Storage(i % 3),
			Flag:     i%2 == 0,
			Promised: byte(i % 8),
			Granted:  packet.QoS(i % 3),
			Whole:    i%5 == 0,
		}
		add(
			e,
			&packet.Publish{
				Topic:   name,
				Payload: fmt.Appendf(nil, `{"mgl": %d}`, i),
				QoS:     packet.QoS(i % 2),
				ID:      uint16(i%2) * 7,
			},
		)
	}
	log.Add(trace.Event{At: at, Client: "console", Role: trace.RoleLog, Kind: trace.Line, Text: "pump 3 tripped"})
}

func all(r trace.Reader) (out []trace.Event) {
	for from := r.Oldest(); from < r.Next(); {
		events, missed := r.Read(from, 700)
		from += uint64(len(events)) + missed
		out = append(out, events...)
	}
	return out
}

func open(t *testing.T, path string) *record.File {
	t.Helper()
	f, err := record.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { f.Close() })
	return f
}

func TestARecordGivesBackTheTrace(t *testing.T) {
	log := trace.NewLog(10_000)
	path := filepath.Join(t.TempDir(), "a #1 trace.db")
	fill(log, 1000)
	r, err := record.Start(log, 1, record.Options{Path: path, Meta: map[string]string{"workspace": "Marrow Voe"}})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := record.Start(log, 1, record.Options{Path: path}); err == nil ||
		!strings.Contains(err.Error(), "is there already") {
		t.Error(err)
	}
	fill(log, 1000)
	if err := r.Close(); err != nil {
		t.Fatal(err)
	}
	f := open(t, path)
	want, got := all(log), all(f)
	if len(got) != len(want) || r.State().Events != len(want) {
		t.Fatalf("%d events, want %d; %+v", len(got), len(want), r.State())
	}
	for i := range want {
		if !want[i].At.Equal(got[i].At) {
			t.Fatalf("event %d at %s, want %s", i, got[i].At, want[i].At)
		}
		want[i].At, got[i].At = time.Time{}, time.Time{}
		if !reflect.DeepEqual(want[i], got[i]) {
			t.Fatalf("event %d\n%+v\nwant\n%+v", i, got[i], want[i])
		}
		if e, ok := f.At(uint64(i + 1)); !ok || e.Seq != uint64(i+1) || e.Client != want[i].Client {
			t.Fatalf("at %d: %+v", i+1, e)
		}
	}
	if _, ok := f.At(f.Next()); ok || f.Err() != nil || f.Meta["workspace"] != "Marrow Voe" ||
		strings.Join(f.Clients(), " ") != "pen-0 pen-1 pen-2 console" {
		t.Errorf("%v %v %v", f.Err(), f.Meta, f.Clients())
	}
	for _, file := range []string{path, path + "-wal"} {
		if b, _ := os.ReadFile(file); strings.Contains(string(b), "sesame") {
			t.Errorf("the password stands in %s", file)
		}
	}
	// What the database narrows down, and what the filter alone finds, is the same.
	for _, text := range []string{"", "type:publish", "type:connect,subscribe", "type:link", "type:line,publish client:0", "client:pen-1", "topic:farm/3/+", "topic:farm/+/set",
		"topic:farm/+/oxygen client:pen-2 17", "tripped", "since:09:30:01", "until:09:30:00.200 type:publish", "since:09:30 until:09:29"} {
		filter, err := trace.ParseFilter(text)
		if err != nil {
			t.Fatal(err)
		}
		var found, expected []uint64
		total := uint64(0)
		err = f.Search(
			context.Background(),
			filter,
			1,
			func(e *trace.Event) bool { found = append(found, e.Seq); return true },
			func(done, all uint64) { total = all },
		)
		real := all(f)
		for i := range real {
			if filter.Match(&real[i]) {
				expected = append(expected, real[i].Seq)
			}
		}
		if err != nil || !reflect.DeepEqual(found, expected) || total != uint64(len(want)) {
			t.Errorf("%q finds %d, want %d: %v", text, len(found), len(expected), err)
		}
	}
	none, cancel := context.WithCancel(context.Background())
	cancel()
	if err := f.Search(none, trace.Filter{}, 1, func(*trace.Event) bool { return true }, nil); err == nil {
		t.Error("a cancelled search says nothing")
	}
}

func TestWhatCannotBeOpened(t *testing.T) {
	dir := t.TempDir()
	text := filepath.Join(dir, "notes.txt")
	os.WriteFile(text, []byte(strings.Repeat("not a database ", 200)), 0o600)
	empty := filepath.Join(dir, "empty.db")
	os.WriteFile(empty, nil, 0o600)
	for path, want := range map[string]string{text: "no record of Hodstone's", empty: "no record of Hodstone's", filepath.Join(dir, "nowhere.db"): "cannot open"} {
		if _, err := record.Open(path); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", path, err)
		}
	}
	if _, err := record.Start(trace.NewLog(1), 1, record.Options{Path: filepath.Join(dir, "no/where/x.db")}); err == nil {
		t.Error("recorded into a folder that is not there")
	}
}

// TestAGapIsRecorded: what the ring dropped before the recorder came to it is told.
func TestAGapIsRecorded(t *testing.T) {
	log := trace.NewLog(100)
	fill(log, 500)
	path := filepath.Join(t.TempDir(), "t.db")
	r, err := record.Start(log, 1, record.Options{Path: path})
	if err != nil {
		t.Fatal(err)
	}
	if err := r.Close(); err != nil {
		t.Fatal(err)
	}
	got := all(open(t, path))
	lost := log.Next() - 1 - 100
	if len(got) != 101 || got[0].Kind != trace.Gap || got[0].Missed != lost ||
		!strings.Contains(got[0].Describe(), fmt.Sprint(lost)) ||
		r.State().Missed != lost {
		t.Errorf("%d events, the first %+v, want %d missed", len(got), got[0], lost)
	}
}

func TestRotation(t *testing.T) {
	log := trace.NewLog(100_000)
	path := filepath.Join(t.TempDir(), "t.db")
	r, err := record.Start(log, 1, record.Options{Path: path, MaxSize: 400 << 10})
	if err != nil {
		t.Fatal(err)
	}
	for len(r.State().Rotated) < 2 {
		fill(log, 2000)
		for end := time.Now().Add(20 * time.Second); ; time.Sleep(time.Millisecond) { // until all is committed
			s := r.State()
			if s.Err != nil || s.Events > 90_000 || time.Now().After(end) {
				t.Fatalf("%+v", s)
			}
			if s.Events == int(log.Next()-1) {
				break
			}
		}
	}
	if err := r.Close(); err != nil {
		t.Fatal(err)
	}
	total := 0
	for _, p := range append(r.State().Rotated, path) {
		f := open(t, p)
		total += len(all(f))
		if f.Meta["ended"] == "" {
			t.Errorf("%s has no end", p)
		}
	}
	if want := int(log.Next() - 1); total != want {
		t.Errorf("%d events in all files, want %d", total, want)
	}
}

// recordUntilKilled is the child of the test below.
func recordUntilKilled(path string) {
	log := trace.NewLog(50_000)
	_, err := record.Start(log, 1, record.Options{Path: path, Committed: func(next uint64) { fmt.Println(next - 1) }})
	if err != nil {
		fmt.Println(err)
		os.Exit(1)
	}
	for i := 0; ; i++ {
		log.Add(trace.Event{At: time.Now(), Client: "c", Kind: trace.Line, Text: fmt.Sprint("event ", i+1)})
		if i%5 == 0 {
			time.Sleep(time.Millisecond)
		}
	}
}

// TestWhatWasCommittedSurvivesSIGKILL: a process that records is killed in the middle; all
// that it reported as committed is there, and nothing older than 200 ms is lost.
func TestWhatWasCommittedSurvivesSIGKILL(t *testing.T) {
	path := filepath.Join(t.TempDir(), "t.db")
	cmd := exec.Command(os.Args[0])
	cmd.Env = append(os.Environ(), asChild+"="+path)
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	defer cmd.Process.Kill()
	committed := 0
	lines := bufio.NewScanner(out)
	for commits := 0; commits < 8 && lines.Scan(); commits++ {
		if _, err := fmt.Sscan(lines.Text(), &committed); err != nil {
			t.Fatalf("the child says %q", lines.Text())
		}
	}
	cmd.Process.Signal(syscall.SIGKILL)
	for lines.Scan() { // what it still reported before it died
		fmt.Sscan(lines.Text(), &committed)
	}
	if cmd.Wait(); committed == 0 {
		t.Fatal("nothing was committed")
	}
	f := open(t, path)
	events := all(f)
	if len(events) < committed {
		t.Fatalf("%d events were reported as committed, %d are there", committed, len(events))
	}
	for i, e := range events {
		if want := fmt.Sprint("event ", i+1); e.Text != want {
			t.Fatalf("event %d is %q", i, e.Text)
		}
	}
	if f.Meta["ended"] != "" {
		t.Error("a record that was cut off says that it ended")
	}
}

func TestFollowing(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "broker.log")
	write := func(flags int, text string) {
		t.Helper()
		f, err := os.OpenFile(path, flags|os.O_CREATE|os.O_WRONLY, 0o600)
		if err != nil {
			t.Fatal(err)
		}
		defer f.Close()
		if _, err := f.WriteString(text); err != nil {
			t.Fatal(err)
		}
	}
	write(0, "old\n")
	log := trace.NewLog(100)
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	if _, err := record.Follow(ctx, "quay.log", path, log); err != nil {
		t.Fatal(err)
	}
	want := func(n uint64, text string) {
		t.Helper()
		wait, stop := context.WithTimeout(ctx, 10*time.Second)
		defer stop()
		if err := log.Wait(wait, n); err != nil {
			t.Fatalf("waiting for %q: %v", text, err)
		}
		if e, _ := log.At(n); e.Text != text || e.Kind != trace.Line || e.Role != trace.RoleLog {
			t.Fatalf("%+v, want %q", e, text)
		}
	}
	write(os.O_APPEND, "one\r\ntw")
	want(1, "one")
	write(os.O_APPEND, "o\n")
	want(2, "two")
	write(os.O_TRUNC, "anew\n")
	want(3, "anew")
	os.Rename(path, path+".1")
	write(0, "replaced \xff\n")
	want(4, "replaced \uFFFD")
	write(os.O_APPEND, strings.Repeat("x", 5000))
	want(5, strings.Repeat("x", 4096))

	path = filepath.Join(dir, "console")
	if err := syscall.Mkfifo(path, 0o600); err != nil {
		t.Fatal(err)
	}
	pipe, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := record.Follow(ctx, "console", path, log); err != nil {
		t.Fatal(err)
	}
	pipe.WriteString("boot\n")
	want(6, "boot")
	pipe.Close()
	want(7, "— no more comes: the other end was closed")
	for _, bad := range []string{dir, filepath.Join(dir, "nowhere")} {
		if _, err := record.Follow(ctx, "x", bad, log); err == nil ||
			!strings.Contains(err.Error(), "cannot follow x") {
			t.Error(err)
		}
	}
}

// BenchmarkOpen opens a record of a million events and shows its end, its middle and its
// beginning.
func BenchmarkOpen(b *testing.B) {
	path := filepath.Join(b.TempDir(), "t.db")
	log := trace.NewLog(50_000)
	r, err := record.Start(log, 1, record.Options{Path: path})
	if err != nil {
		b.Fatal(err)
	}
	for log.Next() < 1_000_000 {
		fill(log, 20_000)
		for r.State().Events < int(log.Next()-1)-25_000 {
			time.Sleep(time.Millisecond)
		}
	}
	if err := r.Close(); err != nil || r.State().Missed > 0 {
		b.Fatal(err, r.State())
	}
	for b.Loop() {
		f, err := record.Open(path)
		if err != nil {
			b.Fatal(err)
		}
		for _, at := range []uint64{f.Next() - 1, f.Next() / 2, 1} {
			if _, ok := f.At(at); !ok {
				b.Fatal(f.Err())
			}
		}
		f.Close()
	}
}

// TestARecordIsPrivateAndMissed: nobody else may read it, and that it was deleted while it is written is told.
func TestARecordIsPrivateAndMissed(t *testing.T) {
	path := filepath.Join(t.TempDir(), "a.db")
	log := trace.NewLog(100)
	r, err := record.Start(log, 1, record.Options{Path: path})
	if err != nil {
		t.Fatal(err)
	}
	log.Add(trace.Event{Kind: trace.Line, Client: "a", Text: "one"})
	for end := time.Now().Add(20 * time.Second); r.State().Events < 1; time.Sleep(time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal("nothing is written")
		}
	}
	files, _ := filepath.Glob(path + "*")
	for _, f := range files {
		if info, err := os.Stat(f); err != nil || info.Mode().Perm()&0o077 != 0 {
			t.Errorf("%s: %v %v", f, info.Mode(), err)
		}
	}
	for _, f := range files {
		os.Remove(f)
	}
	log.Add(trace.Event{Kind: trace.Line, Client: "a", Text: "two"})
	if err := r.Close(); err == nil || !strings.Contains(err.Error(), "was deleted or moved while it was written") {
		t.Errorf("%v", err)
	}
}

// TestAPipeIsFollowed: also one that nobody writes into yet, until its writer leaves.
func TestAPipeIsFollowed(t *testing.T) {
	path := filepath.Join(t.TempDir(), "pipe")
	if err := syscall.Mkfifo(path, 0o600); err != nil {
		t.Fatal(err)
	}
	log := trace.NewLog(100)
	done, err := record.Follow(t.Context(), "console", path, log)
	if err != nil {
		t.Fatal(err)
	}
	w, err := os.OpenFile(path, os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	w.WriteString("begun\n")
	w.Close()
	select {
	case <-done:
	case <-time.After(20 * time.Second):
		t.Fatal("its end is not noticed")
	}
	events, _ := log.Read(1, 10)
	if len(events) != 2 || events[0].Text != "begun" || !strings.Contains(events[1].Text, "the other end was closed") {
		t.Errorf("%+v", events)
	}
}
