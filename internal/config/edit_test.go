package config

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"time"

	"go.yaml.in/yaml/v4"

	"aditus/internal/disk"
	"aditus/internal/disk/disktest"
)

// TestPowerCut replays what is left of the settings at each moment.
func TestPowerCut(t *testing.T) {
	t.Cleanup(func() { settingsDisk = disk.Machine })
	first := Settings{Line: "skerry", Beat: time.Second}
	disktest.Values(t, 5, func(d disk.Disk, folder string, n int) error {
		settingsDisk = d
		_, err := Edit(folder, first, func(root *yaml.Node) error {
			for i := 0; i < len(root.Content); i += 2 {
				if root.Content[i].Value == "line" {
					root.Content[i+1].Value = fmt.Sprintf("skerry-%d", n)
				}
			}
			return nil
		})
		return err
	}, func(folder string) (n int, err error) {
		text, err := os.ReadFile(filepath.Join(folder, FileName))
		if errors.Is(err, fs.ErrNotExist) {
			return 0, nil
		}
		s, err := Read(FileName, text)
		if err == nil {
			_, err = fmt.Sscanf(s.Line, "skerry-%d", &n)
		}
		return n, err
	})
}
