// Package plain is plain output that strangers may put their words into: whatever would steer a
// terminal, hide, or change the order of what is read, is written out.
package plain

import (
	"fmt"
	"io"
	"strings"
	"sync"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"
)

// harmful tells whether a character is written out: the controls of C0 and C1 but for line feed and
// tab, DEL, line and paragraph separator, and what is invisible or turns the direction of text
// (Unicode's category Cf: zero-width and bidirectional controls, soft hyphen, byte order mark, tags).
func harmful(r rune) bool {
	if r < 0x7f {
		return r < ' ' && r != '\n' && r != '\t'
	}
	return r < 0xa0 || r == '\u2028' || r == '\u2029' || unicode.Is(unicode.Cf, r)
}

// Visible writes out what is harmful in a text, as \u001b, and bytes that are no UTF-8, as \xff. What
// it writes means the same within the strings of a JSON document.
func Visible(s string) string { return visible(s, false) }

// OneLine is Visible for what has to stay on one line, such as a name: line feeds and tabs are
// written out too.
func OneLine(s string) string { return visible(s, true) }

func visible(s string, oneLine bool) string {
	bad := func(r rune) bool { return harmful(r) || oneLine && (r == '\n' || r == '\t') }
	if utf8.ValidString(s) && strings.IndexFunc(s, bad) < 0 {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); {
		r, n := utf8.DecodeRuneInString(s[i:])
		switch {
		case r == utf8.RuneError && n == 1:
			fmt.Fprintf(&b, "\\x%02x", s[i])
		case r == '\n' && bad(r):
			b.WriteString("\\n")
		case r == '\t' && bad(r):
			b.WriteString("\\t")
		case bad(r) && r > 0xffff:
			hi, lo := utf16.EncodeRune(r)
			fmt.Fprintf(&b, "\\u%04x\\u%04x", hi, lo)
		case bad(r):
			fmt.Fprintf(&b, "\\u%04x", r)
		default:
			b.WriteString(s[i : i+n])
		}
		i += n
	}
	return b.String()
}

// Lines is a text that may have several lines, as an argument of [Fprintf].
type Lines string

// tamed puts arguments on one line each, so that no name of a stranger's looks like a line of ours.
func tamed(args []any) []any {
	out := make([]any, len(args))
	for i, a := range args {
		switch a := a.(type) {
		case Lines:
			out[i] = string(a)
		case string:
			out[i] = OneLine(a)
		case error:
			out[i] = OneLine(a.Error())
		case fmt.Stringer:
			out[i] = OneLine(a.String())
		default:
			out[i] = a
		}
	}
	return out
}

// Fprintf writes as [fmt.Fprintf] does; the arguments, but for [Lines], stay on one line each.
func Fprintf(w io.Writer, format string, args ...any) (int, error) {
	return fmt.Fprintf(w, format, tamed(args)...)
}

// Sprintf formats as [Fprintf] does.
func Sprintf(format string, args ...any) string { return fmt.Sprintf(format, tamed(args)...) }

// Fprintln writes as [fmt.Fprintln] does; the arguments, but for [Lines], stay on one line each.
func Fprintln(w io.Writer, args ...any) (int, error) { return fmt.Fprintln(w, tamed(args)...) }

// Writer makes everything visible that goes through it. Safe for concurrent use.
type Writer struct {
	w      io.Writer
	failed func(error)

	mu   sync.Mutex // guards what follows
	rest []byte     // the beginning of a character whose end is still to come
	err  error
	line bool // a line of progress is there
}

// NewWriter returns a writer on another; failed, which may be nil, is told once that it can no longer
// be written to.
func NewWriter(w io.Writer, failed func(error)) *Writer { return &Writer{w: w, failed: failed} }

// Write implements [io.Writer].
func (w *Writer) Write(p []byte) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.clear()
	text := append(w.rest, p...)
	end := len(text)
	for i := 1; i < utf8.UTFMax && i <= len(text); i++ { // a character may be cut at the end
		if utf8.RuneStart(text[len(text)-i]) {
			if !utf8.FullRune(text[len(text)-i:]) {
				end = len(text) - i
			}
			break
		}
	}
	w.rest = append([]byte(nil), text[end:]...)
	return len(p), w.put(Visible(string(text[:end])))
}

// put writes what is safe, and tells once that it cannot; w.mu is held.
func (w *Writer) put(s string) error {
	if w.err != nil || s == "" {
		return w.err
	}
	if _, err := io.WriteString(w.w, s); err != nil {
		w.err = err
		if w.failed != nil {
			w.failed(err)
		}
	}
	return w.err
}

// Flush writes what is left of a character that was never finished.
func (w *Writer) Flush() error {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.clear()
	rest := string(w.rest)
	w.rest = nil
	return w.put(Visible(rest))
}

// Err returns why it could not be written to, or nil.
func (w *Writer) Err() error {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.err
}

// Progress shows what goes on, in place of what it showed before, until something is written.
func (w *Writer) Progress(format string, args ...any) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.clear()
	w.line = true
	w.put(OneLine(fmt.Sprintf(format, tamed(args)...)))
}

// Done takes the line of progress away.
func (w *Writer) Done() {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.clear()
}

// clear takes the line of progress away; w.mu is held.
func (w *Writer) clear() {
	if w.line {
		w.line = false
		w.put("\r\x1b[K")
	}
}

// On returns the plain writer that w is, or one on it.
func On(w io.Writer) *Writer {
	if p, ok := w.(*Writer); ok {
		return p
	}
	return NewWriter(w, nil)
}

// Count says how many there are of something: 1 day, 2 days, 3 entries, 4 breaches.
func Count[N int | int64 | uint64](n N, one string) string {
	stem, vowel := strings.TrimSuffix(one, "y"), "aeiou"
	switch {
	case n == 1:
		return "1 " + one
	case stem != one && stem != "" && !strings.ContainsRune(vowel, rune(stem[len(stem)-1])):
		return fmt.Sprintf("%d %sies", n, stem)
	case strings.HasSuffix(one, "ch"):
		return fmt.Sprintf("%d %ses", n, one)
	}
	return fmt.Sprintf("%d %ss", n, one)
}
