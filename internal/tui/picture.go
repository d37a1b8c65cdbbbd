package tui

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"

	tea "charm.land/bubbletea/v2"

	"aditus/internal/control"
	"aditus/internal/draw"
)

// picture writes the watch on screen as SVG and PDF.
func (a *App) picture() tea.Cmd {
	w, folder := a.watch.Watch(), a.options.Pictures
	return func() tea.Msg {
		name := filepath.Join(folder, fmt.Sprintf("watch-%s-%s-%d", w.Berth.Workload, w.Berth.Site, w.Rollout.ID))
		var err error
		for _, format := range []draw.Format{draw.SVG, draw.PDF} {
			err = errors.Join(err, WritePicture(name+"."+string(format), format, draw.Dark, w))
		}
		return answeredMsg{fmt.Sprintf("Written: %s.svg and .pdf", name), err}
	}
}

// WritePicture writes a rollout's drawing to a file, whole or not at all.
func WritePicture(name string, format draw.Format, palette draw.Palette, w control.Watch) error {
	file, err := os.CreateTemp(filepath.Dir(name), ".drawing-*")
	if err != nil {
		return fmt.Errorf("write the picture: %w", err)
	}
	defer os.Remove(file.Name())
	err = errors.Join(draw.Watch(file, format, palette, w), file.Chmod(0o644), file.Close())
	if err == nil {
		err = os.Rename(file.Name(), name)
	}
	if err != nil {
		return fmt.Errorf("write the picture %s: %w", name, err)
	}
	return nil
}
