package kit

import "strings"

// Interval draws a value with its interval against a limit, on a scale from low to high: ├──●──┤ and ┃ for the limit.
// Where the limit falls on the interval both stay visible.
func (p *Page) Interval(x, y, width int, low, value, high, from, to, limit float64, role Role) {
	if width < 8 || to <= from {
		return
	}
	at := func(v float64) int {
		return max(0, min(width-1, int((v-from)/(to-from)*float64(width-1)+0.5)))
	}
	p.Put(x, y, Rule, strings.Repeat("·", width))
	a, b, c := at(low), at(value), at(high)
	for i := a; i <= c; i++ {
		mark := "─"
		switch {
		case i == b:
			mark = "●"
		case i == a:
			mark = "├"
		case i == c:
			mark = "┤"
		}
		p.Put(x+i, y, role, mark)
	}
	if l := at(limit); l != b {
		p.Put(x+l, y, Bad, "┃")
	}
}
