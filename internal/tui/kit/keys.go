package kit

// Hint is a key with what it does.
type Hint struct {
	Key, Does string
}

// Hints writes keys and what they do in one row, as many as fit, and gives the column after them.
func (p *Page) Hints(x, y, until int, hints []Hint) int {
	for _, h := range hints {
		need := Width(h.Key) + 1 + Width(h.Does)
		if x+need > until {
			break
		}
		x = p.Put(x, y, New, h.Key)
		x = p.Put(x+1, y, Dim, h.Does) + 3
	}
	return x
}

// HintsRight writes keys so that they end at the right margin, and gives the column where they begin. Where they do
// not all fit beside what needs the room up to least, the first ones go.
func (p *Page) HintsRight(y, least int, hints []Hint) int {
	width := func() (w int) {
		for _, h := range hints {
			w += Width(h.Key) + 1 + Width(h.Does) + 3
		}
		return w - 3
	}
	for len(hints) > 1 && p.W-Margin-width() < least {
		hints = hints[1:]
	}
	x := p.W - Margin - width()
	p.Hints(x, y, p.W, hints)
	return x
}
