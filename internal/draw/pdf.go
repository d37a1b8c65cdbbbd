package draw

import (
	_ "embed"
	"image/color"
	"io"
	"slices"
	"strings"
	"time"
	"unicode"

	"codeberg.org/go-fonts/dejavu/dejavusans"
	"codeberg.org/go-fonts/dejavu/dejavusansbold"
	"codeberg.org/go-fonts/liberation/liberationsansbold"
	"codeberg.org/go-fonts/liberation/liberationsansregular"
	"codeberg.org/go-pdf/fpdf"
	"golang.org/x/image/font/sfnt"
	"golang.org/x/text/unicode/bidi"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
)

// face is a font that letters are set in: what it has of letters, and where it is for a PDF.
type face struct {
	name          string
	regular, bold []byte
	letters       *sfnt.Font
}

// droid is Droid Sans Fallback (Apache License 2.0, in fonts/LICENSE), which has one weight. No package has a font with these scripts.
//
//go:embed fonts/DroidSansFallback.ttf
var droid []byte

// faces are those that a letter is looked for in, one after the other: the one that all is set in, one with more scripts, and one with
// those of China, Japan and Korea. A letter that none has is a box.
var faces = []face{
	{"Liberation Sans", liberationsansregular.TTF, liberationsansbold.TTF, parsed(liberationsansregular.TTF)},
	{"DejaVu Sans", dejavusans.TTF, dejavusansbold.TTF, parsed(dejavusans.TTF)},
	{"Droid Sans Fallback", droid, droid, parsed(droid)},
}

func parsed(font []byte) *sfnt.Font {
	f, err := sfnt.Parse(font)
	if err != nil {
		panic("a font that is part of the program must parse: " + err.Error())
	}
	return f
}

// faceOf is the place in faces of the first that has a letter.
func faceOf(r rune) int {
	var buffer sfnt.Buffer
	for i, f := range faces {
		if at, err := f.letters.GlyphIndex(&buffer, r); err == nil && at != 0 {
			return i
		}
	}
	return 1
}

// run is a stretch of a text that is set in one face.
type run struct {
	face int
	text string
}

// seen is a text in the order in which its letters stand from left to right: words of scripts that run from right to left, and those that follow
// one another, are turned. Whole paragraphs of such a script, with numbers among the words, take more (UAX #9); names and sentences of
// a release do not. Letters that are joined in writing stand side by side.
func seen(text string) string {
	words := strings.Split(text, " ")
	for from := 0; from < len(words); from++ {
		to := from
		for to < len(words) && turned(words[to]) {
			words[to] = bidi.ReverseString(words[to])
			to++
		}
		slices.Reverse(words[from:to])
		from = max(from, to-1)
	}
	return strings.Join(words, " ")
}

// turned tells whether all letters of a word, one at least, are of scripts that run from right to left.
func turned(word string) bool {
	other := func(r rune) bool { return unicode.IsLetter(r) && !toLeft(r) }
	return strings.ContainsFunc(word, toLeft) && !strings.ContainsFunc(word, other)
}

// toLeft tells whether a letter is of a script that runs from right to left.
func toLeft(r rune) bool {
	p, _ := bidi.LookupRune(r)
	return p.Class() == bidi.R || p.Class() == bidi.AL
}

// runs parts a text by the faces that have its letters.
func runs(text string) (all []run) {
	for _, r := range seen(text) {
		f := faceOf(r)
		if n := len(all); n > 0 && (all[n-1].face == f || r == ' ') {
			all[n-1].text += string(r)
		} else {
			all = append(all, run{f, string(r)})
		}
	}
	return all
}

// pdfPen draws a PDF. Of each font what is used of it is embedded.
type pdfPen struct {
	doc  *fpdf.Fpdf
	h    float64
	used map[string]bool
}

func newPDFPen(w, h float64) *pdfPen {
	doc := fpdf.NewCustom(&fpdf.InitType{UnitStr: "pt", Size: fpdf.SizeType{Wd: w, Ht: h}})
	doc.SetMargins(0, 0, 0)
	doc.SetAutoPageBreak(false, 0)
	doc.SetCatalogSort(true)
	doc.SetCreationDate(time.Unix(0, 0).UTC()) // the same drawing is the same file
	doc.SetModificationDate(time.Unix(0, 0).UTC())
	doc.AddPage()
	return &pdfPen{doc, h, map[string]bool{}}
}

// colour sets what is drawn with next.
func (p *pdfPen) colour(c color.Color) {
	n := color.NRGBAModel.Convert(c).(color.NRGBA)
	p.doc.SetFillColor(int(n.R), int(n.G), int(n.B))
	p.doc.SetDrawColor(int(n.R), int(n.G), int(n.B))
	p.doc.SetTextColor(int(n.R), int(n.G), int(n.B))
	p.doc.SetAlpha(float64(n.A)/255, "Normal")
}

func (p *pdfPen) points(points []vg.Point) (all []fpdf.PointType) {
	for _, at := range points {
		all = append(all, fpdf.PointType{X: at.X.Points(), Y: p.h - at.Y.Points()})
	}
	return all
}

// FillPolygon fills what lies within some points.
func (p *pdfPen) FillPolygon(c color.Color, points []vg.Point) {
	p.colour(c)
	p.doc.Polygon(p.points(points), "F")
}

// StrokeLines draws from point to point.
func (p *pdfPen) StrokeLines(style draw.LineStyle, lines ...[]vg.Point) {
	p.colour(style.Color)
	p.doc.SetLineWidth(style.Width.Points())
	var dashes []float64
	for _, d := range style.Dashes {
		dashes = append(dashes, d.Points())
	}
	p.doc.SetDashPattern(dashes, 0)
	for _, line := range lines {
		for i, at := range p.points(line) {
			if i == 0 {
				p.doc.MoveTo(at.X, at.Y)
			} else {
				p.doc.LineTo(at.X, at.Y)
			}
		}
		p.doc.DrawPath("D")
	}
}

// set chooses a face of a weight, which is embedded where it is used first.
func (p *pdfPen) set(at int, w weight) {
	f, style, text := faces[at], "", faces[at].regular
	if w.bold {
		style, text = "B", f.bold
	}
	if !p.used[f.name+style] {
		p.doc.AddUTF8FontFromBytes(f.name, style, text)
		p.used[f.name+style] = true
	}
	p.doc.SetFont(f.name, style, w.size)
}

// text sets a text on a line, centred on y.
func (p *pdfPen) text(x, y float64, c color.Color, w weight, words string) {
	p.colour(c)
	for _, r := range runs(words) {
		p.set(r.face, w)
		p.doc.Text(x, y+w.size*middle, r.text)
		x += p.doc.GetStringWidth(r.text)
	}
}

// middle is how far beneath the middle of its capitals the base line of a text is, in its size.
const middle = 0.35

func (p *pdfPen) write(w io.Writer) error { return p.doc.Output(w) }
