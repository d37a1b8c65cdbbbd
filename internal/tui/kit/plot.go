package kit

import "math"

// Plot is a field of dots, two across and four down in each cell, drawn with the braille patterns of Unicode. It is
// written here because the chart packages at hand colour a cell for one series alone; here cells in which series meet
// take turns, so that each of them stays visible.
type Plot struct {
	w, h  int // in cells
	dots  []uint8
	owner []uint16 // by cell: a bit for each role that has a dot there
}

// NewPlot makes an empty plot of so many cells.
func NewPlot(w, h int) *Plot {
	w, h = max(0, w), max(0, h)
	return &Plot{w: w, h: h, dots: make([]uint8, w*h), owner: make([]uint16, w*h)}
}

// Columns and Rows are the plot's size in dots.
func (p *Plot) Columns() int { return p.w * 2 }
func (p *Plot) Rows() int    { return p.h * 4 }

// bits are the braille patterns' dots, by row and column within the cell.
var bits = [4][2]uint8{{0x01, 0x08}, {0x02, 0x10}, {0x04, 0x20}, {0x40, 0x80}}

// Dot sets a dot; row 0 is at the top.
func (p *Plot) Dot(column, row int, role Role) {
	if column < 0 || row < 0 || column >= p.Columns() || row >= p.Rows() {
		return
	}
	at := row/4*p.w + column/2
	p.dots[at] |= bits[row%4][column%2]
	p.owner[at] |= 1 << role
}

// Line draws a value for each dot column: level gives it as a share of the height, from 0 at the bottom to 1 at the
// top, and whether there is one. Only every step-th column is drawn.
func (p *Plot) Line(role Role, step int, level func(column int) (float64, bool)) {
	before := -1
	for column := range p.Columns() {
		value, ok := level(column)
		if !ok || math.IsNaN(value) {
			before = -1
			continue
		}
		row := int(math.Round((1 - max(0, min(1, value))) * float64(p.Rows()-1)))
		if column%step == 0 {
			p.Dot(column, row, role)
			for between := before; before >= 0 && step == 1 && abs(between-row) > 1; {
				if between < row {
					between++
				} else {
					between--
				}
				p.Dot(column, between, role)
			}
		}
		before = row
	}
}

func abs(n int) int { return max(n, -n) }

// Draw puts the plot onto a page.
func (p *Plot) Draw(page *Page, x, y int) {
	for row := range p.h {
		for column := range p.w {
			at := row*p.w + column
			if p.dots[at] != 0 {
				page.Put(x+column, y+row, p.turn(at, column), string(rune(0x2800+int(p.dots[at]))))
			}
		}
	}
}

// turn is the role whose colour a cell takes. Where several meet they take turns along the row.
func (p *Plot) turn(at, column int) Role {
	var here []Role
	for _, role := range []Role{New, Old, Bad, Dim} {
		if p.owner[at]&(1<<role) != 0 {
			here = append(here, role)
		}
	}
	if len(here) == 0 {
		return Text
	}
	return here[column%len(here)]
}
