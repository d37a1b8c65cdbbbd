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

// droid is Droid Sans Fallback (Apache License 2.0, in fonts/DroidSansFallback.LICENSE), which has one weight. No package has a font with these scripts.
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

// run is a stretch of a text that is set in one face, or drawn in the font of one script.
type run struct {
	face   int
	script int // -1 for what is set in a face
	text   string
}

// word is one of a text, in the order in which words stand from left to right.
type word struct {
	text   string
	toLeft bool
}

// seen are the words of a text as they stand from left to right: those of scripts that run from right to left, and follow one another, are turned.
// Whole paragraphs of such a script, with numbers among the words, take more (UAX #9); names and sentences of a release do not.
func seen(text string) (all []word) {
	for text := range strings.SplitSeq(text, " ") {
		all = append(all, word{text, turned(text)})
	}
	for from := 0; from < len(all); from++ {
		to := from
		for to < len(all) && all[to].toLeft {
			to++
		}
		slices.Reverse(all[from:to])
		from = max(from, to-1)
	}
	return all
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

// runs parts a text by the faces that have its letters, and by the scripts that are drawn, from left to right.
func runs(text string) (all []run) {
	for i, w := range seen(text) {
		own := w.runs()
		if w.toLeft {
			slices.Reverse(own)
		}
		if i > 0 {
			own = append([]run{{script: -1, text: " "}}, own...)
		}
		for _, r := range own {
			last := len(all) - 1
			switch {
			case last < 0 || r.script >= 0 || all[last].script >= 0:
				all = append(all, r)
			case all[last].face == r.face || r.text == " ":
				all[last].text += r.text
			default:
				all = append(all, r)
			}
		}
	}
	return all
}

// runs parts a word, in the order in which it is read. What is set letter by letter is turned where the word is.
func (w word) runs() (all []run) {
	for _, letter := range w.text {
		last, of := len(all)-1, scriptOf(letter)
		switch {
		case last >= 0 && of < 0 && all[last].script >= 0 && unicode.Is(unicode.M, letter):
			all[last].text += string(letter) // a mark on what is drawn
			continue
		case of >= 0 && last >= 0 && all[last].script == of:
			all[last].text += string(letter)
			continue
		case of >= 0:
			all = append(all, run{script: of, text: string(letter)})
			continue
		}
		if f := faceOf(letter); last >= 0 && all[last].script < 0 && all[last].face == f {
			all[last].text += string(letter)
		} else {
			all = append(all, run{f, -1, string(letter)})
		}
	}
	for i := range all {
		if w.toLeft && all[i].script < 0 {
			all[i].text = bidi.ReverseString(all[i].text)
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
		if r.script < 0 {
			p.set(r.face, w)
			p.doc.Text(x, y+w.size*middle, r.text)
			x += p.doc.GetStringWidth(r.text)
			continue
		}
		glyphs, width := shape(r.script, r.text)
		p.outlines(x, y+w.size*middle, w, glyphs)
		p.set(searched, weight{size: w.size})
		p.doc.SetTextRenderingMode(invisible)
		p.doc.Text(x, y+w.size*middle, r.text)
		p.doc.SetTextRenderingMode(0)
		x += width * w.size
	}
}

// What is drawn is there as a text that cannot be seen too, so that it is found and copied, in any face.
const (
	searched  = 1
	invisible = 3
)

// middle is how far beneath the middle of its capitals the base line of a text is, in its size.
const middle = 0.35

func (p *pdfPen) write(w io.Writer) error { return p.doc.Output(w) }
