package draw

import (
	"aditus/internal/control"
	"aditus/internal/status"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"time"
)

// Painter draws something in a format.
type Painter func(out io.Writer, format Format, palette Palette) error

// Write writes a drawing to a file, whole or not at all.
func Write(name string, format Format, palette Palette, paint Painter) error {
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

// OfWatch draws a rollout.
func OfWatch(w control.Watch) Painter {
	return func(out io.Writer, format Format, palette Palette) error { return Watch(out, format, palette, w) }
}

// OfAnatomy draws what a berth is made of.
func OfAnatomy(b status.Berth, now time.Time) Painter {
	return func(out io.Writer, format Format, palette Palette) error {
		return Anatomy(out, format, palette, b, now)
	}
}

// OfBench draws a guard's signal over its history, with a limit.
func OfBench(b control.Bench, limit float64) Painter {
	return func(out io.Writer, format Format, palette Palette) error {
		return Bench(out, format, palette, b, limit)
	}
}
