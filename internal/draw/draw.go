// Package draw is a drawing surface of lines, shapes and text that comes out as SVG or PDF.
// It knows nothing of what is drawn.
package draw

import (
	"fmt"
	"image/color"
	"io"
	"path/filepath"
	"strings"
	"sync"
	"unicode"

	"codeberg.org/go-fonts/liberation/liberationmonoregular"
	"codeberg.org/go-fonts/liberation/liberationsansbold"
	"codeberg.org/go-fonts/liberation/liberationsansregular"
	"codeberg.org/go-pdf/fpdf"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/font/liberation"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/vgsvg"
)

// MaxSide is the longest side of a drawing in points: the largest that PDF readers must
// show (ISO 32000-1, annex C.2).
const MaxSide = 14_400

// Pen is how a line looks.
type Pen struct {
	Color color.Color
	Width float64 // in points
	Dash  []float64
}

// Font is how text looks.
type Font struct {
	Color color.Color
	Size  float64 // in points
	Bold  bool
	Mono  bool
	// Align is where the text's anchor is: -1 at its left, 0 in its middle, 1 at its right.
	Align int
}

// Point is a place.
type Point struct{ X, Y float64 }

// Surface is a drawing under way. x grows to the right, y downwards; both are in points.
// Not safe for concurrent use.
type Surface struct {
	W, H  float64
	marks []mark
}

// mark is a line, a filled shape or a text.
type mark struct {
	points []Point
	pen    Pen // its colour fills where width is 0
	font   Font
	text   string
}

// New returns an empty white drawing.
func New(w, h float64) *Surface {
	s := &Surface{W: w, H: h}
	s.Fill(color.White, Point{0, 0}, Point{w, 0}, Point{w, h}, Point{0, h})
	return s
}

// Line draws a line through the points.
func (s *Surface) Line(pen Pen, points ...Point) {
	s.marks = append(s.marks, mark{points: points, pen: pen})
}

// Fill fills the shape within the points.
func (s *Surface) Fill(col color.Color, points ...Point) {
	s.marks = append(s.marks, mark{points: points, pen: Pen{Color: col}})
}

// Text writes a text with its base line at the point.
func (s *Surface) Text(f Font, at Point, text string) {
	if text = clean(text); text != "" {
		at.X -= f.Width(text) * float64(f.Align+1) / 2
		s.marks = append(s.marks, mark{points: []Point{at}, font: f, text: text})
	}
}

// clean replaces what would break the output, or would turn or hide what is read: controls, line
// separators, and what is invisible or turns the direction of text (Unicode's category Cf).
func clean(s string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsControl(r) || unicode.Is(unicode.Cf, r) || r == 0x2028 || r == 0x2029 || r&0xFFFE == 0xFFFE {
			return '·'
		}
		return r
	}, strings.ToValidUTF8(s, "·"))
}

// nearest stands for our signs where the PDF's fonts lack them.
var nearest = map[rune]rune{'✓': '√', '✗': '×', '╳': '×', '∅': 'Ø', '◆': '●', '▸': '►'}

// inPlane replaces characters beyond the basic plane, which the PDF's fonts cannot address, and signs that they lack.
func inPlane(s string) string {
	return strings.Map(func(r rune) rune {
		if near := nearest[r]; near != 0 {
			return near
		}
		if r > 0xFFFF {
			return '□'
		}
		return r
	}, s)
}

// caught makes an error of a panic in one of the packages that write a format: a drawing that
// fails must not take the program with it.
func caught(err *error) {
	if p := recover(); p != nil {
		*err = fmt.Errorf("the drawing cannot be written: %v", p)
	}
}

// faces holds the fonts for measuring and for SVG, which take a while to be read.
var faces = sync.OnceValue(func() *font.Cache { return font.NewCache(liberation.Collection()) })

func (f Font) face() font.Face {
	x := font.Font{Typeface: "Liberation", Variant: "Sans"}
	if f.Mono {
		x.Variant = "Mono"
	}
	if f.Bold {
		x.Weight = 3 // bold, of the standard's nine weights
	}
	return faces().Lookup(x, font.Length(f.Size))
}

// Width returns how wide a text is, in points.
func (f Font) Width(text string) float64 {
	face := f.face()
	return float64(face.Width(clean(text)))
}

func (s *Surface) fits() error {
	if s.W > MaxSide || s.H > MaxSide {
		return fmt.Errorf(
			"the drawing is %.0f × %.0f points; at most %d are possible: draw less of it",
			s.W,
			s.H,
			MaxSide,
		)
	}
	return nil
}

// SVG writes the drawing as SVG.
func (s *Surface) SVG(w io.Writer) (err error) {
	defer caught(&err)
	if err := s.fits(); err != nil {
		return err
	}
	c := vgsvg.New(vg.Length(s.W), vg.Length(s.H))
	at := func(p Point) vg.Point { return vg.Point{X: vg.Length(p.X), Y: vg.Length(s.H - p.Y)} }
	for _, m := range s.marks {
		if m.text != "" {
			c.SetColor(m.font.Color)
			c.FillString(m.font.face(), at(m.points[0]), m.text)
			continue
		}
		var path vg.Path
		for i, p := range m.points {
			if i == 0 {
				path.Move(at(p))
			} else {
				path.Line(at(p))
			}
		}
		c.SetColor(m.pen.Color)
		if m.pen.Width == 0 {
			path.Close()
			c.Fill(path)
			continue
		}
		dash := make([]vg.Length, len(m.pen.Dash))
		for i, d := range m.pen.Dash {
			dash[i] = vg.Length(d)
		}
		c.SetLineWidth(vg.Length(m.pen.Width))
		c.SetLineDash(dash, 0)
		c.Stroke(path)
	}
	_, err = c.WriteTo(w)
	return err
}

// PDF writes the drawing as a PDF of one page, with the characters it uses of its fonts.
func (s *Surface) PDF(w io.Writer) (err error) {
	defer caught(&err)
	if err := s.fits(); err != nil {
		return err
	}
	doc := fpdf.NewCustom(&fpdf.InitType{UnitStr: "pt", Size: fpdf.SizeType{Wd: s.W, Ht: s.H}})
	doc.SetMargins(0, 0, 0)
	doc.SetAutoPageBreak(false, 0)
	doc.SetCatalogSort(true) // the same drawing gives the same bytes
	doc.AddUTF8FontFromBytes("sans", "", liberationsansregular.TTF)
	doc.AddUTF8FontFromBytes("sans", "B", liberationsansbold.TTF)
	doc.AddUTF8FontFromBytes("mono", "", liberationmonoregular.TTF)
	doc.AddPageFormat("P", fpdf.SizeType{Wd: s.W, Ht: s.H})
	s.on(doc)
	return doc.Output(w)
}

// on draws on a page at its origin.
func (s *Surface) on(doc *fpdf.Fpdf) {
	rgb := func(c color.Color) (int, int, int) {
		r, g, b, _ := c.RGBA()
		return int(r >> 8), int(g >> 8), int(b >> 8)
	}
	for _, m := range s.marks {
		switch {
		case m.text != "":
			family, style := "sans", ""
			if m.font.Mono {
				family = "mono"
			} else if m.font.Bold {
				style = "B"
			}
			doc.SetFont(family, style, m.font.Size)
			doc.SetTextColor(rgb(m.font.Color))
			doc.Text(m.points[0].X, m.points[0].Y, inPlane(m.text))
		case m.pen.Width == 0:
			doc.SetFillColor(rgb(m.pen.Color))
			points := make([]fpdf.PointType, len(m.points))
			for i, p := range m.points {
				points[i] = fpdf.PointType{X: p.X, Y: p.Y}
			}
			doc.Polygon(points, "F")
		default:
			doc.SetDrawColor(rgb(m.pen.Color))
			doc.SetLineWidth(m.pen.Width)
			doc.SetDashPattern(m.pen.Dash, 0)
			for i, p := range m.points {
				if i == 0 {
					doc.MoveTo(p.X, p.Y)
				} else {
					doc.LineTo(p.X, p.Y)
				}
			}
			doc.DrawPath("D")
		}
	}
}

// Write writes the drawing in the format that a file's name ends in: .svg or .pdf.
func (s *Surface) Write(w io.Writer, name string) error {
	switch strings.ToLower(filepath.Ext(name)) {
	case ".svg":
		return s.SVG(w)
	case ".pdf":
		return s.PDF(w)
	}
	return Writable(name)
}

// Writable tells why no drawing can be written into a file of the name; nil where one can.
func Writable(name string) error {
	switch strings.ToLower(filepath.Ext(name)) {
	case ".svg", ".pdf":
		return nil
	}
	return fmt.Errorf("%s: a drawing is written as .svg or .pdf", name)
}
