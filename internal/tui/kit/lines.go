package kit

import (
	"strings"

	"github.com/charmbracelet/x/ansi"
)

// leastWidth is how narrow a line is wrapped at most, whatever its indent.
const leastWidth = 8

// Lines is a text of several roles that is longer than its place, and read from its beginning on.
type Lines struct {
	lines []roled
}

type roled struct {
	role Role
	text string
}

// Add adds a paragraph, which is wrapped where it has no room.
func (l *Lines) Add(role Role, text string) { l.lines = append(l.lines, roled{role, text}) }

// AddAll adds the lines of a text as they stand.
func (l *Lines) AddAll(role Role, text string) {
	for line := range strings.Lines(text) {
		l.Add(role, strings.TrimRight(line, "\n"))
	}
}

// Gap adds an empty line, but for a second one and one at the beginning.
func (l *Lines) Gap() {
	if n := len(l.lines); n > 0 && l.lines[n-1].text != "" {
		l.Add(Dim, "")
	}
}

// Draw draws what has room from a line on, and gives the line that it began at: no later than needed for the last one to be seen.
func (l *Lines) Draw(p *Page, x, y, width, end, from int) int {
	room := end - y
	var rows []roled
	for _, line := range l.lines {
		text := Plain(line.text)
		indent := text[:len(text)-len(strings.TrimLeft(text, " "))]
		for i, row := range strings.Split(ansi.Wrap(strings.TrimLeft(text, " "), max(leastWidth, width-len(indent)-2), ""), "\n") {
			if i > 0 {
				row = "  " + row
			}
			rows = append(rows, roled{line.role, indent + row})
		}
	}
	from = max(0, min(from, len(rows)-room))
	for _, row := range rows[from:min(len(rows), from+room)] {
		p.PutIn(x, y, width, row.role, row.text)
		y++
	}
	return from
}
