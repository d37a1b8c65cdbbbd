package scrape

import (
	"strings"
	"testing"
	"time"
)

// TestReadSeries reads pages by their moments, whatever order the lines are in.
func TestReadSeries(t *testing.T) {
	scrapes, err := ReadSeries(strings.NewReader(`# TYPE http_requests counter
http_requests_total{code="500",path="/a b"} 3 1773300010.5
http_requests_total{code="200"} 5 1773300000.5 # {trace_id="x"} 1.0 1773300000.1
http_requests_total{code="200"} 12 1773300010.5
# EOF
`))
	if err != nil || len(scrapes) != 2 || !scrapes[0].At.Equal(time.UnixMilli(1773300000500)) || len(scrapes[0].Page["http_requests_total"]) != 1 || len(scrapes[1].Page["http_requests_total"]) != 2 {
		t.Errorf("%+v (%v)", scrapes, err)
	}
	for text, want := range map[string]string{"": "holds no sample", "a 1\n": "line 1: \"a 1\" has no timestamp", "a 1 NaN\n": "is no timestamp", "a{ 1 5\n": "no metrics page"} {
		if _, err := ReadSeries(strings.NewReader(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v, want %s", text, err, want)
		}
	}
}

func FuzzReadSeries(f *testing.F) {
	f.Add("# TYPE a counter\na_total{x=\"1\"} 2 3.5\n# EOF\n")
	f.Add("a 1 2 # {} 1\n")
	f.Fuzz(func(t *testing.T, text string) {
		scrapes, err := ReadSeries(strings.NewReader(text))
		for i := 1; err == nil && i < len(scrapes); i++ {
			if scrapes[i].At.Before(scrapes[i-1].At) {
				t.Errorf("the pages of %q are not in order", text)
			}
		}
	})
}
