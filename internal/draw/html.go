package draw

import (
	"bytes"
	"fmt"
	"html"
	"io"
	"strings"
)

// style is how a document looks as HTML: by itself, without anything from elsewhere.
const style = `body{font:15px/1.5 sans-serif;color:#22303a;max-width:60em;margin:2em auto;padding:0 1em}
h1{font-size:1.7em}h2{font-size:1.3em;margin-top:1.6em}h3{font-size:1.05em;margin-top:1.3em}
table{border-collapse:collapse;margin:.8em 0}th,td{border:1px solid #c3ccc9;padding:.25em .6em;text-align:left;vertical-align:top}
th{background:#eef2f1}pre{background:#f4f6f6;padding:.6em;overflow-x:auto;font-size:.85em}svg{max-width:100%;height:auto}`

// HTML writes the document as one page of HTML that needs nothing from elsewhere.
func (d *Document) HTML(w io.Writer) error {
	var b strings.Builder
	text := func(s string) string { return html.EscapeString(clean(s)) }
	fmt.Fprintf(
		&b,
		"<!DOCTYPE html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><title>%s</title><style>%s</style></head><body>\n<h1>%s</h1>\n",
		text(d.Title),
		style,
		text(d.Title),
	)
	for _, x := range d.blocks {
		switch {
		case x.level > 0:
			n := min(6, x.level+1)
			fmt.Fprintf(&b, "<h%d>%s</h%d>\n", n, text(x.text), n)
		case x.head != nil:
			row := func(cell string, cells []string) {
				b.WriteString("<tr>")
				for _, c := range cells {
					fmt.Fprintf(&b, "<%s>%s</%s>", cell, text(c), cell)
				}
				b.WriteString("</tr>\n")
			}
			b.WriteString("<table>\n")
			if x.headed() {
				row("th", x.head)
			}
			for _, r := range x.rows {
				row("td", r)
			}
			b.WriteString("</table>\n")
		case x.drawing != nil:
			var svg bytes.Buffer
			if err := x.drawing.SVG(&svg); err != nil {
				return err
			}
			_, body, _ := strings.Cut(svg.String(), "<svg") // without what goes before it in a file
			b.WriteString("<svg" + body + "\n")
		case x.code:
			b.WriteString("<pre>")
			for l := range strings.SplitSeq(x.text, "\n") {
				b.WriteString(text(l) + "\n")
			}
			b.WriteString("</pre>\n")
		default:
			fmt.Fprintf(&b, "<p>%s</p>\n", text(x.text))
		}
	}
	b.WriteString("</body></html>\n")
	_, err := io.WriteString(w, b.String())
	return err
}
