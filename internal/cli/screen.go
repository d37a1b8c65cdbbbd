package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/user"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/term"

	"aditus/internal/control"
	"aditus/internal/demo"
	"aditus/internal/tui"
)

// runDemo opens the screens on Skerry Line.
func runDemo(ctx context.Context, folder string, speed float64, anew bool) error {
	if !term.IsTerminal(os.Stdout.Fd()) || !term.IsTerminal(os.Stdin.Fd()) {
		return errors.New("the screens need a terminal; without one use: aditus demo --headless")
	}
	folder, err := dataFolder(folder)
	if err != nil {
		return err
	}
	world, err := demo.Open(folder, demo.Options{Speed: speed, Anew: anew, Start: time.Now()})
	if err != nil {
		return err
	}
	defer world.Close()
	note := fmt.Sprintf("demo, time runs × %g", speed)
	if speed == 1 {
		note = "demo"
	}
	app := tui.New(control.Live{Engine: world.Engine, Ledger: world.Ledger}, tui.Options{Who: whoami(), Note: note, Pictures: folder})
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	program := tea.NewProgram(app, tea.WithContext(ctx))
	ended := make(chan error, 1)
	go func() {
		err := world.Run(ctx, nil)
		ended <- err
		if err != nil {
			program.Quit()
		}
	}()
	_, err = program.Run()
	cancel()
	if errors.Is(err, tea.ErrProgramKilled) || errors.Is(err, tea.ErrInterrupted) {
		err = nil
	}
	return errors.Join(err, <-ended)
}

// whoami is the name that orders are given in.
func whoami() string {
	if u, err := user.Current(); err == nil && u.Username != "" {
		return u.Username
	}
	return "you"
}
