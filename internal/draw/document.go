package draw

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"io"
	"strings"

	"codeberg.org/go-fonts/liberation/liberationmonoregular"
	"codeberg.org/go-fonts/liberation/liberationsansbold"
	"codeberg.org/go-fonts/liberation/liberationsansregular"
	"codeberg.org/go-pdf/fpdf"
)

// Document is a text with headings and tables that comes out as Markdown or PDF. Not safe for concurrent use.
type Document struct {
	Title  string
	blocks []block
}

type block struct {
	level int // of a heading; 0 for others
	text  string
	code  bool
	head  []string
	rows  [][]string

	drawing *Surface
}

// headed tells whether a table has heads; without them it lists what belongs together.
func (b *block) headed() bool { return strings.Join(b.head, "") != "" }

// Heading begins a part; level 1 is the largest.
func (d *Document) Heading(level int, text string) {
	d.blocks = append(d.blocks, block{level: max(1, level), text: text})
}

// Text adds a paragraph.
func (d *Document) Text(format string, args ...any) {
	if text := fmt.Sprintf(format, args...); text != "" {
		d.blocks = append(d.blocks, block{text: text})
	}
}

// Code adds text that is shown letter by letter.
func (d *Document) Code(text string) {
	d.blocks = append(d.blocks, block{text: text, code: true})
}

// Drawing adds a drawing, as wide as the page at most.
func (d *Document) Drawing(s *Surface) { d.blocks = append(d.blocks, block{drawing: s}) }

// Table adds a table. A column that is empty throughout is left out.
func (d *Document) Table(head []string, rows [][]string) {
	if len(rows) == 0 {
		return
	}
	b := block{}
	for i, h := range head {
		used := false
		for _, r := range rows {
			used = used || i < len(r) && r[i] != ""
		}
		if !used {
			continue
		}
		b.head = append(b.head, h)
		if b.rows == nil {
			b.rows = make([][]string, len(rows))
		}
		for k, r := range rows {
			text := ""
			if i < len(r) {
				text = r[i]
			}
			b.rows[k] = append(b.rows[k], text)
		}
	}
	d.blocks = append(d.blocks, b)
}

// escape is a text as Markdown shows it.
var escape = strings.NewReplacer(
	"|",
	`\|`,
	"<",
	"&lt;",
	"*",
	`\*`,
	"_",
	`\_`,
	"`",
	"\\`",
	"[",
	`\[`,
	"#",
	`\#`,
	"\n",
	" ",
)

// Markdown writes the document as Markdown with tables.
func (d *Document) Markdown(w io.Writer) error {
	var b strings.Builder
	fmt.Fprintf(&b, "# %s\n", escape.Replace(clean(d.Title)))
	for _, x := range d.blocks {
		b.WriteByte('\n')
		switch {
		case x.level > 0:
			fmt.Fprintf(&b, "%s %s\n", strings.Repeat("#", min(6, x.level+1)), escape.Replace(clean(x.text)))
		case x.head != nil:
			line := func(cells []string) {
				for _, c := range cells {
					b.WriteString("| " + escape.Replace(clean(c)) + " ")
				}
				b.WriteString("|\n")
			}
			line(x.head)
			b.WriteString(strings.Repeat("|---", len(x.head)) + "|\n")
			for _, r := range x.rows {
				line(r)
			}
		case x.drawing != nil:
			var svg bytes.Buffer
			if err := x.drawing.SVG(&svg); err != nil {
				return err
			}
			fmt.Fprintf(
				&b,
				"![drawing](data:image/svg+xml;base64,%s)\n",
				base64.StdEncoding.EncodeToString(svg.Bytes()),
			)
		case x.code:
			for l := range strings.SplitSeq(x.text, "\n") {
				b.WriteString("    " + clean(l) + "\n")
			}
		default:
			b.WriteString(escape.Replace(clean(x.text)) + "\n")
		}
	}
	_, err := io.WriteString(w, b.String())
	return err
}

// The measures of a page, in points: A4 upright.
const (
	pageW, pageH = 595.28, 841.89
	pageMargin   = 50.0
	pageText     = 9.0
	pageLine     = 12.5
	cellPad      = 4.0
)

// page is a document that is being set.
type page struct {
	doc   *fpdf.Fpdf
	y     float64
	title string
}

// PDF writes the document as pages of A4.
func (d *Document) PDF(w io.Writer) (err error) {
	defer caught(&err)
	doc := fpdf.NewCustom(&fpdf.InitType{UnitStr: "pt", Size: fpdf.SizeType{Wd: pageW, Ht: pageH}})
	doc.SetMargins(pageMargin, pageMargin, pageMargin)
	doc.SetAutoPageBreak(false, 0)
	doc.SetCatalogSort(true)
	doc.SetTitle(inPlane(clean(d.Title)), true)
	doc.AddUTF8FontFromBytes("sans", "", liberationsansregular.TTF)
	doc.AddUTF8FontFromBytes("sans", "B", liberationsansbold.TTF)
	doc.AddUTF8FontFromBytes("mono", "", liberationmonoregular.TTF)
	p := page{doc: doc, title: inPlane(clean(d.Title))}
	p.next()
	p.write(p.title, "sans", "B", 18, 24)
	for i, x := range d.blocks {
		switch {
		case x.level > 0:
			p.room(p.together(d.blocks[i:])) // what it is about begins on its page
			p.heading(x)
		case x.head != nil:
			p.room(p.together(d.blocks[i : i+1]))
			p.table(x)
		case x.drawing != nil:
			if err := p.drawing(x.drawing); err != nil {
				return err
			}
		case x.code:
			for l := range strings.SplitSeq(x.text, "\n") {
				p.write(l, "mono", "", 8, 10.5)
			}
			p.y += 4
		default:
			p.write(x.text, "sans", "", pageText, pageLine)
			p.y += 3
		}
	}
	return doc.Output(w)
}

// drawing puts a drawing on the page, as wide as the text and no higher than a page.
func (p *page) drawing(s *Surface) error {
	if err := s.fits(); err != nil {
		return err
	}
	scale := min(1, (pageW-2*pageMargin)/s.W, (pageH-2*pageMargin)/s.H)
	p.room(s.H * scale)
	p.doc.TransformBegin()
	p.doc.TransformTranslate(pageMargin, p.y)
	p.doc.TransformScale(scale*100, scale*100, 0, 0)
	s.on(p.doc)
	p.doc.TransformEnd()
	p.y += s.H*scale + 6
	return nil
}

// next begins a page.
func (p *page) next() {
	p.doc.AddPage()
	p.y = pageMargin
	p.doc.SetFont("sans", "", 8)
	p.doc.SetTextColor(110, 110, 110)
	number := fmt.Sprint(p.doc.PageNo())
	p.doc.Text(pageW-pageMargin-p.doc.GetStringWidth(number), pageH-28, number)
	p.doc.Text(pageMargin, pageH-28, p.fit(p.title, pageW-2*pageMargin-40))
}

// fit cuts a text to a width.
func (p *page) fit(s string, w float64) string {
	if p.doc.GetStringWidth(s) <= w {
		return s
	}
	r := []rune(s)
	for len(r) > 0 && p.doc.GetStringWidth(string(r)+"…") > w {
		r = r[:len(r)-1]
	}
	return string(r) + "…"
}

func (p *page) room(h float64) {
	if p.y+h > pageH-pageMargin {
		p.next()
	}
}

// headingSize is the size of a heading's letters.
func headingSize(level int) float64 {
	switch level {
	case 1:
		return 14
	case 2:
		return 11.5
	}
	return 10
}

// together is how high the beginning of some blocks is that is not torn: a heading with what follows it, a line or two
// that say how what follows is read, and a table of a few rows.
func (p *page) together(blocks []block) (h float64) {
	const few, short = 8, 3 // rows, and lines of a text
	for i, x := range blocks {
		plain := x.level == 0 && x.head == nil && x.drawing == nil && !x.code
		if plain && i > 0 {
			p.doc.SetFont("sans", "", pageText)
			if n := len(p.lines(x.text, pageW-2*pageMargin)); n <= short {
				h += float64(n)*pageLine + 3
				continue
			}
		}
		switch {
		case x.level > 0:
			size := headingSize(x.level)
			h += size*0.8 + size*1.5*float64(len(p.lines(x.text, pageW-2*pageMargin)))
			continue
		case x.head != nil && len(x.rows) <= few:
			widths := p.widths(x)
			if x.headed() {
				h += p.height(x.head, widths, "B")
			}
			for _, r := range x.rows {
				h += p.height(r, widths, "")
			}
			if h <= pageH-2*pageMargin {
				return h
			}
		}
		return h + 3*pageLine
	}
	return h
}

func (p *page) heading(x block) {
	size := headingSize(x.level)
	p.y += size * 0.8
	p.write(x.text, "sans", "B", size, size*1.5)
}

// lines breaks a text to a width, also within words that are too long.
func (p *page) lines(text string, w float64) (out []string) {
	for paragraph := range strings.SplitSeq(inPlane(strings.Join(strings.Split(text, "\n"), " ")), "\n") {
		line := ""
		for _, word := range strings.Fields(clean(paragraph)) {
			for {
				with := word
				if line != "" {
					with = line + " " + word
				}
				if p.doc.GetStringWidth(with) <= w {
					line = with
					break
				}
				if line != "" {
					out, line = append(out, line), ""
					continue
				}
				r, n := []rune(word), 1
				for n < len(r) && p.doc.GetStringWidth(string(r[:n+1])) <= w {
					n++
				}
				out = append(out, string(r[:n]))
				if word = string(r[n:]); word == "" {
					break
				}
			}
		}
		if line != "" {
			out = append(out, line)
		}
	}
	return out
}

// write sets a text in lines of a height.
func (p *page) write(text, family, style string, size, height float64) {
	p.doc.SetFont(family, style, size)
	list := p.lines(text, pageW-2*pageMargin)
	if family == "mono" {
		list = []string{p.fit(inPlane(clean(text)), pageW-2*pageMargin)}
	}
	for _, l := range list {
		p.room(height)
		p.doc.SetFont(family, style, size)
		p.doc.SetTextColor(20, 26, 32)
		p.doc.Text(pageMargin, p.y+size, l)
		p.y += height
	}
}

// table sets a table: columns as wide as they need, the widest cut down to the page.
func (p *page) table(x block) {
	widths := p.widths(x)
	if x.headed() {
		p.row(x.head, widths, "B")
	}
	for _, r := range x.rows {
		if p.row(r, widths, "") {
			continue
		}
		p.next()
		if x.headed() {
			p.row(x.head, widths, "B")
		}
		p.row(r, widths, "")
	}
	p.y += 6
}

// widths are those of a table's columns.
func (p *page) widths(x block) []float64 {
	n := len(x.head)
	wants := make([]float64, n)
	p.doc.SetFont("sans", "B", 8)
	for i := range n {
		wants[i] = p.doc.GetStringWidth(x.head[i])
	}
	p.doc.SetFont("sans", "", 8)
	for i := range n {
		for _, r := range x.rows {
			wants[i] = max(wants[i], p.doc.GetStringWidth(inPlane(clean(r[i]))))
		}
		wants[i] += 2*cellPad + 1
	}
	return share(wants, pageW-2*pageMargin)
}

// share gives each what it wants, as long as there is enough; else those who want most get alike.
func share(wants []float64, all float64) []float64 {
	out := make([]float64, len(wants))
	left, open := all, len(wants)
	done := make([]bool, len(wants))
	for again := true; again && open > 0; {
		again = false
		for i, w := range wants {
			if !done[i] && w <= left/float64(open) {
				out[i], done[i], again = w, true, true
				left -= w
				open--
			}
		}
	}
	for i := range wants {
		if !done[i] {
			out[i] = left / float64(open)
		}
	}
	return out
}

// cells breaks a row's texts into lines, and tells how high it is.
func (p *page) cells(cells []string, widths []float64) (text [][]string, h float64) {
	const most = 60 // lines of a page
	height := 1
	text = make([][]string, len(cells))
	for i, c := range cells {
		if text[i] = p.lines(c, widths[i]-2*cellPad); len(text[i]) > most {
			text[i] = append(text[i][:most-1], "…")
		}
		height = max(height, len(text[i]))
	}
	return text, float64(height)*10.5 + 5
}

// height is that of a row in a style of letters, "" or "B".
func (p *page) height(cells []string, widths []float64, style string) float64 {
	p.doc.SetFont("sans", style, 8)
	_, h := p.cells(cells, widths)
	return h
}

// row sets a row; false where there is no room for it on the page, unless it is the page's first.
func (p *page) row(cells []string, widths []float64, style string) bool {
	p.doc.SetFont("sans", style, 8)
	text, h := p.cells(cells, widths)
	if p.y+h > pageH-pageMargin && p.y > pageMargin+40 {
		return false
	}
	x := pageMargin
	if style == "B" {
		p.doc.SetFillColor(232, 236, 238)
		p.doc.Rect(x, p.y, sum(widths), h, "F")
	}
	p.doc.SetTextColor(20, 26, 32)
	for i := range cells {
		for k, l := range text[i] {
			p.doc.Text(x+cellPad, p.y+10+float64(k)*10.5, l)
		}
		x += widths[i]
	}
	p.y += h
	p.doc.SetDrawColor(200, 206, 210)
	p.doc.SetLineWidth(0.5)
	p.doc.Line(pageMargin, p.y, pageMargin+sum(widths), p.y)
	return true
}

func sum(list []float64) (out float64) {
	for _, f := range list {
		out += f
	}
	return out
}
