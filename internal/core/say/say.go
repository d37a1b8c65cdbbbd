// Package say puts values into the words that people read, the same in facts, on screens and in the shell. It has no
// opinion on where the words go.
package say

import (
	"fmt"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"
)

// Span says a length of time in at most two units: 40 s, 3 min, 1 min 12 s, 2 h 5 min, 3 d.
func Span(d time.Duration) string {
	d = d.Round(time.Second)
	if d < 0 {
		d = 0
	}
	days, hours, minutes, seconds := int(d.Hours())/24, int(d.Hours())%24, int(d.Minutes())%60, int(d.Seconds())%60
	switch {
	case days > 0:
		return two(days, "d", hours, "h")
	case hours > 0:
		return two(hours, "h", minutes, "min")
	case minutes > 0:
		return two(minutes, "min", seconds, "s")
	}
	return fmt.Sprintf("%d s", seconds)
}

func two(large int, unit string, small int, under string) string {
	if small == 0 {
		return fmt.Sprintf("%d %s", large, unit)
	}
	return fmt.Sprintf("%d %s %d %s", large, unit, small, under)
}

// Took says how long something took: 340 ms, 2.1 s.
func Took(d time.Duration) string {
	if d < time.Second {
		return fmt.Sprintf("%d ms", d.Milliseconds())
	}
	return fmt.Sprintf("%.1f s", d.Seconds())
}

// Bytes says an amount in powers of 1024: 512 B, 1.5 GiB.
func Bytes(n int64) string {
	const units = "KMGTPE"
	value, unit := float64(n), -1
	for value >= 1024 && unit < len(units)-1 {
		value, unit = value/1024, unit+1
	}
	if unit < 0 {
		return fmt.Sprintf("%d B", n)
	}
	return strings.Replace(fmt.Sprintf("%.1f %ciB", value, units[unit]), ".0 ", " ", 1)
}

// Ago says how long ago a moment was, in its largest unit alone: 40 s ago, 3 min ago. It does not jump between one
// and two units while someone reads it.
func Ago(d time.Duration) string {
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%d s ago", max(0, int(d.Seconds())))
	case d < time.Hour:
		return fmt.Sprintf("%d min ago", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h ago", int(d.Hours()))
	}
	return fmt.Sprintf("%d d ago", int(d.Hours())/24)
}

// Count says a number of things: 1 instance, 2 instances.
func Count(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	return Number(float64(n)) + " " + one + "s"
}

// Share says a share from 0 to 1 in per cent, with the decimals it needs: 25 %, 2.5 %.
func Share(share float64) string {
	return strconv.FormatFloat(float64(int(share*1000+0.5))/10, 'f', -1, 64) + " %"
}

// Number writes a whole number in groups of three digits: 4 210.
func Number(n float64) string {
	digits := strconv.FormatFloat(n, 'f', 0, 64)
	var b strings.Builder
	for i, c := range digits {
		if i > 0 && (len(digits)-i)%3 == 0 && digits[i-1] != '-' {
			b.WriteByte(' ')
		}
		b.WriteRune(c)
	}
	return b.String()
}

// List says several things as one: a, b and c.
func List(items []string) string {
	switch len(items) {
	case 0:
		return ""
	case 1:
		return items[0]
	}
	return strings.Join(items[:len(items)-1], ", ") + " and " + items[len(items)-1]
}

// Few lists the first of some items, and says how many more there are.
func Few(items []string, most int) string {
	if more := len(items) - most; more > 0 {
		items = append(items[:most:most], fmt.Sprintf("%d more", more))
	}
	return List(items)
}

// Capital makes the first letter large.
func Capital(text string) string {
	first, size := utf8.DecodeRuneInString(text)
	if size == 0 {
		return text
	}
	return string(unicode.ToUpper(first)) + text[size:]
}

// Sentence makes text a sentence, with a capital and a full stop.
func Sentence(text string) string {
	if text == "" || strings.HasSuffix(text, ".") {
		return Capital(text)
	}
	return Capital(text) + "."
}

// Or lists names of which one is enough.
func Or(items []string) string {
	if len(items) < 2 {
		return strings.Join(items, "")
	}
	return strings.Join(items[:len(items)-1], ", ") + " or " + items[len(items)-1]
}

// Moment tells a moment that is not today's.
func Moment(t time.Time) string { return t.UTC().Format("Mon 2 Jan 15:04 UTC") }
