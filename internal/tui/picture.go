package tui

import (
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"aditus/internal/control"
	"aditus/internal/draw"
	"aditus/internal/status"
	"aditus/internal/tui/anatomy"
	"aditus/internal/tui/bench"
	"aditus/internal/tui/watch"
)

// picture writes what is on screen as SVG and PDF.
func (a *App) picture() tea.Cmd {
	name, paint := "", Painter(nil)
	switch over := a.over.(type) {
	case *watch.Model:
		w := over.Watch()
		name, paint = fmt.Sprintf("watch-%s-%s-%d", w.Berth.Workload, w.Berth.Site, w.Rollout.ID), WatchPainter(w)
	case *bench.Model:
		b := over.Bench()
		name, paint = fmt.Sprintf("bench-%s-%s-%s", b.Berth.Workload, b.Berth.Site, strings.Join(strings.Fields(b.Rule.Name), "-")), BenchPainter(b, over.Limit())
	case *anatomy.Model:
		b := over.Berth()
		name, paint = fmt.Sprintf("anatomy-%s-%s", b.Workload, b.Site), AnatomyPainter(b, a.snapshot.Now)
	default:
		return nil
	}
	name = filepath.Join(a.options.Pictures, name)
	return func() tea.Msg {
		var err error
		for _, format := range []draw.Format{draw.SVG, draw.PDF} {
			err = errors.Join(err, WritePicture(name+"."+string(format), format, draw.Dark, paint))
		}
		return answeredMsg{fmt.Sprintf("Written: %s.svg and .pdf", name), err}
	}
}

// Painter draws something in a format.
type Painter func(out io.Writer, format draw.Format, palette draw.Palette) error

// WatchPainter draws a rollout.
func WatchPainter(w control.Watch) Painter {
	return func(out io.Writer, format draw.Format, palette draw.Palette) error {
		return draw.Watch(out, format, palette, w)
	}
}

// AnatomyPainter draws what a berth is made of.
func AnatomyPainter(b status.Berth, now time.Time) Painter {
	return func(out io.Writer, format draw.Format, palette draw.Palette) error {
		return draw.Anatomy(out, format, palette, b, now)
	}
}

// BenchPainter draws a guard's signal over its history, with a limit.
func BenchPainter(b control.Bench, limit float64) Painter {
	return func(out io.Writer, format draw.Format, palette draw.Palette) error {
		return draw.Bench(out, format, palette, b, limit)
	}
}

// WritePicture writes a drawing to a file, whole or not at all.
func WritePicture(name string, format draw.Format, palette draw.Palette, paint Painter) error {
	file, err := os.CreateTemp(filepath.Dir(name), ".drawing-*")
	if err != nil {
		return fmt.Errorf("write the picture: %w", err)
	}
	defer os.Remove(file.Name())
	err = errors.Join(paint(file, format, palette), file.Chmod(0o644), file.Close())
	if err == nil {
		err = os.Rename(file.Name(), name)
	}
	if err != nil {
		return fmt.Errorf("write the picture %s: %w", name, err)
	}
	return nil
}
