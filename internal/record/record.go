// Package record keeps a trace in a file: one SQLite database that a session is written to
// while it runs, and that can be read again, also by other programs. docs/record.md
// describes its tables.
package record

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	_ "modernc.org/sqlite" // the driver "sqlite"

	"hodstone/internal/trace"
)

const (
	// commitEvery is how often what has come is committed; with the time that a commit
	// takes, events are safe 200 ms after they happened.
	commitEvery = 100 * time.Millisecond
	// batch is how many events are taken from the log at a time. The log's ring is the
	// recorder's queue.
	batch = 5_000
	// formatName and formatVersion mark a database as one of ours.
	formatName    = "hodstone trace"
	formatVersion = "2"
)

const tables = `
CREATE TABLE meta   (key TEXT PRIMARY KEY, value TEXT NOT NULL) WITHOUT ROWID;
CREATE TABLE source (id INTEGER PRIMARY KEY, client TEXT NOT NULL, role TEXT NOT NULL, broker TEXT NOT NULL, version INTEGER NOT NULL);
CREATE TABLE topic  (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE);
CREATE TABLE event  (n INTEGER PRIMARY KEY, at INTEGER NOT NULL, source INTEGER NOT NULL, conn INTEGER NOT NULL, kind INTEGER NOT NULL,
                     type INTEGER NOT NULL, topic INTEGER NOT NULL, raw BLOB, broken TEXT, link TEXT, text TEXT, missed INTEGER NOT NULL DEFAULT 0,
                     ended_by TEXT, meaning INTEGER NOT NULL DEFAULT 0);
`

// Options say how a trace is recorded.
type Options struct {
	// Path is the file, which must not exist yet.
	Path string
	// Meta is kept with the events: the workspace, the brokers and whatever else tells
	// what was recorded.
	Meta map[string]string
	// MaxSize and MaxAge rotate the file: once it is larger, in bytes, or older, it is
	// put aside under its name with the time of its end, and another is begun. 0 for
	// no limit.
	MaxSize int64
	MaxAge  time.Duration
	// Committed is told, after each commit, how many of the log's events are safe: all
	// numbers below next. It may be nil.
	Committed func(next uint64)
}

// Recorder writes what comes into a log to a file until it is closed. Its methods are safe
// for concurrent use.
type Recorder struct {
	opt  Options
	log  *trace.Log
	stop context.CancelFunc
	done chan struct{}

	mu     sync.Mutex
	next   uint64 // of the log, not yet committed
	events int
	missed uint64
	err    error
	files  []string // put aside by rotation
}

// Start begins to record from the event with the number on: 1 for all that the log still
// has. The error says why the file cannot be made.
func Start(log *trace.Log, from uint64, o Options) (*Recorder, error) {
	w, err := create(o)
	if err != nil {
		return nil, err
	}
	ctx, stop := context.WithCancel(context.Background())
	r := &Recorder{opt: o, log: log, stop: stop, done: make(chan struct{}), next: from}
	go func() {
		defer close(r.done)
		if err := r.run(ctx, w); err != nil {
			r.mu.Lock()
			r.err = fmt.Errorf("recording to %s ended: %w", o.Path, err)
			r.mu.Unlock()
		}
	}()
	return r, nil
}

// State is how a recorder stands.
type State struct {
	Path    string
	Events  int    // committed
	Missed  uint64 // came too fast to be recorded; the file has a gap record for them
	Err     error  // why it ended by itself, such as a full disk
	Rotated []string
}

// State returns how the recorder stands.
func (r *Recorder) State() State {
	r.mu.Lock()
	defer r.mu.Unlock()
	return State{r.opt.Path, r.events, r.missed, r.err, append([]string(nil), r.files...)}
}

// Close records what has come, closes the file and returns why recording failed, if it did.
func (r *Recorder) Close() error {
	r.stop()
	<-r.done
	return r.State().Err
}

// run takes batches from the log and commits them.
func (r *Recorder) run(ctx context.Context, w *writer) (err error) {
	defer func() { err = errors.Join(err, w.close()) }()
	next := r.next
	for last := false; !last; {
		select {
		case <-time.After(commitEvery):
		case <-ctx.Done():
			last = true
		}
		for end := r.log.Next(); next < end; {
			events, missed := r.log.Read(next, batch)
			if err := w.write(events, missed); err != nil {
				return err
			}
			next += uint64(len(events)) + missed
			r.mu.Lock()
			r.next, r.events, r.missed = next, r.events+len(events), r.missed+missed
			r.mu.Unlock()
			if r.opt.Committed != nil {
				r.opt.Committed(next)
			}
		}
		if !last && w.full() {
			aside, err := w.rotate()
			if err != nil {
				return err
			}
			r.mu.Lock()
			r.files = append(r.files, aside)
			r.mu.Unlock()
		}
	}
	return nil
}

// writer writes one file after another.
type writer struct {
	made    os.FileInfo // the file as it was made
	opt     Options
	db      *sql.DB
	began   time.Time
	sources map[trace.Source]int64
	topics  map[string]int64
	n       int64
}

// dsn names a file for the driver; WAL with synchronous NORMAL keeps what was committed
// when the program dies.
func dsn(path, mode string) string {
	return "file:" + (&url.URL{Path: path}).EscapedPath() + "?mode=" + mode + "&_pragma=journal_mode(WAL)&_pragma=synchronous(NORMAL)&_pragma=busy_timeout(5000)"
}

func create(o Options) (*writer, error) {
	if _, err := os.Stat(o.Path); err == nil {
		return nil, fmt.Errorf("%s is there already: choose another file, or take it away", o.Path)
	}
	w := &writer{opt: o}
	return w, w.begin()
}

func (w *writer) begin() error {
	if dir := filepath.Dir(w.opt.Path); dir != "." {
		if _, err := os.Stat(dir); err != nil {
			return fmt.Errorf("the record cannot be made: %w", err)
		}
	}
	// It holds what went over the wire: nobody else's business.
	file, err := os.OpenFile(w.opt.Path, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("the record cannot be made: %w", err)
	}
	w.made, _ = file.Stat()
	file.Close()
	db, err := sql.Open("sqlite", dsn(w.opt.Path, "rw"))
	if err != nil {
		return err
	}
	db.SetMaxOpenConns(1)
	w.db, w.began, w.n = db, time.Now(), 0
	w.sources, w.topics = map[trace.Source]int64{}, map[string]int64{}
	fail := func(err error) error {
		db.Close()
		return fmt.Errorf("the record %s cannot be made: %w", w.opt.Path, err)
	}
	if _, err := db.Exec(tables); err != nil {
		return fail(err)
	}
	meta := map[string]string{
		"format":         formatName,
		"format version": formatVersion,
		"began":          w.began.Format(time.RFC3339Nano),
	}
	for k, v := range w.opt.Meta {
		meta[k] = v
	}
	for k, v := range meta {
		if _, err := db.Exec("INSERT INTO meta VALUES (?, ?)", k, v); err != nil {
			return fail(err)
		}
	}
	return nil
}

func (w *writer) close() error {
	if w.db == nil {
		return nil
	}
	_, err := w.db.Exec("INSERT OR REPLACE INTO meta VALUES ('ended', ?)", time.Now().Format(time.RFC3339Nano))
	return errors.Join(err, w.db.Close())
}

// gone tells that the record was deleted, or another file has taken its place: what is written then
// goes nowhere.
func (w *writer) gone() error {
	if now, err := os.Stat(w.opt.Path); err != nil || !os.SameFile(w.made, now) {
		return fmt.Errorf("%s was deleted or moved while it was written: what came since is lost", w.opt.Path)
	}
	return nil
}

// write commits events, after a gap record for those that were missed.
func (w *writer) write(events []trace.Event, missed uint64) error {
	if err := w.gone(); err != nil {
		return err
	}
	tx, err := w.db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback() // does nothing after a commit
	put, err := tx.Prepare("INSERT INTO event VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?)")
	if err != nil {
		return err
	}
	defer put.Close()
	if missed > 0 {
		gap := trace.Event{At: time.Now(), Kind: trace.Gap, Missed: missed}
		if len(events) > 0 {
			gap.At = events[0].At
		}
		if err := w.put(tx, put, &gap); err != nil {
			return err
		}
	}
	for i := range events {
		if err := w.put(tx, put, &events[i]); err != nil {
			return err
		}
	}
	return tx.Commit()
}

func (w *writer) put(tx *sql.Tx, put *sql.Stmt, e *trace.Event) error {
	src := trace.Source{Client: e.Client, Role: e.Role, Broker: e.Broker, Version: e.Version}
	source, ok := w.sources[src]
	if !ok {
		source = int64(len(w.sources) + 1)
		if _, err := tx.Exec("INSERT INTO source VALUES (?,?,?,?,?)", source, src.Client, string(src.Role), src.Broker, int(src.Version)); err != nil {
			return err
		}
		w.sources[src] = source
	}
	var topic, kind int64
	if name := e.Topic(); name != "" {
		if topic, ok = w.topics[name]; !ok {
			topic = int64(len(w.topics) + 1)
			if _, err := tx.Exec("INSERT INTO topic VALUES (?,?)", topic, name); err != nil {
				return err
			}
			w.topics[strings.Clone(name)] = topic
		}
	}
	if e.Packet != nil {
		kind = int64(e.Packet.Type())
	}
	w.n++
	_, err := put.Exec(
		w.n,
		e.At.UnixNano(),
		source,
		e.Conn,
		int(e.Kind),
		kind,
		topic,
		e.Raw,
		null(e.Broken),
		null(string(e.Link)),
		null(e.Text),
		int64(e.Missed),
		null(string(e.By)),
		e.Meaning.Pack(),
	)
	return err
}

func null(s string) any {
	if s == "" {
		return nil
	}
	return s
}

// full tells whether the file is due to be put aside.
func (w *writer) full() bool {
	if w.opt.MaxAge > 0 && time.Since(w.began) >= w.opt.MaxAge && w.n > 0 {
		return true
	}
	if w.opt.MaxSize <= 0 {
		return false
	}
	var size int64
	for _, suffix := range []string{"", "-wal"} {
		if info, err := os.Stat(w.opt.Path + suffix); err == nil {
			size += info.Size()
		}
	}
	return size >= w.opt.MaxSize && w.n > 0
}

// rotate puts the file aside under the time of its end and begins another.
func (w *writer) rotate() (aside string, err error) {
	if err := w.close(); err != nil {
		return "", err
	}
	w.db = nil
	ext := filepath.Ext(w.opt.Path)
	stem := strings.TrimSuffix(w.opt.Path, ext)
	for i := 0; ; i++ {
		aside = stem + "-" + time.Now().Format("20060102T150405")
		if i > 0 {
			aside += fmt.Sprintf("-%d", i)
		}
		aside += ext
		if _, err := os.Stat(aside); err != nil {
			break
		}
	}
	if err := os.Rename(w.opt.Path, aside); err != nil {
		return "", err
	}
	return aside, w.begin()
}
