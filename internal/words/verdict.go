package words

import (
	"fmt"
	"time"

	"aditus/internal/core/guard"
	"aditus/internal/core/rollout"
	"aditus/internal/core/say"
)

// VerdictWord tells a verdict in a word or two.
func VerdictWord(v guard.Verdict) string {
	if v.Warming {
		return "warming up"
	}
	return string(v.Word)
}

// VerdictWords tells a verdict in a few.
func VerdictWords(v guard.Verdict) string {
	switch v.Word {
	case guard.Undecided:
		if v.Warming {
			return VerdictWord(v)
		}
		if v.Why != "" {
			return "undecided: " + v.Why
		}
		if v.Wait >= guard.Longest {
			return "undecided, too close to tell"
		}
		return fmt.Sprintf("undecided, likely within %s", say.Span(v.Wait))
	case guard.Silent:
		return fmt.Sprintf("silent since %s", v.Since.Local().Format(time.TimeOnly))
	}
	return string(v.Word)
}

// VerdictMore tells what stands beside a verdict: the interval of what is held against the limit, and how long it takes
// until it is decided.
func VerdictMore(v guard.Verdict) string {
	unit, text := v.Limit.Unit, ""
	switch d := v.Difference; {
	case v.Limit.Relative() && d != nil && d.High > d.Low:
		text = unit.FormatInterval(*d)
	case v.New != nil:
		if low, high := unit.Format(max(0, v.New.Low)), unit.Format(v.New.High); low != high {
			text = low + " to " + high
		}
	}
	if v.Why != "" {
		text = v.Why
	}
	if w := v.Worst; w != nil {
		text = joined(text, "worst is "+w.Each+" with "+held(v, w.Held.Value))
	}
	if v.Each != "" {
		text = v.Each + ": " + text
	}
	if v.From != "" {
		text = joined(text, "by "+v.From)
	}
	if v.Warming {
		return "not judged in the first " + say.Span(v.Wait)
	}
	if v.Bound != nil {
		text = joined(text, "limit now "+unit.Format(*v.Bound))
	}
	switch {
	case v.Word != guard.Undecided || v.Why != "":
	case v.Wait >= guard.Longest:
		text = joined(text, "too close to tell")
	default:
		text = joined(text, "likely decided within "+say.Span(v.Wait))
	}
	return text
}

// held is what is held against a limit, in words.
func held(v guard.Verdict, value float64) string {
	if v.Limit.Relative() && v.Bound == nil {
		return v.Limit.Unit.FormatDifference(value)
	}
	return v.Limit.Unit.Format(value)
}

func joined(a, b string) string {
	if a == "" {
		return b
	}
	return a + "; " + b
}

// CheckWord tells in a word how a task does that tries the new cohort.
func CheckWord(c rollout.Check) string {
	switch {
	case c.Failed != "":
		return "failed"
	case c.Ended.IsZero():
		return "runs"
	}
	return "passed"
}

// CheckMore tells what stands beside that.
func CheckMore(c rollout.Check) string {
	switch {
	case c.Failed != "":
		return fmt.Sprintf("a task, after %s: %s", say.Span(c.Ended.Sub(c.Began)), c.Failed)
	case c.Ended.IsZero():
		return "a task, since " + c.Began.Local().Format(time.TimeOnly) + "; J shows its log"
	}
	return "a task, after " + say.Span(c.Ended.Sub(c.Began))
}

// CheckTone is its tone.
func CheckTone(c rollout.Check) Tone {
	switch CheckWord(c) {
	case "failed":
		return Bad
	case "runs":
		return Moves
	}
	return Good
}

// VerdictTone is a verdict's tone.
func VerdictTone(v guard.Verdict) Tone {
	switch v.Word {
	case guard.Clear:
		return Good
	case guard.Undecided:
		return Moves
	}
	return Bad
}
