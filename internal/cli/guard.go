package cli

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"aditus/internal/core/declare"
	"aditus/internal/core/guard"
	"aditus/internal/core/guard/panel"
	"aditus/internal/core/signal"
	"aditus/internal/scrape"
	"aditus/internal/source"
	"aditus/internal/view"
)

func newGuard() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "guard",
		Short: "Try guards on what was recorded",
		Args:  noArgs,
		RunE:  func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(newReplay(), newBacktest())
	return cmd
}

func newReplay() *cobra.Command {
	var guardFile, rolloutFile, dataFile string
	risk := 0.01
	cmd := &cobra.Command{
		Use:   "replay (--guard FILE | --rollout FILE) --data FILE",
		Short: "Judge recorded metrics, or whole rollouts that were recorded",
		Long: `Reads a guard, written as in a declaration, and OpenMetrics text with a timestamp
behind every sample. The label cohort="old" or cohort="new" says whose a sample is;
all others are left as they are. Prints one verdict for each moment after the first as
JSON, with its estimates, evidence and counts. With --data - it reads standard input.
The exit code is 1 where the guard breaches.

With --rollout it reads a file with rollout and guards, as in a declaration, and whole
rollouts, a line of JSON each (aditus schema recording): what every instance showed, in
seconds from the beginning of the first stage. They are judged as they would have been
live, through all stages and the proving, each stage as long as it soaks. Prints a line
for each: what would have become of it, when and why (aditus schema played). The exit
code is 1 where a line cannot be read.`,
		Example: "  aditus guard replay --guard errors.yaml --data rollout.om\n  aditus guard replay --rollout rollout.yaml --data recorded.jsonl",
		Args:    noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if (guardFile == "") == (rolloutFile == "") || dataFile == "" {
				return usageError{errors.New("name --data FILE, and either --guard FILE or --rollout FILE")}
			}
			if rolloutFile != "" && cmd.Flags().Changed("risk") {
				return usageError{errors.New("--risk goes with --guard; that of a rollout is its false-rollbacks")}
			}
			var rule guard.Rule
			var rules declare.Desired
			var err error
			if rolloutFile != "" {
				rules, err = readRollout(rolloutFile)
			} else {
				rule, err = readGuard(guardFile)
			}
			if err != nil {
				return err
			}
			data := cmd.InOrStdin()
			if dataFile != "-" {
				file, err := os.Open(dataFile)
				if err != nil {
					return fmt.Errorf("read the recorded metrics: %w", err)
				}
				defer file.Close()
				data = file
			}
			if rolloutFile != "" {
				return replayRollouts(cmd.OutOrStdout(), rules, dataFile, data)
			}
			return replay(cmd.OutOrStdout(), rule, risk, dataFile, data)
		},
	}
	cmd.Flags().StringVar(&guardFile, "guard", "", "the `file` with the guard")
	cmd.Flags().StringVar(&rolloutFile, "rollout", "", "the `file` with a rollout and its guards")
	cmd.Flags().StringVar(&dataFile, "data", "", "the `file` with the recorded metrics")
	cmd.Flags().Float64Var(&risk, "risk", risk, "the chance of a false breach over all of it, from 0 to 1, for a guard that decides sequentially")
	return cmd
}

func readGuard(name string) (guard.Rule, error) {
	text, err := os.ReadFile(name)
	if err != nil {
		return guard.Rule{}, fmt.Errorf("read the guard: %w", err)
	}
	node, err := source.ReadYAML(name, text)
	if err != nil {
		return guard.Rule{}, err
	}
	rule, problems := declare.ReadGuard(node)
	if len(problems) > 0 {
		return rule, problems
	}
	return rule, replayable(&rule)
}

// replayable has a guard judge what was recorded of the instances, whoever tells it otherwise; it says so where no recording can have that.
func replayable(rule *guard.Rule) error {
	switch s := &rule.Signal; {
	case s.OfOthers(), s.Kind == signal.Query, len(s.Lines()) > 0:
		what := s.From()
		if what == "" {
			what = "lines of logs"
		}
		return fmt.Errorf("the guard %s judges %s, which no recorded metrics have", rule.Name, what)
	default:
		s.Store, s.Cohort = "", nil
	}
	return nil
}

// maxRecording is the longest line of a file of recorded rollouts, in bytes.
const maxRecording = 64 << 20

// replayRollouts judges recorded rollouts, on all processors and in their order.
func replayRollouts(out io.Writer, rules declare.Desired, name string, data io.Reader) error {
	lines := bufio.NewScanner(data)
	lines.Buffer(nil, maxRecording)
	type played struct {
		Name string `json:"name"`
		panel.Played
		Error string `json:"error,omitempty"`
	}
	queue := make(chan chan played, 2*runtime.GOMAXPROCS(0))
	go func() {
		defer close(queue)
		for lines.Scan() {
			line := bytes.Clone(bytes.TrimSpace(lines.Bytes()))
			if len(line) == 0 {
				continue
			}
			one := make(chan played, 1)
			queue <- one
			go func() {
				name, moments, err := scrape.ReadRecording(line, rules.Rollout.Interval.Duration)
				if err != nil {
					one <- played{Name: name, Error: err.Error()}
					return
				}
				one <- played{Name: name, Played: panel.Play(&rules, slices.Values(moments))}
			}()
		}
	}()
	buffered := bufio.NewWriter(out)
	encode, wrong, read := json.NewEncoder(buffered), false, 0
	var err error
	for one := range queue {
		p := <-one
		read++
		wrong = wrong || p.Error != ""
		if err == nil { // the rest is read all the same, so that nobody waits for ever
			err = encode.Encode(p)
		}
	}
	switch err = errors.Join(err, buffered.Flush(), lines.Err()); {
	case errors.Is(err, bufio.ErrTooLong):
		return fmt.Errorf("replay %s: line %d is longer than %d MB: record a rollout in fewer scrapes", name, read+1, maxRecording>>20)
	case err != nil:
		return fmt.Errorf("replay %s: %w", name, err)
	case read == 0:
		return errors.New("there is no recording to replay: write one line of JSON for each (aditus schema recording)")
	case wrong:
		return errWrong
	}
	return nil
}

func readRollout(name string) (declare.Desired, error) {
	text, err := os.ReadFile(name)
	if err != nil {
		return declare.Desired{}, fmt.Errorf("read the rollout: %w", err)
	}
	node, err := source.ReadYAML(name, text)
	if err != nil {
		return declare.Desired{}, err
	}
	d, problems := declare.ReadRollout(node)
	if len(problems) > 0 {
		return d, problems
	}
	for i := range d.Guards {
		if err := replayable(&d.Guards[i]); err != nil {
			return d, err
		}
	}
	return d, nil
}

// replay judges recorded metrics.
func replay(out io.Writer, rule guard.Rule, risk float64, name string, data io.Reader) error {
	if risk <= 0 || risk >= 1 {
		return usageError{fmt.Errorf("--risk must lie between 0 and 1, and %v does not", risk)}
	}
	scrapes, err := scrape.ReadSeries(data)
	if err != nil {
		return fmt.Errorf("read the recorded metrics %s: %w", name, err)
	}
	moments, every := together(scrapes)
	r := panel.NewReplay(rule, risk, every, moments[0].At)
	encode := json.NewEncoder(out)
	told, breached := false, false
	for i, m := range moments {
		v := r.Take(ofCohort(m.Page, "old"), ofCohort(m.Page, "new"), m.At)
		if told = told || r.Spoke(); i == 0 {
			continue
		}
		breached = breached || v.Word == guard.Breach
		if err := encode.Encode(v); err != nil {
			return err
		}
	}
	switch {
	case !told && len(moments) > 0:
		return fmt.Errorf(`%s has nothing of the signal with the label cohort="new"; check the names of its metrics`, name)
	case breached:
		return errWrong
	}
	return nil
}

// together gives the moments of a recording with the time that is usually between them. Cohorts that were scraped one
// after the other, less than half of that apart, are of one moment.
func together(scrapes []scrape.Scrape) (moments []scrape.Scrape, every time.Duration) {
	var gaps []time.Duration
	last := map[string]time.Time{}
	for _, s := range scrapes {
		for _, cohort := range []string{"old", "new"} {
			if len(ofCohort(s.Page, cohort)) == 0 {
				continue
			}
			if before, ok := last[cohort]; ok {
				gaps = append(gaps, s.At.Sub(before))
			}
			last[cohort] = s.At
		}
	}
	every = time.Minute
	if len(gaps) > 0 {
		slices.Sort(gaps)
		every = gaps[len(gaps)/2]
	}
	for _, s := range scrapes {
		n := len(moments)
		if n == 0 || s.At.Sub(moments[n-1].At) >= every/2 {
			moments = append(moments, s)
			continue
		}
		page := maps.Clone(moments[n-1].Page)
		for name, samples := range s.Page {
			page[name] = append(slices.Clone(page[name]), samples...)
		}
		moments[n-1] = scrape.Scrape{At: s.At, Page: page}
	}
	return moments, every
}

// ofCohort gives the samples of one cohort.
func ofCohort(page signal.Page, cohort string) signal.Page {
	own := signal.Page{}
	for name, samples := range page {
		for _, s := range samples {
			if s.Labels["cohort"] == cohort {
				own[name] = append(own[name], s)
			}
		}
	}
	return own
}

func newBacktest() *cobra.Command {
	var r connection
	var name, limit string
	var asJSON bool
	cmd := &cobra.Command{
		Use:   "backtest BERTH",
		Short: "Tell what a limit would have stopped",
		Long: `Holds a guard, with its limit as declared or with another one, against the rollouts of
the last four weeks at a berth: which it would have stopped and when, and how close
the others came. It reads the ledger; nothing changes.`,
		Example: "  aditus guard backtest boarding/north --guard 'slow share' --limit '4 %'",
		Args:    oneArg("berth, written WORKLOAD/SITE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			b, err := r.bench(cmd.Context(), args[0], name)
			if err != nil {
				return err
			}
			value := b.Rule.Limit.Value
			if limit != "" {
				if value, err = declare.ReadLimit(limit, b.Rule.Limit); err != nil {
					return usageError{err}
				}
			}
			return printBacktest(cmd.OutOrStdout(), b, value, asJSON)
		},
	}
	connectionFlags(cmd, &r)
	cmd.Flags().StringVar(&name, "guard", "", "the guard's `name` (default: the first)")
	cmd.Flags().StringVar(&limit, "limit", "", "another `limit`, such as '4 %', '0.5 points', 250ms or '20 % of old'")
	jsonFlag(cmd, &asJSON)
	return cmd
}

// bench gives the bench of a berth's guard.
func (r connection) bench(ctx context.Context, berth, name string) (view.Bench, error) {
	id, err := parseBerth(berth)
	if err != nil {
		return view.Bench{}, err
	}
	c, _, shut, err := r.client(ctx)
	if err != nil {
		return view.Bench{}, err
	}
	defer shut()
	return c.Bench(ctx, id, name)
}

func printBacktest(out io.Writer, b view.Bench, limit float64, asJSON bool) error {
	trial := b.Try(limit)
	if asJSON {
		type release struct {
			Rollout int64      `json:"rollout"`
			Version string     `json:"version"`
			Began   time.Time  `json:"began"`
			Phase   string     `json:"phase"`
			Stopped bool       `json:"stopped"`
			At      *time.Time `json:"at,omitempty"`
			Nearest float64    `json:"nearest"` // as a share of the limit
		}
		found := struct {
			Berth    string    `json:"berth"`
			Guard    string    `json:"guard"`
			Limit    float64   `json:"limit"`
			Releases []release `json:"releases"`
			Beyond   int       `json:"beyond"`
			Of       int       `json:"of"`
		}{b.Berth.String(), b.Rule.Name, limit, []release{}, trial.Beyond, trial.Of}
		for _, r := range trial.Releases {
			one := release{r.ID, r.Version, r.Began, string(r.Phase), r.Stopped, nil, r.Nearest}
			if r.Stopped {
				one.At = &r.At
			}
			found.Releases = append(found.Releases, one)
		}
		return json.NewEncoder(out).Encode(found)
	}
	for _, line := range b.Words() {
		fmt.Fprintln(out, line)
	}
	_, err := fmt.Fprintln(out, strings.TrimSpace(trial.Summary(b)))
	return err
}
