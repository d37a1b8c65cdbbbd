package draw

import (
	"fmt"
	"io"
	"strings"

	"aditus/internal/core/say"
	"aditus/internal/view"
)

// Measures of the spread's drawing, in points.
const (
	spreadRow  = 20.0
	spreadBar  = 320.0
	spreadLeft = 190.0
)

// OfSpread draws who runs what of a workload.
func OfSpread(s view.Spread) Painter {
	return func(out io.Writer, format Format, palette Palette) error { return Spread(out, format, palette, s) }
}

// Spread draws the versions of a workload by how many sites run them, with why those run nothing newer.
func Spread(out io.Writer, format Format, palette Palette, s view.Spread) error {
	top := edge + 50.0
	d := newSheet(format, sheetWidth, top+float64(max(1, len(s.Versions)))*spreadRow+edge, palette)
	x := d.text(edge, edge+10, d.bright, heading, s.Workload) + 18
	d.text(x, edge+10, d.Palette.text, strong, "over "+say.Count(s.Sites, "site"))
	d.textRight(sheetWidth-edge, edge+10, d.dim, normal, "as of "+s.Now.Local().Format("2 Jan 2006 15:04"))
	d.line(d.rule, 0.8, nil, d.point(edge, edge+28), d.point(sheetWidth-edge, edge+28))
	for i, v := range s.Versions {
		y, ink, name := top+float64(i)*spreadRow, d.old, v.Version
		if v.Version == s.Newest {
			ink = d.clear
		}
		if name == "" {
			name = "none"
		}
		d.text(edge, y, d.bright, normal, d.clip(100, normal, name))
		d.textRight(spreadLeft-10, y, d.Palette.text, normal, fmt.Sprint(len(v.Sites)))
		length := spreadBar * float64(len(v.Sites)) / float64(max(1, s.Sites))
		d.box(spreadLeft, y-5, max(2, length), 10, ink)
		var why []string
		for _, reason := range v.Why {
			why = append(why, fmt.Sprintf("%d %s", reason.Sites, reason.Reason))
		}
		at := spreadLeft + spreadBar + 14
		d.text(at, y, d.Palette.text, small, d.clip(sheetWidth-edge-at, small, strings.Join(why, ", ")))
	}
	return d.write(out)
}
