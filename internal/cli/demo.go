package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"aditus/internal/control"
	"aditus/internal/core/say"
	"aditus/internal/demo"
	"aditus/internal/draw"
	"aditus/internal/ledger"
)

// screenSpeed is how fast the demo's time runs on screen: the whole story within two minutes.
const screenSpeed = 6

func newDemo() *cobra.Command {
	var folder, out, theme string
	var headless, anew bool
	var speed float64
	cmd := &cobra.Command{
		Use:   "demo",
		Short: "Skerry Line: a made-up ferry operator to try everything on",
		Long: `Opens Aditus on Skerry Line, an island ferry operator that does not exist: eight
workloads at five sites, a real Git repository, real probes, scrapes and ledger.
Only the sites are a stand-in. A story unfolds within two minutes; you can act in
it, and commit to the repository with plain git.

The demo goes on where it ended last time, even after kill -9; --anew starts over.

With --headless the same story runs without a screen, as fast as the machine
allows: a line for each fact, then ledger.jsonl, watch.svg and watch.pdf. The exit
code is 0 only when the story ended as it should.`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if speed < 0 {
				return usageError{fmt.Errorf("--speed must be 0 (as fast as it goes) or more, not %g", speed)}
			}
			if headless {
				return runHeadless(cmd.Context(), cmd.OutOrStdout(), folder, out, speed, anew)
			}
			if out != "" {
				return usageError{fmt.Errorf("--out goes with --headless")}
			}
			if !cmd.Flags().Changed("speed") {
				speed = screenSpeed
			}
			var look looks
			if err := look.read(theme); err != nil {
				return err
			}
			return runDemo(cmd.Context(), folder, speed, anew, look)
		},
	}
	dataFlag(cmd, &folder)
	themeFlag(cmd, &theme)
	cmd.Flags().BoolVar(&headless, "headless", false, "no screen: a line for each fact")
	cmd.Flags().StringVar(&out, "out", "", "with --headless: the `folder` for ledger.jsonl, watch.svg and watch.pdf (default: the data folder)")
	cmd.Flags().Float64Var(&speed, "speed", demo.FlatOut, fmt.Sprintf("times real time; 0 is as fast as it goes (on screen %d)", screenSpeed))
	cmd.Flags().BoolVar(&anew, "anew", false, "start the story over")
	return cmd
}

// storyStart is when the headless story begins: always the same moment, so that it is the same story.
var storyStart = time.Date(2026, 3, 12, 9, 30, 0, 0, time.UTC)

func runHeadless(ctx context.Context, w io.Writer, folder, out string, speed float64, anew bool) error {
	folder, err := demoFolder(folder)
	if err != nil {
		return err
	}
	var mu sync.Mutex
	told := func(facts []ledger.Fact) {
		mu.Lock()
		defer mu.Unlock()
		for _, f := range facts {
			if !f.At.Before(storyStart) { // before it is the made-up past
				fmt.Fprintln(w, factLine(f, time.UTC))
			}
		}
	}
	began := time.Now()
	world, err := demo.Open(folder, demo.Options{Speed: speed, Anew: anew, Start: storyStart, Recorded: told})
	if err != nil {
		return err
	}
	defer world.Close()
	telling, cancel := context.WithCancel(ctx)
	defer cancel()
	var ending demo.Ending
	if err := world.Run(telling, func(e demo.Ending) { ending = e; cancel() }); err != nil {
		return err
	}
	if ending.Parts == nil {
		return fmt.Errorf("stopped before the story's end; the same command goes on from there")
	}
	if out == "" {
		out = folder
	}
	if err := export(ctx, world.Ledger, out); err != nil {
		return err
	}
	took := time.Since(began)
	fmt.Fprintf(w, "\n%s of the story in %.1f s, %.0f times real time\n", say.Span(ending.After), took.Seconds(), ending.After.Seconds()/took.Seconds())
	for _, part := range ending.Parts {
		word := "yes"
		if !part.Reached {
			word = "NO"
		}
		fmt.Fprintf(w, "  %-3s  %s\n", word, part.Name)
	}
	fmt.Fprintf(w, "written: %s\n", filepath.Join(out, "{ledger.jsonl,watch.svg,watch.pdf}"))
	if !ending.Good() {
		return errWrong
	}
	return nil
}

// export writes the ledger and the picture of the rollout that breached.
func export(ctx context.Context, book *ledger.Ledger, folder string) error {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return fmt.Errorf("write the story's files: %w", err)
	}
	facts, err := book.Facts(ledger.Query{})
	if err != nil {
		return err
	}
	file, err := os.Create(filepath.Join(folder, "ledger.jsonl"))
	if err != nil {
		return fmt.Errorf("write the story's files: %w", err)
	}
	defer file.Close()
	if err := ledger.WriteFacts(file, facts); err != nil {
		return fmt.Errorf("write the story's files: %w", err)
	}
	record, err := control.OpenRecord(book)
	if err != nil {
		return err
	}
	for _, name := range []string{"watch.svg", "watch.pdf"} {
		if err := drawWatchAs(ctx, record, demo.Breached, 0, filepath.Join(folder, name), draw.Dark); err != nil {
			return err
		}
	}
	return file.Close()
}
