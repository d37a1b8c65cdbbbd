package draw

import (
	"fmt"
	"io"
	"time"

	"aditus/internal/status"
	"aditus/internal/view"
	"aditus/internal/words"
)

// Measures of the anatomy's drawing, in points.
const (
	anatomyWidth = 760.0
	anatomyRow   = 17.0
	anatomyStep  = 22.0 // a level's indent
	anatomyWords = 330.0
)

// Anatomy draws what a berth is made of: cohorts, parts and instances, or what its site knows of these, what belongs to what, and how
// each is doing.
func Anatomy(out io.Writer, format Format, palette Palette, b status.Berth, tree []status.Node, now time.Time) error {
	rows := view.Anatomy(b, tree, now)
	s := newSheet(format, anatomyWidth, edge*2+60+float64(len(rows))*anatomyRow, palette)
	s.text(edge, edge+8, s.bright, heading, b.Workload+" · "+b.Site)
	headline, _ := words.Headline(b, now)
	s.text(edge, edge+28, s.Palette.text, normal, headline)
	s.textRight(anatomyWidth-edge, edge+8, s.dim, small, now.Local().Format("2 Jan 2006 15:04:05"))
	top := edge + 56
	parent := map[int]float64{} // where the last row of each level stands
	for i, r := range rows {
		y := top + float64(i)*anatomyRow
		x := edge + float64(r.Depth)*anatomyStep
		if r.Depth > 0 {
			stem := x - anatomyStep + 5
			s.line(s.rule, 0.8, nil, s.point(stem, parent[r.Depth-1]+6), s.point(stem, y), s.point(x-3, y))
		}
		parent[r.Depth] = y
		s.branch(x, y, r)
	}
	return s.write(out)
}

func (s *sheet) branch(x, y float64, r view.Branch) {
	role, w := s.Palette.text, normal
	switch {
	case r.Depth == 0 && r.Side == words.Moves:
		role, w = s.new, strong
	case r.Depth == 0:
		role, w = s.old, strong
	case r.Depth == 2 && r.Node == nil, r.Others:
		role = s.dim
	}
	room := edge + anatomyWords - x - 8
	name := s.clip(room, w, r.Name)
	at := s.text(x, y, role, w, name)
	if r.Kind != "" && at+6 < edge+anatomyWords-8 {
		s.text(at+6, y, s.dim, small, s.clip(edge+anatomyWords-at-14, small, r.Kind))
	}
	text := r.Words
	if r.Why != "" && r.Tone == words.Bad {
		text = fmt.Sprintf("%s: %s", text, r.Why)
	}
	s.text(edge+anatomyWords, y, s.tone(r.Tone), normal, s.clip(anatomyWidth-2*edge-anatomyWords, normal, text))
}
