package view

import (
	"slices"
	"strings"
	"unicode/utf8"

	"aditus/internal/core/compare"
	"aditus/internal/core/health"
	"aditus/internal/status"
	"aditus/internal/words"
)

// FindFields are what can be typed before a word that berths are found by.
var FindFields = []string{"site:", "workload:", "team:", "only:"}

// Only are kinds of berths that only: shows; several with commas.
var Only = []string{"needs", "moving", "failing", "behind", "drifted", "absent", "locked"}

// Find is what berths are found by: all of the words in one berth's name and state, and any of each field.
type Find struct {
	Words, Sites, Workloads, Teams, Only []string
}

// ReadFind reads words and fields, such as site:north behind. A field that is being typed says nothing yet.
func ReadFind(text string) (f Find) {
	for _, token := range tokens(strings.ToLower(text)) {
		field, value, is := strings.Cut(token, ":")
		fields := map[string]*[]string{"site": &f.Sites, "workload": &f.Workloads, "team": &f.Teams, "only": &f.Only}
		switch into := fields[field]; {
		case !is || into == nil:
			f.Words = append(f.Words, token)
		case value != "":
			*into = append(*into, strings.Split(value, ",")...)
		}
	}
	return f
}

// Site tells whether a site's berths are among them.
func (f Find) Site(name, team string) bool {
	return anyIn(f.Sites, name) && anyIn(f.Teams, team)
}

// anyIn tells whether any of some words is in a text; none at all are in all.
func anyIn(words []string, text string) bool {
	text = strings.ToLower(text)
	return len(words) == 0 || slices.ContainsFunc(words, func(w string) bool { return w != "" && strings.Contains(text, w) })
}

// Berth tells whether a berth is found, whose site is among them. needs tells that it needs a person.
func (f Find) Berth(b *status.Berth, needs bool) bool {
	if len(f.Words)+len(f.Only)+len(f.Workloads) == 0 {
		return true
	}
	if !anyIn(f.Workloads, b.Workload) {
		return false
	}
	is := map[string]bool{
		"needs": needs, "moving": b.Rollout != nil || b.Restarting != nil, "failing": b.Health.Word == health.Failing, "behind": b.SyncStatus == compare.Behind || b.SyncStatus == compare.Diverged,
		"drifted": b.SyncStatus == compare.Drifted || b.SyncStatus == compare.Diverged, "absent": b.SyncStatus == compare.Absent, "locked": b.Lock != nil,
	}
	if len(f.Only) > 0 && !slices.ContainsFunc(f.Only, func(o string) bool { return is[o] }) {
		return false
	}
	if len(f.Words) == 0 {
		return true
	}
	c := words.CellOf(*b)
	said := []string{b.Workload, c.Version, c.Coming, c.Note, string(b.SyncStatus), string(b.Health.Word)}
	if b.Rollout != nil {
		said = append(said, string(b.Rollout.Phase))
	}
	for _, o := range Only {
		if is[o] {
			said = append(said, o)
		}
	}
	text := strings.ToLower(strings.Join(said, " "))
	return !slices.ContainsFunc(f.Words, func(w string) bool { return !strings.Contains(text, w) })
}

// Complete completes the last word of what is typed: the name of a field, or one of the values that a field can have. What several begin with is
// completed as far as they are alike.
func Complete(text string, fields []string, values func(field string) []string) string {
	at, quoted := 0, false
	for i, letter := range text {
		switch {
		case letter == '"':
			quoted = !quoted
		case letter == ' ' && !quoted:
			at = i + 1
		}
	}
	before, word := text[:at], text[at:]
	field, value, is := strings.Cut(word, ":")
	if !is {
		return before + alike(word, fields, "")
	}
	list, last := "", strings.Trim(value, `"`)
	if comma := strings.LastIndex(last, ","); comma >= 0 {
		list, last = last[:comma+1], last[comma+1:]
	}
	found, only := strings.CutSuffix(alike(last, values(field), "\x00"), "\x00")
	if found = list + found; strings.Contains(found, " ") {
		found = `"` + found
		if only {
			found += `"`
		}
	}
	if only {
		found += " "
	}
	return before + field + ":" + found
}

// alike is what all that begin with a text have in common; the text itself where none does. end follows the only one.
func alike(text string, all []string, end string) string {
	all = slices.DeleteFunc(slices.Clone(all), func(one string) bool { return !strings.HasPrefix(strings.ToLower(one), strings.ToLower(text)) })
	if len(all) == 0 {
		return text
	}
	common := all[0]
	for _, one := range all[1:] {
		for !strings.HasPrefix(one, common) {
			_, last := utf8.DecodeLastRuneInString(common)
			common = common[:len(common)-last]
		}
	}
	if len(slices.Compact(all)) == 1 {
		common += end
	}
	return common
}
