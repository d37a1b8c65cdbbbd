package cli

import (
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/charmbracelet/x/term"

	"aditus/internal/core/say"
	"aditus/internal/tui/kit"
)

// Progress: how long something may take before it is told that it is under way, and how often that is told anew.
const (
	toldAfter = time.Second
	toldAgain = time.Second
)

// underWay does something, and tells on a terminal that it is under way where it takes a while, and for how long.
func underWay(errs io.Writer, what string, do func() error) error {
	if !term.IsTerminal(os.Stderr.Fd()) {
		return do()
	}
	return progress(errs, what, toldAfter, toldAgain, do)
}

// progress writes over one line until do is done, and leaves nothing of it.
func progress(errs io.Writer, what string, after, again time.Duration, do func() error) error {
	began, done, ended := time.Now(), make(chan struct{}), make(chan struct{})
	go func() {
		defer close(ended)
		width := 0
		timer := time.NewTimer(after)
		defer timer.Stop()
		for {
			select {
			case <-done:
				if width > 0 {
					fmt.Fprintf(errs, "\r%s\r", strings.Repeat(" ", width))
				}
				return
			case <-timer.C:
				text := fmt.Sprintf("%s: %s", kit.Plain(what), say.Span(time.Since(began).Round(time.Second)))
				fmt.Fprintf(errs, "\r%-*s", width, text)
				width = max(width, kit.Width(text))
				timer.Reset(again)
			}
		}
	}()
	err := do()
	close(done)
	<-ended
	return err
}
