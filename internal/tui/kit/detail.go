package kit

// Detail tells something line by line, each with a name before it.
type Detail struct {
	p    *Page
	x, y int
	end  int // the first row that is another's
	text int // where what is told begins
}

// Detail begins one in the rows from y to end.
func (p *Page) Detail(x, y, label, end int) *Detail { return &Detail{p, x, y, end, x + label} }

// Line tells something in as many rows as it needs, at most so many; nothing where there is nothing to tell, or no room.
func (d *Detail) Line(name, text string, role Role, most int) {
	if d.y >= d.end || text == "" {
		return
	}
	d.p.Put(d.x, d.y, Dim, name)
	d.y = d.p.Wrap(d.text, d.y, d.p.W-d.text-2, min(most, d.end-d.y), role, text)
}
