package engine

import (
	"context"
	"fmt"
	"maps"
	"regexp"
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/core/signal"
)

const (
	logTimeout = 3 * time.Second
	mostLines  = 10_000          // of one instance, that are looked at in an interval: what is more counts as if nothing were found in it
	logSecond  = 2 * time.Second // what was written so shortly before the first look is known then, as some engines tell times in whole seconds
)

// expressionsOf are the regular expressions by which guards count lines of logs.
func expressionsOf(rules *declare.Desired) map[string]*regexp.Regexp {
	if rules == nil {
		return nil
	}
	found := map[string]*regexp.Regexp{}
	for _, rule := range rules.Guards {
		for _, text := range rule.Signal.Lines() {
			found[text] = regexp.MustCompile(text) // it was read as one
		}
	}
	return found
}

// countLines counts the lines that an instance wrote since they were counted first.
func (b *loop) countLines(ctx context.Context, id string, s *probed, expressions map[string]*regexp.Regexp) signal.Page {
	ctx, cancel := context.WithTimeout(ctx, logTimeout)
	defer cancel()
	if s.log.At.IsZero() {
		s.log.At, s.lines = b.e.clock.Now().Add(-logSecond), map[string]float64{}
	}
	lines, err := b.driver.Log(ctx, b.id.Workload, id, s.log.At, mostLines)
	fresh := s.log.Fresh(lines)
	page := signal.Page{}
	for text, expression := range expressions {
		if err != nil {
			page[signal.LinesOf(text)] = []signal.Sample{{Unread: fmt.Sprintf("its log cannot be read: %v", err)}}
			continue
		}
		for _, line := range fresh {
			if expression.MatchString(line.Text) {
				s.lines[text]++
			}
		}
		page[signal.LinesOf(text)] = []signal.Sample{signal.NewSample(nil, s.lines[text])}
	}
	maps.DeleteFunc(s.lines, func(text string, _ float64) bool { return expressions[text] == nil })
	return page
}
