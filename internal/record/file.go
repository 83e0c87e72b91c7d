package record

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"sort"
	"strings"
	"sync"
	"time"

	"hodstone/internal/mqtt/client"
	"hodstone/internal/mqtt/packet"
	"hodstone/internal/trace"
)

const (
	pageSize  = 512 // events that are read at a time while one scrolls
	pagesKept = 64
	scanBatch = 4_000
)

// File is a record that is read again. It is a [trace.Reader] whose events are numbered
// from 1; it may still be growing. Its methods are safe for concurrent use.
type File struct {
	Path string
	Meta map[string]string

	db *sql.DB

	mu      sync.Mutex
	sources map[int64]trace.Source
	topics  map[int64]string
	columns string // that an event is read from
	next    uint64
	looked  time.Time // when next was last read
	pages   map[uint64][]trace.Event
	order   []uint64 // of pages, oldest use first
	err     error
}

// Open opens a record. The error says what is wrong with the file.
func Open(path string) (*File, error) {
	if _, err := os.Stat(path); err != nil {
		return nil, fmt.Errorf("cannot open the record: %w", err)
	}
	db, err := sql.Open("sqlite", dsn(path, "rw"))
	if err != nil {
		return nil, err
	}
	f := &File{
		Path:    path,
		Meta:    map[string]string{},
		db:      db,
		sources: map[int64]trace.Source{},
		topics:  map[int64]string{},
		pages:   map[uint64][]trace.Event{},
	}
	if err := f.load(); err != nil {
		db.Close()
		return nil, fmt.Errorf("%s is no record of Hodstone's that can be read: %w", path, err)
	}
	return f, nil
}

func (f *File) load() error {
	rows, err := f.db.Query("SELECT key, value FROM meta")
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var k, v string
		if err := rows.Scan(&k, &v); err != nil {
			return err
		}
		f.Meta[k] = v
	}
	if err := rows.Err(); err != nil {
		return err
	}
	f.columns = columns
	if f.Meta["format version"] == firstVersion { // it had no meanings: those that the packet itself tells are worked out
		f.columns = "n, at, source, conn, kind, raw, broken, link, text, missed, NULL, -1, topic"
	}
	if f.Meta["format"] != formatName ||
		f.Meta["format version"] != formatVersion && f.Meta["format version"] != firstVersion {
		return fmt.Errorf(
			"its format is %q, version %q; this program reads %q, versions %s and %s",
			f.Meta["format"],
			f.Meta["format version"],
			formatName,
			firstVersion,
			formatVersion,
		)
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.look()
}

// look reads how far the record goes, and the names that have come; f.mu is held.
func (f *File) look() error {
	f.looked = time.Now()
	var last sql.NullInt64
	if err := f.db.QueryRow("SELECT max(n) FROM event").Scan(&last); err != nil {
		return err
	}
	f.next = uint64(last.Int64) + 1
	rows, err := f.db.Query("SELECT id, client, role, broker, version FROM source WHERE id > ?", len(f.sources))
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var id int64
		var s trace.Source
		if err := rows.Scan(&id, &s.Client, &s.Role, &s.Broker, &s.Version); err != nil {
			return err
		}
		f.sources[id] = s
	}
	if err := rows.Err(); err != nil {
		return err
	}
	topics, err := f.db.Query("SELECT id, name FROM topic WHERE id > ?", len(f.topics))
	if err != nil {
		return err
	}
	defer topics.Close()
	for topics.Next() {
		var id int64
		var name string
		if err := topics.Scan(&id, &name); err != nil {
			return err
		}
		f.topics[id] = name
	}
	return topics.Err()
}

// Close closes the file.
func (f *File) Close() error { return f.db.Close() }

// Err is the last error of reading, for those methods that return none.
func (f *File) Err() error {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.err
}

// Next returns the number after the last event. A record that grows is looked at again
// at most ten times a second.
func (f *File) Next() uint64 {
	f.mu.Lock()
	defer f.mu.Unlock()
	if time.Since(f.looked) > commitEvery && f.Meta["ended"] == "" {
		f.keep(f.look())
	}
	return f.next
}

func (f *File) keep(err error) {
	if err != nil && f.err == nil {
		f.err = fmt.Errorf("%s: %w", f.Path, err)
	}
}

// Oldest returns 1: a record forgets nothing.
func (f *File) Oldest() uint64 { return 1 }

// Clients lists the clients in the order of their first event.
func (f *File) Clients() (out []string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	ids := make([]int64, 0, len(f.sources))
	for id := range f.sources {
		ids = append(ids, id)
	}
	sort.Slice(ids, func(i, j int) bool { return ids[i] < ids[j] })
	seen := map[string]bool{"": true} // a gap is nobody's
	for _, id := range ids {
		if c := f.sources[id].Client; !seen[c] {
			seen[c] = true
			out = append(out, c)
		}
	}
	return out
}

// At returns the event with the number.
func (f *File) At(seq uint64) (trace.Event, bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if seq < 1 || seq >= f.next {
		return trace.Event{}, false
	}
	page := (seq - 1) / pageSize
	events, ok := f.pages[page]
	if !ok || int((seq-1)%pageSize) >= len(events) { // a page that grew
		var err error
		if events, err = f.read(page*pageSize+1, pageSize); err != nil {
			f.keep(err)
			return trace.Event{}, false
		}
		if !ok {
			if len(f.order) >= pagesKept {
				delete(f.pages, f.order[0])
				f.order = f.order[1:]
			}
			f.order = append(f.order, page)
		}
		f.pages[page] = events
	}
	if i := int((seq - 1) % pageSize); i < len(events) {
		return events[i], true
	}
	return trace.Event{}, false
}

// Read implements [trace.Reader]; nothing is ever missed.
func (f *File) Read(from uint64, limit int) ([]trace.Event, uint64) {
	f.mu.Lock()
	defer f.mu.Unlock()
	events, err := f.read(max(1, from), limit)
	f.keep(err)
	return events, 0
}

const (
	columns      = "n, at, source, conn, kind, raw, broken, link, text, missed, ended_by, meaning, topic"
	firstVersion = "1"
)

// read reads a stretch; f.mu is held.
func (f *File) read(from uint64, limit int) ([]trace.Event, error) {
	rows, err := f.db.Query(
		"SELECT "+f.columns+" FROM event WHERE n >= ? AND n < ? ORDER BY n LIMIT ?",
		int64(from),
		int64(f.next),
		limit,
	)
	if err != nil {
		return nil, err
	}
	return f.scan(rows, make([]trace.Event, 0, min(limit, pageSize)))
}

func (f *File) scan(rows *sql.Rows, out []trace.Event) ([]trace.Event, error) {
	defer rows.Close()
	for rows.Next() {
		var e trace.Event
		var n, at, source, missed int64
		var kind int
		var meaning, topic int64
		var broken, link, text, by sql.NullString
		if err := rows.Scan(&n, &at, &source, &e.Conn, &kind, &e.Raw, &broken, &link, &text, &missed, &by, &meaning, &topic); err != nil {
			return out, err
		}
		s := f.sources[source]
		e.Seq, e.At, e.Kind = uint64(n), time.Unix(0, at), trace.Kind(kind)
		e.Client, e.Role, e.Broker, e.Version = s.Client, s.Role, s.Broker, s.Version
		e.Broken, e.Link, e.Text, e.Missed, e.By = broken.String, client.LinkEvent(
			link.String,
		), text.String, uint64(
			missed,
		), client.Blame(
			by.String,
		)
		if len(e.Raw) > 0 {
			e.Packet, _ = packet.Decode(e.Raw, e.Version, packet.Lenient)
		}
		if p := e.Publish(); p != nil && meaning >= 0 {
			e.Meaning = trace.Unpack(meaning, f.topics[topic])
		} else if p != nil {
			e.Meaning = trace.Meaning{Topic: p.Topic, Flag: e.Kind == trace.Sent}
			if e.Kind == trace.Received && p.Retain {
				e.Meaning.Stored = trace.StorageCopy
			}
		}
		out = append(out, e)
	}
	return out, rows.Err()
}

// Search visits the events from a number on that fit the filter, in order, until visit
// returns false or the context ends. Between stretches progress is told how far it has
// come; it may be nil.
func (f *File) Search(
	ctx context.Context,
	filter trace.Filter,
	from uint64,
	visit func(*trace.Event) bool,
	progress func(done, total uint64),
) error {
	narrowed := f.narrow(filter)
	for end := f.Next(); from < end; {
		if err := ctx.Err(); err != nil {
			return context.Cause(ctx)
		}
		to := min(end, from+scanBatch)
		f.mu.Lock()
		rows, err := f.db.QueryContext(
			ctx,
			"SELECT "+f.columns+" FROM event WHERE n >= ? AND n < ?"+narrowed+" ORDER BY n",
			int64(from),
			int64(to),
		)
		var events []trace.Event
		if err == nil {
			events, err = f.scan(rows, nil)
		}
		f.mu.Unlock()
		if err != nil {
			return fmt.Errorf("%s: %w", f.Path, err)
		}
		for i := range events {
			if filter.Match(&events[i]) && !visit(&events[i]) {
				return nil
			}
		}
		if from = to; progress != nil {
			progress(from-1, end-1)
		}
	}
	return nil
}

// narrow turns what the database can tell of a filter into a condition; the filter itself
// decides afterwards.
func (f *File) narrow(filter trace.Filter) string {
	f.mu.Lock()
	defer f.mu.Unlock()
	var out strings.Builder
	in := func(column string, ids []string) {
		fmt.Fprintf(&out, " AND %s IN (%s)", column, strings.Join(ids, ","))
	}
	if types := filter.Types(); types != nil {
		var ids []string
		for _, t := range types {
			ids = append(ids, fmt.Sprint(int(t)))
		}
		in("type", ids)
	}
	if filter.HasClients() {
		ids := []string{}
		for id, s := range f.sources {
			if filter.MatchClient(s.Client) {
				ids = append(ids, fmt.Sprint(id))
			}
		}
		in("source", ids)
	}
	if filter.HasTopics() {
		ids := []string{"0"} // packets without a topic of their own may fit: CONNECT by its will
		for id, name := range f.topics {
			if filter.MatchTopic(name) {
				ids = append(ids, fmt.Sprint(id))
			}
		}
		in("topic", ids)
	}
	if since, until := filter.Span(); !since.IsZero() || !until.IsZero() {
		if !since.IsZero() {
			fmt.Fprintf(&out, " AND at >= %d", since.UnixNano())
		}
		if !until.IsZero() {
			fmt.Fprintf(&out, " AND at <= %d", until.UnixNano())
		}
	}
	return out.String()
}
