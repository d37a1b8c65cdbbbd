package scrape

import (
	"bufio"
	"fmt"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"aditus/internal/core/signal"
)

// Scrape is a page with the moment it tells of.
type Scrape struct {
	At   time.Time
	Page signal.Page
}

// maxSeries is the largest file of recorded samples that is read, in bytes.
const maxSeries = 1 << 30

// ReadSeries parses OpenMetrics text in which every sample has a timestamp, in seconds as the standard has it, and gives
// it as one page for each moment, oldest first.
func ReadSeries(r io.Reader) ([]Scrape, error) {
	lines := bufio.NewScanner(io.LimitReader(r, maxSeries))
	lines.Buffer(nil, maxPage)
	var types strings.Builder
	pages := map[int64]*strings.Builder{}
	for number := 1; lines.Scan(); number++ {
		line := strings.TrimSpace(lines.Text())
		switch {
		case line == "" || line == "# EOF":
			continue
		case strings.HasPrefix(line, "# TYPE"):
			types.WriteString(line + "\n")
			continue
		case strings.HasPrefix(line, "#"):
			continue
		}
		sample, at, err := stamped(line)
		if err != nil {
			return nil, fmt.Errorf("line %d: %w", number, err)
		}
		page := pages[at]
		if page == nil {
			page = &strings.Builder{}
			pages[at] = page
		}
		page.WriteString(sample + "\n")
	}
	if err := lines.Err(); err != nil {
		return nil, err
	}
	if len(pages) == 0 {
		return nil, fmt.Errorf("%w: it holds no sample", ErrNoMetrics)
	}
	var scrapes []Scrape
	for at, text := range pages {
		page, err := ReadMetrics(strings.NewReader(types.String() + text.String()))
		if err != nil {
			return nil, fmt.Errorf("the samples of %s: %w", time.UnixMilli(at).UTC().Format(time.RFC3339), err)
		}
		scrapes = append(scrapes, Scrape{time.UnixMilli(at), page})
	}
	slices.SortFunc(scrapes, func(a, b Scrape) int { return a.At.Compare(b.At) })
	return scrapes, nil
}

// stamped parts a sample from its timestamp, which it gives in milliseconds.
func stamped(line string) (sample string, at int64, err error) {
	if exemplar := strings.LastIndex(line, " # {"); exemplar >= 0 {
		line = line[:exemplar]
	}
	behind := max(strings.LastIndexByte(line, '}'), strings.IndexByte(line, ' ')) + 1
	fields := strings.Fields(line[behind:])
	if len(fields) != 2 {
		return "", 0, fmt.Errorf("%q has no timestamp: write NAME{LABELS} VALUE SECONDS", line)
	}
	seconds, err := strconv.ParseFloat(fields[1], 64)
	if err != nil || math.IsNaN(seconds) || math.IsInf(seconds, 0) {
		return "", 0, fmt.Errorf("%q is no timestamp in seconds", fields[1])
	}
	return line[:behind] + " " + fields[0], int64(math.Round(seconds * 1000)), nil
}
