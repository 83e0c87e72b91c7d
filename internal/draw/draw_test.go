package draw_test

import (
	"bytes"
	"compress/zlib"
	"encoding/xml"
	"errors"
	"image/color"
	"io"
	"strings"
	"testing"
	"unicode"

	"hodstone/internal/draw"
)

// hostile are texts that broke a writer, or would.
var hostile = []string{
	"🐟 salmon", "\U0010ffff\ufffe", "a\x00b\x1b[31m", "\u202egnp", "<&>\"']]>", "\xff\xfe", "e\u0301\u0302", "海老",
	"\u0600", "",
}

// FuzzText: any text gives an SVG that is XML, with the text in it as far as XML has it, and a PDF.
func FuzzText(f *testing.F) {
	for _, s := range hostile {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		s := draw.New(200, 100)
		for i, font := range []draw.Font{{Size: 8}, {Size: 8, Bold: true}, {Size: 8, Mono: true, Align: 1}} {
			font.Color = color.Black
			s.Text(font, draw.Point{X: 10, Y: float64(20 * (i + 1))}, text)
		}
		var svg, pdf bytes.Buffer
		if err := errors.Join(s.SVG(&svg), s.PDF(&pdf)); err != nil {
			t.Fatalf("%q: %v", text, err)
		}
		if !bytes.HasPrefix(pdf.Bytes(), []byte("%PDF-")) {
			t.Errorf("%q: no PDF", text)
		}
		var said strings.Builder
		d := xml.NewDecoder(&svg)
		for {
			tok, err := d.Token()
			if errors.Is(err, io.EOF) {
				break
			}
			if err != nil {
				t.Fatalf("%q: the SVG is no XML: %v", text, err)
			}
			if c, ok := tok.(xml.CharData); ok {
				said.Write(c)
			}
		}
		for _, r := range said.String() {
			if r != '\n' && r != '\t' && (unicode.IsControl(r) || unicode.Is(unicode.Cf, r)) {
				t.Errorf("%q: %U is left in the SVG", text, r)
			}
		}
		if strings.HasPrefix(text, "salmon") && !strings.Contains(said.String(), "salmon") {
			t.Errorf("%q: the text is missing", text)
		}
	})
}

// failing cannot be written to.
type failing struct{}

func (failing) Write([]byte) (int, error) { panic("out of everything") }

// TestAPanicIsAnError: what a writer of a format does must not take the program with it.
func TestAPanicIsAnError(t *testing.T) {
	for _, name := range []string{"a.svg", "a.pdf"} {
		if err := draw.New(10, 10).Write(failing{}, name); err == nil ||
			!strings.Contains(err.Error(), "out of everything") {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// texts counts the texts of each page of a PDF.
func texts(t *testing.T, pdf []byte) (out []int) {
	t.Helper()
	for _, part := range bytes.Split(pdf, []byte("stream\n"))[1:] {
		r, err := zlib.NewReader(bytes.NewReader(part))
		if err != nil {
			continue // no stream begins here
		}
		b, _ := io.ReadAll(r)
		if n := bytes.Count(b, []byte(" Tj ET")); n > 0 {
			out = append(out, n)
		}
	}
	return out
}

// TestHeadingsStayWithWhatTheyAreAbout: headings and a small table behind them are never torn apart by the end of a page.
func TestHeadingsStayWithWhatTheyAreAbout(t *testing.T) {
	const page, together = 3, 11 // the title, a name and a number; two headings, a line, and a table of four rows with two columns
	moved := 0
	for lines := 40; lines < 60; lines += 2 {
		d := draw.Document{Title: "a report"}
		for range lines {
			d.Text("a line")
		}
		d.Heading(1, "Broken")
		d.Heading(2, "a check")
		d.Text("how it is read")
		d.Table([]string{"what", "seen"}, [][]string{{"a", "b"}, {"c", "d"}, {"e", "f"}})
		var pdf bytes.Buffer
		if err := d.PDF(&pdf); err != nil {
			t.Fatal(err)
		}
		found := texts(t, pdf.Bytes())
		switch {
		case len(found) == 1 && found[0] == page+lines+together:
		case len(found) == 2 && found[0] <= page+lines && found[1] >= page-1+together:
			moved++
		default:
			t.Errorf("%d lines: %d texts by page", lines, found)
		}
	}
	if moved < 2 {
		t.Errorf("moved %d times", moved)
	}
}
