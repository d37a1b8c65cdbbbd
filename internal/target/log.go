package target

import "time"

// LogMark is up to where the log of an instance was read: when it wrote the last line, and how many lines of that moment were read, as some engines
// tell times in whole seconds. The zero LogMark is before all.
type LogMark struct {
	At    time.Time
	lines int
}

// Fresh gives the lines that were not read before, of those that were written since At, and moves the mark behind them.
func (m *LogMark) Fresh(lines []LogLine) (fresh []LogLine) {
	before := *m
	for _, line := range lines {
		if line.At.Equal(before.At) && before.lines > 0 {
			before.lines--
			continue
		}
		if !line.At.Equal(m.At) {
			*m = LogMark{At: line.At}
		}
		m.lines++
		fresh = append(fresh, line)
	}
	return fresh
}
