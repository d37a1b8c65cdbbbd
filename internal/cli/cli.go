// Package cli has the commands of the shell, a file each.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"syscall"

	"github.com/spf13/cobra"

	"aditus/internal/core/say"
	"aditus/internal/system"
	"aditus/internal/tui/kit"
)

// Exit codes, the same for every command.
const (
	exitOK    = 0
	exitWrong = 1 // what was asked for did not come out as it should
	exitUsage = 2 // the command was called in a way it does not understand
)

// errWrong ends a command with exitWrong without another word: what is wrong was told already.
var errWrong = errors.New("not as it should be")

// Main runs the program and gives its exit code.
func Main() int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	defer stop()
	return run(ctx, os.Args[1:], os.Stdout, os.Stderr)
}

func run(ctx context.Context, args []string, out, errs io.Writer) int {
	root := newRoot()
	root.SetArgs(args)
	root.SetOut(out)
	root.SetErr(errs)
	err := root.ExecuteContext(ctx)
	var usage usageError
	switch {
	case err == nil:
		return exitOK
	case errors.Is(err, errWrong):
		return exitWrong
	case errors.As(err, &usage):
		fmt.Fprintln(errs, "aditus: "+kit.Plain(err.Error()))
		return exitUsage
	}
	fmt.Fprintln(errs, "aditus: "+kit.Plain(err.Error()))
	return exitWrong
}

// usageError is a command line that is not understood.
type usageError struct{ error }

func newRoot() *cobra.Command {
	root := &cobra.Command{
		Use:   "aditus",
		Short: "Staged, watched rollouts that take themselves back",
		Long: `Aditus brings workloads declared in Git to the sites where they run, in staged
steps, watches health and metrics through every step, and takes a site back to
the last proven revision by itself when a limit is breached.

Without a command it opens the screens on your line: on the Aditus that runs (aditus
serve), or with an engine of its own where none does. Connect a repository first, with:
aditus link add. To look around: aditus demo`,
		SilenceErrors: true,
		SilenceUsage:  true,
		Args:          noArgs,
	}
	var r connection
	var set []string
	var look looks
	var theme string
	root.RunE = func(cmd *cobra.Command, _ []string) error {
		values, err := setValues(set)
		if err != nil {
			return err
		}
		if err := look.read(theme); err != nil {
			return err
		}
		if !isTerminal() {
			return cmd.Help()
		}
		return runLine(cmd.Context(), r, values, look)
	}
	connectionFlags(root, &r)
	setFlag(root, &set)
	themeFlag(root, &theme)
	root.Flags().BoolVar(&look.ring, "ring", false, "ring the terminal's bell when something newly needs you")
	root.SetFlagErrorFunc(func(cmd *cobra.Command, err error) error {
		return usageError{fmt.Errorf("%w; see %s --help", err, cmd.CommandPath())}
	})
	root.Version = thisVersion().String()
	root.SetVersionTemplate("{{.Version}}\n")
	for _, g := range []struct {
		id, title string
		commands  []*cobra.Command
	}{
		{"look", "Look", []*cobra.Command{newStatus(), newCompare(), newCourse(), newCalendar(), newSpread(), newSiteList(), newInstanceLog(), newLedger(), newReport(), newDraw()}},
		{"act", "Act", append([]*cobra.Command{newSync(), newWait()}, newOrders()...)},
		{"declare", "Declare", []*cobra.Command{newCheck(), newRender(), newVariables(), newGuard(), newBundle(), newSecret(), newSchema()}},
		{"connect", "Connect, and who may what", []*cobra.Command{newLink(), newSettings(), newLogin(), newLogout(), newToken(), newNotify()}},
		{"run", "Run", []*cobra.Command{newServe(), newBackup(), newRestore(), newKeep(), newRoute(), newAgent(), newDemo()}},
		{"", "", []*cobra.Command{newDemoService(), newStandIn(), newVersion()}},
	} {
		if g.id != "" {
			root.AddGroup(&cobra.Group{ID: g.id, Title: g.title + ":"})
		}
		for _, cmd := range g.commands {
			cmd.GroupID = g.id
			if g.id == "run" && !system.Serves {
				cmd.RunE = func(*cobra.Command, []string) error { return errFace }
			}
			root.AddCommand(cmd)
		}
	}
	completions(root)
	return root
}

func noArgs(cmd *cobra.Command, args []string) error {
	if len(args) == 0 {
		return nil
	}
	cmd.SuggestionsMinimumDistance = 2 // letters that differ
	if near := cmd.SuggestionsFor(args[0]); len(near) > 0 {
		return usageError{fmt.Errorf("%s has no %q; do you mean %s?", cmd.CommandPath(), args[0], say.Or(near))}
	}
	return usageError{fmt.Errorf("%s does not take %q; see %s --help", cmd.CommandPath(), args[0], cmd.CommandPath())}
}

// oneArg wants exactly one argument.
func oneArg(what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if len(args) != 1 {
			return usageError{fmt.Errorf("%s takes one %s, not %d; see %s --help", cmd.CommandPath(), what, len(args), cmd.CommandPath())}
		}
		return nil
	}
}
