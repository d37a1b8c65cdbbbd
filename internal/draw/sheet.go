// Package draw makes drawings of what the screens show, as SVG and PDF from one description. It computes nothing about
// rollouts; package control does.
package draw

import (
	"fmt"
	"image/color"
	"io"
	"strings"

	"golang.org/x/text/encoding/charmap"
	"gonum.org/v1/plot"
	"gonum.org/v1/plot/font"
	"gonum.org/v1/plot/text"
	"gonum.org/v1/plot/vg"
	"gonum.org/v1/plot/vg/draw"
	"gonum.org/v1/plot/vg/vgpdf"
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

// sheet is a canvas with its origin at the top left and lengths in points.
type sheet struct {
	Palette
	canvas draw.Canvas
	out    io.WriterTo
	w, h   float64
	format Format
}

func newSheet(format Format, w, h float64, palette Palette) *sheet {
	s := &sheet{Palette: palette, w: w, h: h, format: format}
	width, height := vg.Points(w), vg.Points(h)
	if format == PDF {
		pdf := vgpdf.New(width, height)
		s.canvas, s.out = draw.New(pdf), pdf
	} else {
		svg := vgsvg.New(width, height)
		s.canvas, s.out = draw.New(svg), svg
	}
	s.box(0, 0, w, h, palette.ground)
	return s
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

// weight is how text is set. It is size alone: the PDF writer does not find the bold face of its own font.
type weight struct {
	size float64
}

var (
	normal  = weight{size: 9}
	strong  = weight{size: 10.5}
	heading = weight{size: 14}
	small   = weight{size: 8}
)

func (s *sheet) style(c color.Color, w weight) draw.TextStyle {
	f := font.Font{Typeface: "Liberation", Variant: "Sans"}
	return text.Style{Color: c, Font: font.From(f, vg.Points(w.size)), Handler: plot.DefaultTextHandler, YAlign: draw.YCenter}
}

// text writes on one line, centred on y, and gives the place after it.
func (s *sheet) text(x, y float64, c color.Color, w weight, words string) float64 {
	s.canvas.FillText(s.style(c, w), s.point(x, y), s.encode(printable(words)))
	return x + s.width(w, words)
}

func (s *sheet) textRight(x, y float64, c color.Color, w weight, words string) {
	s.text(x-s.width(w, words), y, c, w, words)
}

// encode writes words as the format wants them: the PDF writer takes the bytes of Windows-1252 and knows no other
// letters, which become question marks.
func (s *sheet) encode(words string) string {
	if s.format != PDF {
		return words
	}
	var out strings.Builder
	for _, r := range strings.ReplaceAll(words, "\u202f", " ") {
		if b, ok := charmap.Windows1252.EncodeRune(r); ok {
			out.WriteByte(b)
		} else {
			out.WriteByte('?')
		}
	}
	return out.String()
}

func (s *sheet) width(w weight, words string) float64 {
	style := s.style(s.Palette.text, w)
	return float64(style.Width(printable(words)) / vg.Points(1))
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
	_, err := s.out.WriteTo(w)
	return err
}
