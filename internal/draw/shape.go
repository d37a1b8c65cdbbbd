package draw

import (
	"bytes"
	"embed"
	"slices"
	"sync"
	"unicode"

	"codeberg.org/go-fonts/dejavu/dejavusans"
	"github.com/go-text/typesetting/di"
	"github.com/go-text/typesetting/font"
	"github.com/go-text/typesetting/font/opentype"
	"github.com/go-text/typesetting/language"
	"github.com/go-text/typesetting/shaping"
	"golang.org/x/image/math/fixed"
)

// script is one whose letters are joined, stacked or put in another order as they are written, with the font that they are drawn in as outlines:
// no library was found that embeds what such letters become. It has one weight; bold is drawn broader.
type script struct {
	letters *unicode.RangeTable
	font    func() *font.Face
}

// fonts are Noto Sans, and Noto Serif for Tibetan (SIL Open Font License 1.1, in fonts/Noto.LICENSE).
//
//go:embed fonts/Noto*.ttf
var fonts embed.FS

var scripts = []script{
	{unicode.Arabic, sync.OnceValue(func() *font.Face { return outlined(dejavusans.TTF) })},
	noto("Sans", "Devanagari", unicode.Devanagari), noto("Sans", "Bengali", unicode.Bengali), noto("Sans", "Gujarati", unicode.Gujarati),
	noto("Sans", "Gurmukhi", unicode.Gurmukhi), noto("Sans", "Tamil", unicode.Tamil), noto("Sans", "Telugu", unicode.Telugu),
	noto("Sans", "Kannada", unicode.Kannada), noto("Sans", "Malayalam", unicode.Malayalam), noto("Sans", "Oriya", unicode.Oriya),
	noto("Sans", "Sinhala", unicode.Sinhala), noto("Sans", "Thai", unicode.Thai), noto("Sans", "Lao", unicode.Lao),
	noto("Sans", "Khmer", unicode.Khmer), noto("Sans", "Myanmar", unicode.Myanmar), noto("Sans", "Ethiopic", unicode.Ethiopic),
	noto("Sans", "Thaana", unicode.Thaana), noto("Serif", "Tibetan", unicode.Tibetan),
}

// noto reads a font when it is needed first.
func noto(kind, name string, letters *unicode.RangeTable) script {
	return script{letters, sync.OnceValue(func() *font.Face {
		text, err := fonts.ReadFile("fonts/Noto" + kind + name + "-Regular.ttf")
		if err != nil {
			panic("a font that is part of the program is missing: " + err.Error())
		}
		return outlined(text)
	})}
}

func outlined(ttf []byte) *font.Face {
	f, err := font.ParseTTF(bytes.NewReader(ttf))
	if err != nil {
		panic("a font that is part of the program must parse: " + err.Error())
	}
	return f
}

// scriptOf is the place in scripts of the one that a letter is of; -1 for none.
func scriptOf(r rune) int {
	return slices.IndexFunc(scripts, func(s script) bool { return unicode.Is(s.letters, r) })
}

// glyph is a letter, or what letters become together, as it is drawn: its outline, in parts of the size that the text is set in, from the
// place on the base line where the text begins.
type glyph struct {
	outline []font.Segment
	x, y    float64
}

// shapingNow guards the fonts, which keep what they have shaped.
var shapingNow sync.Mutex

// perSize is the size that all is shaped in, so that lengths are parts of it.
const perSize = 1 << 12

// shape gives the outlines of a text of one script, and how wide it is, in parts of its size.
func shape(of int, text string) (glyphs []glyph, width float64) {
	shapingNow.Lock()
	defer shapingNow.Unlock()
	letters := []rune(text)
	way := di.DirectionLTR
	if toLeft(letters[0]) {
		way = di.DirectionRTL
	}
	face := scripts[of].font()
	out := new(shaping.HarfbuzzShaper).Shape(shaping.Input{
		Text: letters, RunEnd: len(letters), Direction: way, Face: face, Size: fixed.I(perSize), Script: language.LookupScript(letters[0]),
	})
	part := func(n fixed.Int26_6) float64 { return float64(n) / 64 / perSize }
	for _, g := range out.Glyphs {
		if outline, ok := face.GlyphDataOutline(g.GlyphID); ok {
			scaled := glyph{x: width + part(g.XOffset), y: part(g.YOffset)}
			for _, s := range outline.Segments {
				for i := range s.Args {
					s.Args[i].X /= float32(face.Upem())
					s.Args[i].Y /= float32(face.Upem())
				}
				scaled.outline = append(scaled.outline, s)
			}
			glyphs = append(glyphs, scaled)
		}
		width += part(g.Advance)
	}
	return glyphs, width
}

// outlines draws glyphs from a place on the base line on, broader where they are bold.
func (p *pdfPen) outlines(x, y float64, w weight, glyphs []glyph) {
	style := "F"
	if w.bold {
		p.doc.SetLineWidth(w.size * bolder)
		p.doc.SetDashPattern(nil, 0)
		style = "FD"
	}
	for _, g := range glyphs {
		at := func(s opentype.SegmentPoint) (float64, float64) {
			return x + (g.x+float64(s.X))*w.size, y - (g.y+float64(s.Y))*w.size
		}
		for _, s := range g.outline {
			x0, y0 := at(s.Args[0])
			x1, y1 := at(s.Args[1])
			x2, y2 := at(s.Args[2])
			switch s.Op {
			case opentype.SegmentOpMoveTo:
				p.doc.MoveTo(x0, y0)
			case opentype.SegmentOpLineTo:
				p.doc.LineTo(x0, y0)
			case opentype.SegmentOpQuadTo:
				p.doc.CurveTo(x0, y0, x1, y1)
			case opentype.SegmentOpCubeTo:
				p.doc.CurveBezierCubicTo(x0, y0, x1, y1, x2, y2)
			}
		}
		if len(g.outline) > 0 {
			p.doc.DrawPath(style)
		}
	}
}

// bolder is how much broader the line around bold outlines is, in the size of the text.
const bolder = 0.035
