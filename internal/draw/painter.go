package draw

import (
	"bytes"
	"fmt"
	"io"
	"time"

	"aditus/internal/disk"
	"aditus/internal/status"
	"aditus/internal/view"
)

// Painter draws something in a format.
type Painter func(out io.Writer, format Format, palette Palette) error

// Write writes a drawing to a file, whole or not at all.
func Write(name string, format Format, palette Palette, paint Painter) error {
	var drawn bytes.Buffer
	err := paint(&drawn, format, palette)
	if err == nil {
		err = disk.Keep(disk.Machine, name, drawn.Bytes(), 0o644)
	}
	if err != nil {
		return fmt.Errorf("write the picture %s: %w", name, err)
	}
	return nil
}

// OfWatch draws a rollout.
func OfWatch(w view.Watch) Painter {
	return func(out io.Writer, format Format, palette Palette) error { return Watch(out, format, palette, w) }
}

// OfAnatomy draws what a berth is made of.
func OfAnatomy(b status.Berth, tree []status.Node, now time.Time) Painter {
	return func(out io.Writer, format Format, palette Palette) error {
		return Anatomy(out, format, palette, b, tree, now)
	}
}

// OfBench draws a guard's signal over its history, with a limit.
func OfBench(b view.Bench, limit float64) Painter {
	return func(out io.Writer, format Format, palette Palette) error {
		return Bench(out, format, palette, b, limit)
	}
}
