package payload_test

import (
	"bytes"
	"fmt"
	"image"
	"image/png"
	"strings"
	"testing"

	"hodstone/internal/payload"
)

// TestTree: a JSON text in its order, a row for each value.
func TestTree(t *testing.T) {
	rows, ok := payload.Tree([]byte(` {"b": [1, "x", true, null, {}], "a": -2.50} `))
	text := ""
	for _, r := range rows {
		text += fmt.Sprintf("%d %s %s %s\n", r.Depth, r.Key, r.Kind, r.Value)
	}
	want := "0  object {2}\n1 b array [5]\n2 [0] number 1\n2 [1] string \"x\"\n2 [2] boolean true\n2 [3] null null\n2 [4] object {0}\n1 a number -2.50\n"
	if !ok || text != want {
		t.Errorf("%v\n%s", ok, text)
	}
	for _, no := range []string{"", " ", "1", `"x"`, "{", "[1", "[1]]", "\xff"} {
		if _, ok := payload.Tree([]byte(no)); ok {
			t.Errorf("%q is a tree", no)
		}
	}
	deep, ok := payload.Tree([]byte("[7" + strings.Repeat(",[8]", 20_000) + "]"))
	if !ok || len(deep) != 20_001 || deep[1].Value != "7" || deep[2].Value != "[1]" {
		t.Errorf("%d rows, the second is %+v", len(deep), deep[1])
	}
	for _, n := range []int{19_998, 19_999, 20_000} {
		rows, ok := payload.Tree([]byte("[" + strings.Repeat("1,", n-1) + "1]"))
		cut := n > 19_998
		if !ok || len(rows) != min(n+1, 20_000)+map[bool]int{true: 1, false: 0}[cut] {
			t.Errorf("%d values: %d rows", n, len(rows))
		}
		if last := rows[len(rows)-1].Value; strings.HasPrefix(last, "only the first") != cut || rows[0].Value != fmt.Sprintf("[%d]", n) {
			t.Errorf("%d values: the last row is %q, the first %q", n, last, rows[0].Value)
		}
	}
}

// TestHex: offset, bytes and text, each line by itself, the last filled up.
func TestHex(t *testing.T) {
	got := strings.Join(payload.Hex([]byte(" A~\x7f\x1f\xe9"), 4), "\n")
	want := "000000  20 41 7e 7f   A~·\n000004  1f e9        ··"
	if got != want {
		t.Errorf("%q, want %q", got, want)
	}
	if got := payload.Hex(nil, 4); len(got) != 0 {
		t.Errorf("%q", got)
	}
}

// TestImage: measured by its content; what has no size, or is none, is no picture.
func TestImage(t *testing.T) {
	var b bytes.Buffer
	if err := png.Encode(&b, image.NewGray(image.Rect(0, 0, 7, 1))); err != nil {
		t.Fatal(err)
	}
	if p, ok := payload.Image(b.Bytes()); !ok || p != (payload.Picture{Format: "PNG", Width: 7, Height: 1}) {
		t.Errorf("%v %+v", ok, p)
	}
	flat := []byte("GIF89a\x00\x00\x05\x00\x00\x00\x00")
	high := []byte("GIF89a\x05\x00\x00\x00\x00\x00\x00")
	for _, no := range [][]byte{nil, []byte("PNG"), flat, high} {
		if p, ok := payload.Image(no); ok {
			t.Errorf("%q is %+v", no, p)
		}
	}
}
