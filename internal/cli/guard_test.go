package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"gonum.org/v1/gonum/stat/distuv"

	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/core/guard/panel"
	"aditus/internal/scrape"
	"aditus/internal/source"
)

const errorsGuard = `name: errors
signal:
  ratio:
    of: {counter: http_requests_total, where: {code: "5*"}}
    to: {counter: http_requests_total}
limit: {above-old-by: 1 points}
`

// recorded writes OpenMetrics text of two cohorts: counters that grow every ten seconds, with a reset in the middle.
func recorded(t *testing.T, moments int, old, new float64) string {
	t.Helper()
	chance := rand.New(rand.NewPCG(1, 1))
	text := strings.Builder{}
	text.WriteString("# TYPE http_requests counter\n# HELP http_requests Both cohorts.\n")
	count := map[string]float64{}
	for i := range moments {
		for cohort, rate := range map[string]float64{"old": old, "new": new} {
			of := map[string]float64{"old": 900, "new": 100}[cohort]
			bad := distuv.Binomial{N: of, P: rate, Src: chance}.Rand()
			if i == moments/2 {
				count[cohort+"200"], count[cohort+"500"] = 0, 0 // the process was started anew
			}
			count[cohort+"200"] += of - bad
			count[cohort+"500"] += bad
			for _, code := range []string{"200", "500"} {
				fmt.Fprintf(&text, "http_requests_total{cohort=%q,code=%q} %v %d.5\n", cohort, code, count[cohort+code], 1773300000+10*i)
			}
		}
	}
	text.WriteString("# EOF\n")
	name := filepath.Join(t.TempDir(), "rollout.om")
	if err := os.WriteFile(name, []byte(text.String()), 0o644); err != nil {
		t.Fatal(err)
	}
	return name
}

// TestReplay judges recorded metrics and holds every line against the schema.
func TestReplay(t *testing.T) {
	rule := write(t, errorsGuard)
	schema := compile(t, guard.VerdictSchema)
	for _, test := range []struct {
		name     string
		old, new float64
		code     int
		last     string
	}{{"as old", 0.01, 0.01, exitOK, `"word":"clear"`}, {"worse", 0.01, 0.12, exitWrong, `"word":"breach"`}} {
		code, out, errs := shell(t, "guard", "replay", "--guard", rule, "--data", recorded(t, 40, test.old, test.new))
		lines := strings.Split(strings.TrimSpace(out), "\n")
		if code != test.code || len(lines) != 39 || !strings.Contains(lines[38], test.last) {
			t.Errorf("%s: code %d, %d lines, the last %s\n%s", test.name, code, len(lines), lines[len(lines)-1], errs)
		}
		for _, line := range lines {
			hold(t, schema, line)
		}
	}
}

func TestReplayProblems(t *testing.T) {
	good := errorsGuard
	for _, test := range []struct{ guard, data, want string }{
		{strings.Replace(good, "limit: {above-old-by: 1 points}", "limit: {above-old-by: 0 points}", 1), "a 1 1\n", "write a limit above 0"},
		{strings.Replace(good, "ratio", "ration", 1), "a 1 1\n", `did you mean "ratio"?`},
		{strings.Replace(good, "limit:", "decide: sequential\nbreach: {intervals: 2}\nlimit:", 1), "a 1 1\n", "counts no intervals"},
		{good, "http_requests_total{cohort=\"new\"} 5\n", "has no timestamp"},
		{strings.Replace(good, "signal:", "signal:\n  store: harbour", 1), "http_requests_total{cohort=\"new\"} 5\n", "has no timestamp"}, // as if the instances told it
		{"name: pager\nsignal: {alert: pager}\n", "a 1 1\n", "judges alerts of pager, which no recorded metrics have"},
		{"name: log\nsignal: {rate: {lines: panic}}\nlimit: {at-most: 1}\n", "a 1 1\n", "judges lines of logs, which"},
		{good, "", "holds no sample"}, {good, "works 1 soon\n", "is no timestamp"},
		{good, "other{cohort=\"new\"} 5 100\nother{cohort=\"new\"} 5 110\n", `nothing of the signal with the label cohort="new"`},
	} {
		data := filepath.Join(t.TempDir(), "data.om")
		if err := os.WriteFile(data, []byte(test.data), 0o644); err != nil {
			t.Fatal(err)
		}
		code, _, errs := shell(t, "guard", "replay", "--guard", write(t, test.guard), "--data", data)
		if code != exitWrong || !strings.Contains(errs, test.want) {
			t.Errorf("%q of %q: code %d, %s; want %q", test.data, test.guard, code, errs, test.want)
		}
	}
	if code, _, errs := shell(t, "guard", "replay", "--guard", write(t, good), "--data", "x", "--risk", "2"); code == exitOK || errs == "" {
		t.Errorf("a risk of 2: code %d, %s", code, errs)
	}
	if err := replay(&bytes.Buffer{}, guard.Rule{}, 0, "", nil); err == nil {
		t.Error("no risk at all was taken")
	}
}

// TestReplayAsRecorded takes what recordings of real services look like: cohorts scraped one after the other, a series
// that is missing once, a page that is missing, a counter of +Inf.
func TestReplayAsRecorded(t *testing.T) {
	rule := write(t, errorsGuard)
	for _, test := range []struct {
		name   string
		change func(moment int, cohort, code string) (value string, skip bool, later int) // in place of the value, and seconds after it
		last   string
	}{
		{"one after the other", func(_ int, cohort, _ string) (string, bool, int) {
			return "", false, map[string]int{"old": 0, "new": 3}[cohort]
		}, `"word":"clear"`},
		{"a series missing once", func(m int, cohort, code string) (string, bool, int) {
			return "", m == 30 && cohort == "new" && code == "500", 0
		}, `"word":"clear"`},
		{"a page missing once", func(m int, cohort, _ string) (string, bool, int) { return "", m == 30 && cohort == "new", 0 }, `"word":"clear"`},
		{"a counter of +Inf from then on", func(m int, cohort, code string) (string, bool, int) {
			if m >= 50 && cohort == "new" && code == "500" {
				return "+Inf", false, 0
			}
			return "", false, 0
		}, `"why":"new: http_requests_total is +Inf, which counts nothing"`},
	} {
		text := strings.Builder{}
		text.WriteString("# TYPE http_requests counter\n")
		for m := range 60 {
			for _, cohort := range []string{"old", "new"} {
				of := map[string]int{"old": 900, "new": 100}[cohort]
				for code, each := range map[string]int{"200": of * 99 / 100, "500": of / 100} {
					value, skip, later := test.change(m, cohort, code)
					if value == "" {
						value = fmt.Sprint(each * (m + 1))
					}
					if !skip {
						fmt.Fprintf(&text, "http_requests_total{cohort=%q,code=%q} %s %d\n", cohort, code, value, 1773300000+10*m+later)
					}
				}
			}
		}
		data := filepath.Join(t.TempDir(), "recorded.om")
		if err := os.WriteFile(data, []byte(text.String()+"# EOF\n"), 0o644); err != nil {
			t.Fatal(err)
		}
		_, out, errs := shell(t, "guard", "replay", "--guard", rule, "--data", data)
		lines := strings.Split(strings.TrimSpace(out), "\n")
		if len(lines) != 59 || !strings.Contains(lines[58], test.last) {
			t.Errorf("%s: %d lines, the last %s\n%s", test.name, len(lines), lines[len(lines)-1], errs)
		}
	}
}

const recordedRollout = `rollout:
  stages: [{share: 25 %, soak: 100s}, {share: 100 %, soak: 50s}]
  proving: 100s
  interval: 10s
guards:
  - name: errors
    signal: {ratio: {of: {counter: r_total, where: {code: "5*"}}, to: {counter: r_total}}}
    limit: {above-old-by: 2 points}
`

// recording is a line of a recorded rollout in which each cohort answers 1000 requests in 10 s, and new fails so many of them.
func recording(name string, bad int, odd string, evaluations int) string {
	var scrapes []string
	for i := range evaluations {
		for _, cohort := range []string{"old", "new"} {
			failed := 10 * i
			if cohort == "new" {
				failed = bad * i
			}
			value := fmt.Sprint(1000*i - failed)
			if odd != "" && cohort == "new" {
				value = odd
			}
			scrapes = append(scrapes, fmt.Sprintf(`{"at":%d,"cohort":%q,"instance":"a","metrics":{"r_total{code=\"200\"}":%s,"r_total{code=\"500\"}":%d}}`, 10*(i-20), cohort, value, failed))
		}
	}
	return fmt.Sprintf(`{"name":%q,"scrapes":[%s]}`, name, strings.Join(scrapes, ","))
}

// TestReplayRollouts judges whole rollouts, a line each, and holds what is read and written against the schemas.
func TestReplayRollouts(t *testing.T) {
	rollout := write(t, recordedRollout)
	lines := []string{recording("good", 10, "", 60), recording("bad", 80, "", 60), "", recording("lying", 10, `"+Inf"`, 60), `{"name":"broken","scrapes":[{}]}`, recording("good again", 10, "", 60)}
	code, out, errs := shell(t, "guard", "replay", "--rollout", rollout, "--data", write(t, strings.Join(lines, "\n")))
	var told []string
	schema := compile(t, panel.PlayedSchema)
	for line := range strings.Lines(out) {
		hold(t, schema, line)
		var p struct {
			Name, Ending, Guard, Where, Why, Error string
		}
		if err := json.Unmarshal([]byte(line), &p); err != nil {
			t.Fatal(err)
		}
		told = append(told, fmt.Sprintf("%s: %s %s %s %s", p.Name, p.Ending, p.Where, p.Guard, p.Error))
	}
	want := []string{
		"good: proven   ", "bad: rolled back stage 1 of 3 errors ", "lying: waiting stage 1 of 3 errors ",
		"broken:    scrape 1: write at and started as seconds from the beginning of the first stage", "good again: proven   ",
	}
	if code != exitWrong || !slices.Equal(told, want) {
		t.Errorf("code %d, %q, want %q\n%s", code, told, want, errs)
	}
	read := compile(t, scrape.RecordingSchema)
	for _, line := range []string{lines[0], lines[3]} {
		hold(t, read, line)
	}
	for file, says := range map[string]string{
		"rollout: {stages: 3}\nguards: []\n": "stages must be a list", "guards: []\n": "rollout", "rollout: {}\nguards: []\nparts: {}\n": "parts",
	} {
		if code, _, errs := shell(t, "guard", "replay", "--rollout", write(t, file), "--data", write(t, lines[0])); code == exitOK || !strings.Contains(errs, says) {
			t.Errorf("%q: code %d, %s, want %q", file, code, errs, says)
		}
	}
	if code, _, errs := shell(t, "guard", "replay", "--rollout", rollout, "--data", "-", "--risk", "0.1"); code != exitUsage || !strings.Contains(errs, "false-rollbacks") {
		t.Errorf("a risk beside a rollout: code %d, %s", code, errs)
	}
	if code, _, errs := shell(t, "guard", "replay", "--rollout", rollout, "--data", write(t, "\n")); code == exitOK || !strings.Contains(errs, "there is no recording") {
		t.Errorf("nothing: code %d, %s", code, errs)
	}
}

// BenchmarkReplayRollouts replays rollouts of 100 evaluations.
func BenchmarkReplayRollouts(b *testing.B) {
	const rollouts = 50
	data := strings.Repeat(recording("good", 10, "", 100)+"\n", rollouts)
	rules, err := source.ReadYAML("rollout.yaml", []byte(strings.NewReplacer("100s", "400s", "50s", "100s").Replace(recordedRollout)))
	if err != nil {
		b.Fatal(err)
	}
	d, problems := declare.ReadRollout(rules)
	if len(problems) > 0 {
		b.Fatal(problems)
	}
	for b.Loop() {
		if err := replayRollouts(io.Discard, d, "recorded", strings.NewReader(data)); err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric(rollouts*float64(b.N)/b.Elapsed().Seconds(), "rollouts/s")
}
