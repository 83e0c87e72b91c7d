package plain_test

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"
	"unicode"
	"unicode/utf8"

	"hodstone/internal/plain"
)

func TestHarmIsWrittenOut(t *testing.T) {
	for in, want := range map[string]string{
		"pen 1, 9.4 mg/l → 海": "pen 1, 9.4 mg/l → 海", "\x1b[2J": `\u001b[2J`, "a\rb\x00\x7f": `a\u000db\u0000\u007f`,
		"\u009b31m": `\u009b31m`, "\u202egnp.exe": `\u202egnp.exe`, "a\u200bb\ufeff": `a\u200bb\ufeff`,
		"\U000e0041": `\udb40\udc41`, "\u2028x": `\u2028x`, "\xff\xfea": `\xff\xfea`, "two\nlines\t|": "two\nlines\t|",
		"cut \xe6\xb5": `cut \xe6\xb5`,
	} {
		if got := plain.Visible(in); got != want {
			t.Errorf("%q: %s, want %s", in, got, want)
		}
	}
	if got := plain.OneLine("a\nb\tc"); got != `a\nb\tc` {
		t.Error(got)
	}
	var b bytes.Buffer
	plain.Fprintf(&b, "%s %v %d %s\n", "x\n✗ broken", errors.New("no\nway"), 7, plain.Lines("one\ntwo"))
	plain.Fprintln(&b, "y\nz", 8)
	if got := b.String(); got != "x\\n✗ broken no\\nway 7 one\ntwo\ny\\nz 8\n" {
		t.Errorf("%q", got)
	}
}

// broken takes so many bytes and fails then.
type broken struct {
	room int
	got  bytes.Buffer
}

func (b *broken) Write(p []byte) (int, error) {
	if len(p) > b.room {
		return 0, errors.New("no space left")
	}
	b.room -= len(p)
	return b.got.Write(p)
}

func TestAWriterTellsOnceThatItCannot(t *testing.T) {
	to := &broken{room: 8}
	told := 0
	w := plain.NewWriter(to, func(error) { told++ })
	for range 5 {
		fmt.Fprint(w, "four")
	}
	if told != 1 || w.Err() == nil || to.got.String() != "fourfour" {
		t.Errorf("told %d times, %v, %q", told, w.Err(), to.got.String())
	}
}

func TestProgressIsReplaced(t *testing.T) {
	var b bytes.Buffer
	w := plain.NewWriter(&b, nil)
	w.Progress("trying %s …", "a\x1b]0;b\nc")
	w.Progress("more")
	fmt.Fprintln(w, "done")
	w.Done()
	if got := b.String(); got != "trying a\\u001b]0;b\\nc …\r\x1b[Kmore\r\x1b[Kdone\n" {
		t.Errorf("%q", got)
	}
}

// FuzzWriter: whatever goes through in pieces is the same as in one, holds nothing that is harmful, and means the
// same within a JSON document.
func FuzzWriter(f *testing.F) {
	f.Add("a\x1b[31m\u202e\xff海\U000e0041", uint8(3))
	f.Fuzz(func(t *testing.T, s string, cut uint8) {
		var b bytes.Buffer
		w := plain.NewWriter(&b, nil)
		for i := 0; i < len(s); i += int(cut%7) + 1 {
			fmt.Fprint(w, s[i:min(len(s), i+int(cut%7)+1)])
		}
		w.Flush()
		got := b.String()
		if got != plain.Visible(s) {
			t.Errorf("in pieces %q, in one %q", got, plain.Visible(s))
		}
		for _, r := range got {
			if r != '\n' && r != '\t' && (unicode.IsControl(r) || unicode.Is(unicode.Cf, r)) {
				t.Errorf("%U is left in %q", r, got)
			}
		}
		if !utf8.ValidString(got) {
			t.Errorf("no UTF-8: %q", got)
		}
		doc, err := json.Marshal(s)
		if err != nil {
			t.Fatal(err)
		}
		var back string
		if err := json.Unmarshal([]byte(plain.Visible(string(doc))), &back); err != nil ||
			back != strings.ToValidUTF8(s, "\ufffd") && utf8.ValidString(s) {
			t.Errorf("JSON: %v, %q of %q", err, back, s)
		}
	})
}
