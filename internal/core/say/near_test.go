package say

import "testing"

// TestDistance counts what it takes to make one word of another, and finds the nearest of several.
func TestDistance(t *testing.T) {
	for _, test := range []struct {
		a, b string
		want int
	}{{"", "abc", 3}, {"shares", "share", 1}, {"sahre", "share", 1}, {"kitten", "sitting", 3}, {"probe", "probe", 0}} {
		if got := distance(test.a, test.b); got != test.want {
			t.Errorf("distance(%s, %s) = %d, want %d", test.a, test.b, got, test.want)
		}
	}
	for word, want := range map[string]string{"servce": "service", "Task": "task", "rutoe": "route", "xylophone": "", "": ""} {
		if got := Nearest(word, []string{"service", "task", "route"}); got != want {
			t.Errorf("nearest to %q is %q, want %q", word, got, want)
		}
	}
	for name, want := range map[string]string{"lnie": `there is no link "lnie"; do you mean line?`, "shore": `there is no link "shore"`, "lamp": `there is no link "lamp"`} {
		if got := None("link", name, []string{"line", "base"}); got != want {
			t.Errorf("it says %q, want %q", got, want)
		}
	}
}
