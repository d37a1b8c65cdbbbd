package say

import (
	"fmt"
	"strings"
)

// Nearest is the known word that a misspelt one is nearest to; empty where none is near.
func Nearest(word string, known []string) string {
	best, nearest := "", len(word)/2+2
	for _, candidate := range known {
		if d := distance(strings.ToLower(word), candidate); d < nearest {
			best, nearest = candidate, d
		}
	}
	return best
}

// slips are so many letters at most that are wrong in a name that was mistyped.
const slips = 2

// Mistyped is the known name that one was mistyped for; empty where none is that near.
func Mistyped(name string, known []string) string {
	near := Nearest(name, known)
	if near == "" || distance(strings.ToLower(name), near) > slips {
		return ""
	}
	return near
}

// None says that there is nothing of a name, and which of those that there are may be meant.
func None(what, name string, known []string) string {
	text := fmt.Sprintf("there is no %s %q", what, name)
	if near := Mistyped(name, known); near != "" {
		text += "; do you mean " + near + "?"
	}
	return text
}

// distance is the optimal string alignment distance: insertions, deletions, substitutions and swaps of neighbours.
func distance(a, b string) int {
	x, y := []rune(a), []rune(b)
	rows := make([][]int, len(x)+1)
	for i := range rows {
		rows[i] = make([]int, len(y)+1)
		rows[i][0] = i
	}
	for j := range rows[0] {
		rows[0][j] = j
	}
	for i := 1; i <= len(x); i++ {
		for j := 1; j <= len(y); j++ {
			change := 1
			if x[i-1] == y[j-1] {
				change = 0
			}
			rows[i][j] = min(rows[i-1][j]+1, rows[i][j-1]+1, rows[i-1][j-1]+change)
			if i > 1 && j > 1 && x[i-1] == y[j-2] && x[i-2] == y[j-1] {
				rows[i][j] = min(rows[i][j], rows[i-2][j-2]+1)
			}
		}
	}
	return rows[len(x)][len(y)]
}
