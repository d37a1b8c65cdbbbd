package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/term"
	"github.com/spf13/cobra"

	"aditus/internal/control"
	"aditus/internal/control/api"
	"aditus/internal/core/policy"
	"aditus/internal/demo"
	"aditus/internal/ledger"
	"aditus/internal/tui"
	"aditus/internal/tui/screen"
)

// errNoTerminal says what to do where there is none.
var errNoTerminal = errors.New("the screens need a terminal; without one use: aditus status, or aditus demo --headless")

// realSpeed is the fastest that the demo's time may run for processes of this machine to follow.
const realSpeed = 12

// looks is how the screens look, what they ring for, and what they left at their last end.
type looks struct {
	theme tui.Theme
	ring  bool
	left  screen.Memory // nil for nothing, as in the demo, which begins the same for everybody
}

// themeName is the variable that says which theme the screens have where --theme does not.
const themeName = "ADITUS_THEME"

// themeFlag gives a command a flag for the theme of the screens.
func themeFlag(cmd *cobra.Command, name *string) {
	cmd.Flags().StringVar(name, "theme", os.Getenv(themeName), "how the screens are coloured: auto by what the terminal tells, dark, light, own for its own colours, none; else $"+themeName)
}

// read reads the theme.
func (l *looks) read(name string) (err error) {
	if l.theme, err = tui.ReadTheme(name); err != nil {
		return usageError{err}
	}
	return nil
}

// runDemo opens the screens on Skerry Line.
func runDemo(ctx context.Context, folder string, speed float64, anew bool, look looks) error {
	if !isTerminal() {
		return errNoTerminal
	}
	folder, err := demoFolder(folder)
	if err != nil {
		return err
	}
	world, err := demo.Open(folder, demo.Options{Speed: speed, Anew: anew, Start: time.Now(), Real: speed > 0 && speed <= realSpeed})
	if err != nil {
		return err
	}
	defer world.Close()
	note := fmt.Sprintf("demo, time runs × %g", speed)
	if speed == 1 {
		note = "demo"
	}
	live := control.Live{Engine: world.Engine, Ledger: world.Ledger, Folder: folder}
	return runScreens(ctx, live, note, look, func(ctx context.Context) error { return world.Run(ctx, nil) })
}

// runLine opens the screens on a data folder.
func runLine(ctx context.Context, r connection, set map[string]string, look looks) error {
	remote, folder, err := r.running()
	if err != nil {
		return err
	}
	if isDemo(folder) && remote == nil {
		return runDemo(ctx, folder, screenSpeed, false, look)
	}
	if left, err := openShelf(cmp.Or(folder, r.server, os.Getenv("ADITUS_SERVER"))); err == nil {
		defer left.Close()
		look.left = left
	}
	if remote != nil {
		return runFace(ctx, remote, folder, look)
	}
	if err := beginSettings(folder); err != nil {
		return err
	}
	for good, refused := (lastGood{}), error(nil); ; {
		err := runLocal(ctx, folder, set, look, &good, refused)
		switch refused = nil; {
		case ctx.Err() != nil:
			return err
		case errors.Is(err, errAnew):
			good.anew = true
		case err != nil && good.restore(folder):
			refused = fmt.Errorf("%w; the settings from before are back, and those are kept in %s", err, refusedName)
		default:
			return err
		}
	}
}

// runLocal opens the screens on a data folder until they are left, or its settings take a new start.
func runLocal(ctx context.Context, folder string, set map[string]string, look looks, good *lastGood, refused error) error {
	s, err := openLocal(ctx, folder, localOptions{set: set})
	if err != nil {
		return err
	}
	defer s.Close()
	good.keep(folder)
	s.Report("settings", refused)
	leads, anew := context.WithCancelCause(s.leads)
	defer anew(nil)
	s.Anew = func() { anew(errAnew) }
	err = runScreens(leads, s.Live, s.sites.note(), look, s.Engine.Run)
	if cause := context.Cause(leads); errors.Is(cause, ledger.ErrDeposed) || errors.Is(cause, errAnew) {
		return cause
	}
	return err
}

// takesProgress tells whether the terminal is known to take progress reports (OSC 9;4); others show what they do not know of that number as
// a message.
func takesProgress(env func(string) string) bool {
	if env("TMUX") != "" || env("STY") != "" { // a multiplexer between
		return false
	}
	return env("WT_SESSION") != "" || env("ConEmuANSI") == "ON" || slices.Contains([]string{"ghostty", "WezTerm"}, env("TERM_PROGRAM"))
}

// runFace opens the screens on an Aditus that runs already.
func runFace(ctx context.Context, remote *api.Remote, folder string, look looks) error {
	if _, err := remote.Renew(ctx); err != nil {
		return err
	}
	where := "on a server"
	if folder != "" {
		where = "on the server that runs"
	} else if state, err := stateFolder(); err == nil {
		folder = state // for pictures
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	go remote.Follow(ctx)
	app := tui.New(ctx, remote, tui.Options{Who: whoami(fromScreens), Note: where, Pictures: folder, Memory: look.left, Settings: remote, Tokens: remote, Ring: look.ring, Theme: look.theme, Progress: takesProgress(os.Getenv)})
	return shown(ctx, tea.NewProgram(app))
}

// shown shows the screens until they are left or ctx ends. They are left in order then too: a program that is killed leaves a reader behind, which
// takes the first key from whoever shows screens next.
func shown(ctx context.Context, program *tea.Program) error {
	stop := context.AfterFunc(ctx, program.Quit)
	defer stop()
	_, err := program.Run()
	fmt.Print(tui.EndLook)
	if errors.Is(err, tea.ErrInterrupted) {
		return nil
	}
	return err
}

// isDemo tells whether a data folder is the demo's.
func isDemo(folder string) bool {
	_, err := os.Stat(filepath.Join(folder, "demo.json"))
	return err == nil
}

func isTerminal() bool { return term.IsTerminal(os.Stdout.Fd()) && term.IsTerminal(os.Stdin.Fd()) }

// showWait is how long the engine waits for the first picture before it begins.
const showWait = 500 * time.Millisecond

// runScreens shows the screens until they are left, with an engine that works meanwhile.
func runScreens(ctx context.Context, live control.Live, note string, look looks, work func(context.Context) error) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	visible, show := context.WithTimeout(ctx, showWait)
	defer show()
	app := tui.New(ctx, control.For(live, whoami(fromScreens)), tui.Options{Who: whoami(fromScreens), Note: note, Pictures: live.Folder, Memory: look.left, Settings: live, Shown: show, Ring: look.ring, Theme: look.theme, Progress: takesProgress(os.Getenv)})
	program := tea.NewProgram(app)
	server := api.New(ctx, live, api.OpenTokens(live.Folder), slog.New(slog.DiscardHandler)) // nothing is written below the screens
	ended := make(chan error, 3)
	for _, run := range []func(context.Context) error{work, func(ctx context.Context) error { return beside(ctx, live) }, func(ctx context.Context) error { return api.ServeSocket(ctx, live.Folder, server, func() {}) }} {
		go func() {
			<-visible.Done() // a screen that is there at once is worth more than work that begins a moment sooner
			err := run(ctx)
			ended <- err
			if err != nil {
				program.Quit()
			}
		}()
	}
	err := shown(ctx, program)
	cancel()
	return errors.Join(err, <-ended, <-ended, <-ended)
}

// Where orders come from that are carried out in this process, for the record.
const (
	fromScreens = "the screens"
	fromShell   = "the shell"
)

// whoami is in whose name orders are given: that of the account, which may do everything with what is its own.
func whoami(from string) policy.Actor {
	who := policy.Actor{Name: "you", Known: policy.ByAccount, From: from, Scopes: policy.Scopes}
	if u, err := user.Current(); err == nil && u.Username != "" {
		who.Name = u.Username
	}
	return who
}
