// Package history keeps proofs in one SQLite file, so that later ones can be compared with them. What a proof is, it
// does not know: it keeps documents.
package history

import (
	"bytes"
	"compress/gzip"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"net/url"
	"os"
	"time"

	_ "modernc.org/sqlite" // the driver "sqlite"
)

// Most is how many proofs are kept; the oldest go first.
const Most = 200

// largest is how large a document may be that is read back, in bytes.
const largest = 64 << 20

// schema is the file's: one row for each proof, its document compressed by gzip.
const schema = `CREATE TABLE IF NOT EXISTS proofs (
	id INTEGER PRIMARY KEY, started TEXT NOT NULL, broker TEXT NOT NULL, listener TEXT NOT NULL, summary TEXT NOT NULL, document BLOB NOT NULL)`

// History is a file of proofs. Its methods are safe for concurrent use, also by several programs.
type History struct {
	db   *sql.DB
	path string
}

// Entry is a proof that is kept.
type Entry struct {
	// ID numbers the proofs of a file, from 1.
	ID int64
	// Started is when it began. Broker and Listener are what was proven, by the names that the workspace has for them.
	Started          time.Time
	Broker, Listener string
	// Summary says in a line what came of it.
	Summary string
}

// Open opens the file, and makes it where there is none. The error says what is wrong with it.
func Open(path string) (*History, error) {
	// It holds what went over the wire: nobody else's business.
	f, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("proofs cannot be kept: %w", err)
	}
	f.Close()
	db, err := sql.Open(
		"sqlite",
		"file:"+(&url.URL{Path: path}).EscapedPath()+"?mode=rw&_pragma=busy_timeout(5000)&_pragma=synchronous(NORMAL)",
	)
	if err != nil {
		return nil, err
	}
	if _, err := db.Exec(schema); err != nil {
		db.Close()
		return nil, fmt.Errorf("%s keeps no proofs that can be read: %w", path, err)
	}
	return &History{db, path}, nil
}

// Close closes the file.
func (h *History) Close() error { return h.db.Close() }

// Keep adds a proof, and lets the oldest go where there are too many. It returns the proof's number.
func (h *History) Keep(e Entry, document []byte) (int64, error) {
	var packed bytes.Buffer
	w := gzip.NewWriter(&packed)
	w.Write(document)
	if err := w.Close(); err != nil {
		return 0, err
	}
	done, err := h.db.Exec("INSERT INTO proofs (started, broker, listener, summary, document) VALUES (?, ?, ?, ?, ?)",
		e.Started.UTC().Format(time.RFC3339Nano), e.Broker, e.Listener, e.Summary, packed.Bytes())
	if err != nil {
		return 0, fmt.Errorf("%s: the proof was not kept: %w", h.path, err)
	}
	id, err := done.LastInsertId()
	if err == nil {
		_, err = h.db.Exec("DELETE FROM proofs WHERE id <= ?", id-Most)
	}
	return id, err
}

// List returns the latest proofs of a listener, "" for all of the broker's, and "" for all brokers, the newest first.
func (h *History) List(broker, listener string, most int) (out []Entry, err error) {
	rows, err := h.db.Query(`SELECT id, started, broker, listener, summary FROM proofs
		WHERE (?1 = '' OR broker = ?1) AND (?2 = '' OR listener = ?2) ORDER BY id DESC LIMIT ?3`, broker, listener, most)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", h.path, err)
	}
	defer rows.Close()
	for rows.Next() {
		var e Entry
		var started string
		if err := rows.Scan(&e.ID, &started, &e.Broker, &e.Listener, &e.Summary); err != nil {
			return nil, err
		}
		if e.Started, err = time.Parse(time.RFC3339Nano, started); err != nil {
			return nil, fmt.Errorf("%s, proof %d: %w", h.path, e.ID, err)
		}
		out = append(out, e)
	}
	return out, rows.Err()
}

// Document returns the document of a proof by its number.
func (h *History) Document(id int64) ([]byte, error) {
	var packed []byte
	err := h.db.QueryRow("SELECT document FROM proofs WHERE id = ?", id).Scan(&packed)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, fmt.Errorf("%s has no proof %d", h.path, id)
	} else if err != nil {
		return nil, fmt.Errorf("%s: %w", h.path, err)
	}
	r, err := gzip.NewReader(bytes.NewReader(packed))
	if err == nil {
		packed, err = io.ReadAll(io.LimitReader(r, largest))
	}
	if err != nil {
		return nil, fmt.Errorf("%s, proof %d: %w", h.path, id, err)
	}
	return packed, nil
}
