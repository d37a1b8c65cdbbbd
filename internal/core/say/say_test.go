package say

import (
	"testing"
	"time"
)

func TestWords(t *testing.T) {
	const minute, hour = time.Minute, time.Hour
	for _, test := range []struct{ got, want string }{
		{Span(40 * time.Second), "40 s"}, {Span(72 * time.Second), "1 min 12 s"}, {Span(2 * minute), "2 min"}, {Span(125 * minute), "2 h 5 min"}, {Span(50 * hour), "2 d 2 h"}, {Span(-5), "0 s"},
		{Ago(59 * time.Second), "59 s ago"}, {Ago(119 * time.Second), "1 min ago"}, {Ago(47 * hour), "47 h ago"}, {Ago(72 * hour), "3 d ago"}, {Ago(-minute), "0 s ago"},
		{Count(1, "instance"), "1 instance"}, {Count(1200, "instance"), "1 200 instances"}, {Share(0.25), "25 %"}, {Share(0.025), "2.5 %"}, {Share(1), "100 %"},
		{Number(4210), "4 210"}, {Number(999), "999"}, {Number(1234567), "1 234 567"}, {Capital("über"), "Über"}, {Capital(""), ""}, {Sentence("it is so"), "It is so."}, {Sentence("Done."), "Done."}, {Sentence(""), ""}, {List(nil), ""}, {List([]string{"a"}), "a"}, {List([]string{"a", "b", "c"}), "a, b and c"},
	} {
		if test.got != test.want {
			t.Errorf("got %q, want %q", test.got, test.want)
		}
	}
}
