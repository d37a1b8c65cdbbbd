package kit

import "strconv"

// List is a cursor in a list that may be longer than its room.
type List struct {
	At  int // the selected row
	top int // the first row shown
	h   int // rows shown last
}

// Key moves the cursor among n rows. It is false for keys that do not move it.
func (l *List) Key(key string, n int) bool {
	page := max(1, l.h-1)
	switch key {
	case "up", "k":
		l.At--
	case "down", "j":
		l.At++
	case "pgup", "ctrl+u":
		l.At -= page
	case "pgdown", "ctrl+d":
		l.At += page
	case "home":
		l.At = 0
	case "end":
		l.At = n - 1
	default:
		return false
	}
	l.At = max(0, min(l.At, n-1))
	return true
}

// Click puts the cursor on the row that was drawn so many rows below the first one, among n in a room.
func (l *List) Click(below, room, n int) {
	from, to := l.Window(room, n)
	if at := from + below; below >= 0 && at < to {
		l.At = at
	}
}

// Selected is the row under the cursor; ok is false where there is none.
func Selected[T any](l *List, rows []T) (row T, ok bool) {
	if l.At < 0 || l.At >= len(rows) {
		return row, false
	}
	return rows[l.At], true
}

// Window gives the rows to show in a room of h rows, so that the cursor is among them.
func (l *List) Window(h, n int) (from, to int) {
	l.h = h
	l.At = max(0, min(l.At, n-1))
	if l.At < l.top {
		l.top = l.At
	}
	if l.At >= l.top+h {
		l.top = l.At - h + 1
	}
	l.top = max(0, min(l.top, n-h))
	return l.top, min(n, l.top+h)
}

// More tells, at the right of a title, how many rows there are beside those shown.
func (p *Page) More(y, from, to, n int) {
	if to-from < n {
		p.Right(p.W-Margin-1, y, Dim, itoa(from+1)+" to "+itoa(to)+" of "+itoa(n))
	}
}

// Head writes what stands on top of every screen but the board: what it is about, in bright letters, what it shows, and
// the time at the right. It gives the column after it.
func (p *Page) Head(about, screen, now string) int {
	x := p.Put(Margin+1, 0, Bright, about)
	x = p.Put(x+3, 0, Dim, screen) + 3
	p.Right(p.W-Margin-1, 0, Text, now)
	p.Rule(1)
	return x
}

func itoa(n int) string { return strconv.Itoa(n) }
