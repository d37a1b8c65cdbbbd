// Package draw makes drawings of what the screens show, as SVG and PDF from one description. It computes nothing about
// rollouts; package control does.
package draw

import (
	"fmt"
	"image/color"
	"io"
	"strings"

	xfont "golang.org/x/image/font"
	"golang.org/x/image/font/sfnt"
	"golang.org/x/image/math/fixed"
	"gonum.org/v1/plot"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgsvg"

	"aditus/internal/core/say"
)

// Format is a file format of drawings.
type Format string

const (
	SVG Format = "svg"
	PDF Format = "pdf"
)

// FormatOf tells the format from a file's name.
func FormatOf(name string) (Format, error) {
	for _, f := range []Format{SVG, PDF} {
		if strings.HasSuffix(strings.ToLower(name), "."+string(f)) {
			return f, nil
		}
	}
	return "", fmt.Errorf("%s is neither .svg nor .pdf; name the file so that the format can be told", name)
}

// pen draws in one format.
type pen interface {
	FillPolygon(fill color.Color, points []vg.Point)
	StrokeLines(style draw.LineStyle, lines ...[]vg.Point)
	text(x, y float64, c color.Color, w weight, words string) // on one line, centred on y
	write(w io.Writer) error
}

// sheet is a canvas with its origin at the top left and lengths in points.
type sheet struct {
	Palette
	canvas pen
	w, h   float64
}

func newSheet(format Format, w, h float64, palette Palette) *sheet {
	s := &sheet{Palette: palette, w: w, h: h}
	if format == PDF {
		s.canvas = newPDFPen(w, h)
	} else {
		svg := vgsvg.New(vg.Points(w), vg.Points(h))
		s.canvas = &svgPen{draw.New(svg), svg, h}
	}
	s.box(0, 0, w, h, palette.ground)
	return s
}

// svgPen draws an SVG, whose letters whoever shows it has fonts for.
type svgPen struct {
	draw.Canvas
	out io.WriterTo
	h   float64
}

func (p *svgPen) write(w io.Writer) error {
	_, err := p.out.WriteTo(w)
	return err
}

func (p *svgPen) text(x, y float64, c color.Color, w weight, words string) {
	p.FillText(styleOf(c, w), vg.Point{X: vg.Points(x), Y: vg.Points(p.h - y)}, words)
}

func (s *sheet) point(x, y float64) vg.Point {
	return vg.Point{X: vg.Points(x), Y: vg.Points(s.h - y)}
}

func (s *sheet) box(x, y, w, h float64, fill color.Color) {
	s.canvas.FillPolygon(fill, []vg.Point{s.point(x, y), s.point(x+w, y), s.point(x+w, y+h), s.point(x, y+h)})
}

func (s *sheet) line(c color.Color, width float64, dashes []float64, points ...vg.Point) {
	style := draw.LineStyle{Color: c, Width: vg.Points(width)}
	for _, d := range dashes {
		style.Dashes = append(style.Dashes, vg.Points(d))
	}
	s.canvas.StrokeLines(style, points)
}

// weight is how text is set.
type weight struct {
	size float64
	bold bool
}

var (
	normal  = weight{size: 9}
	strong  = weight{size: 10.5, bold: true}
	heading = weight{size: 14, bold: true}
	small   = weight{size: 8}
)

func styleOf(c color.Color, w weight) draw.TextStyle {
	f := font.Font{Typeface: "Liberation", Variant: "Sans"}
	if w.bold {
		f.Weight = xfont.WeightBold
	}
	return text.Style{Color: c, Font: font.From(f, vg.Points(w.size)), Handler: plot.DefaultTextHandler, YAlign: draw.YCenter}
}

// text writes on one line, centred on y, and gives the place after it.
func (s *sheet) text(x, y float64, c color.Color, w weight, words string) float64 {
	s.canvas.text(x, y, c, w, printable(words))
	return x + s.width(w, words)
}

func (s *sheet) textRight(x, y float64, c color.Color, w weight, words string) {
	s.text(x-s.width(w, words), y, c, w, words)
}

// width is how much room a text takes. What is set in another face than all else is measured in that.
func (s *sheet) width(w weight, words string) (sum float64) {
	for _, r := range runs(printable(words)) {
		if r.script >= 0 {
			_, width := shape(r.script, r.text)
			sum += width * w.size
			continue
		}
		if r.face == 0 {
			style := styleOf(s.Palette.text, w)
			sum += float64(style.Width(r.text) / vg.Points(1))
			continue
		}
		var buffer sfnt.Buffer
		for _, letter := range r.text {
			f := faces[r.face].letters
			at, err := f.GlyphIndex(&buffer, letter)
			if err != nil {
				continue
			}
			if wide, err := f.GlyphAdvance(&buffer, at, fixed.I(int(f.UnitsPerEm())), xfont.HintingNone); err == nil {
				sum += float64(wide) / 64 / float64(f.UnitsPerEm()) * w.size
			}
		}
	}
	return sum
}

// wrap writes words over as many lines as they need and gives the place under them.
func (s *sheet) wrap(x, y, width float64, c color.Color, w weight, words string) float64 {
	line := ""
	flush := func() {
		if line != "" {
			s.text(x, y, c, w, line)
			y += w.size * 1.45
			line = ""
		}
	}
	for _, word := range strings.Fields(words) {
		if line != "" && s.width(w, line+" "+word) > width {
			flush()
		}
		line = strings.TrimSpace(line + " " + word)
	}
	flush()
	return y
}

// clip shortens words to a width.
func (s *sheet) clip(width float64, w weight, words string) string {
	if s.width(w, words) <= width {
		return words
	}
	runes := []rune(words)
	for len(runes) > 0 && s.width(w, string(runes)+"…") > width {
		runes = runes[:len(runes)-1]
	}
	return string(runes) + "…"
}

// printable leaves out what a drawing must not carry: control characters from outside.
func printable(words string) string {
	return strings.Map(func(r rune) rune {
		if say.Harmful(r) {
			return -1
		}
		return r
	}, words)
}

func (s *sheet) write(w io.Writer) error {
	return s.canvas.write(w)
}
