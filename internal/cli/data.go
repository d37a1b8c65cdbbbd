package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"aditus/internal/config"
	"aditus/internal/ledger"
)

// dataFlag adds --data to a command.
func dataFlag(cmd *cobra.Command, into *string) {
	cmd.Flags().StringVar(into, "data", "", "data `folder` (default $ADITUS_DATA, else ~/.local/state/aditus/line; the demo's where there is none)")
}

// setFlag adds --set to a command.
func setFlag(cmd *cobra.Command, into *[]string) {
	cmd.Flags().StringArrayVar(into, "set", nil, "give a variable a value, `name=value`; it goes before all that is declared")
}

// setValues gives what was given with --set as a map.
func setValues(given []string) (map[string]string, error) {
	set := map[string]string{}
	for _, text := range given {
		name, value, ok := strings.Cut(text, "=")
		if !ok || name == "" {
			return nil, usageError{fmt.Errorf("--set takes name=value, not %q", text)}
		}
		set[name] = value
	}
	return set, nil
}

// stateFolder is where data folders are when nobody names one.
func stateFolder() (string, error) {
	state := os.Getenv("XDG_STATE_HOME")
	if state == "" {
		home, err := os.UserHomeDir()
		if err != nil {
			return "", fmt.Errorf("find the data folder: %w; name one with --data", err)
		}
		state = filepath.Join(home, ".local", "state")
	}
	return filepath.Join(state, "aditus"), nil
}

// named gives the data folder that was named, with --data or in the environment; empty for none.
func named(given string) (string, error) {
	if given == "" {
		given = os.Getenv("ADITUS_DATA")
	}
	if given == "" {
		return "", nil
	}
	return filepath.Abs(given)
}

// lineFolder gives the data folder for a line of one's own.
func lineFolder(given string) (string, error) {
	if folder, err := named(given); err != nil || folder != "" {
		return folder, err
	}
	state, err := stateFolder()
	return filepath.Join(state, "line"), err
}

// demoFolder gives the data folder of the demo.
func demoFolder(given string) (string, error) {
	if folder, err := named(given); err != nil || folder != "" {
		return folder, err
	}
	state, err := stateFolder()
	return filepath.Join(state, "demo"), err
}

// dataFolder gives the data folder to use: a line of one's own where there is one, else the demo's.
func dataFolder(given string) (string, error) {
	line, err := lineFolder(given)
	if err != nil || given != "" || os.Getenv("ADITUS_DATA") != "" {
		return line, err
	}
	if _, err := os.Stat(filepath.Join(line, config.FileName)); err == nil {
		return line, nil
	}
	demo, err := demoFolder("")
	if err != nil {
		return "", err
	}
	if _, err := os.Stat(filepath.Join(demo, ledger.FileName)); err == nil {
		return demo, nil
	}
	return line, nil
}

// openRecord opens the ledger of a data folder to read it, wherever it lies.
func openRecord(folder string) (*ledger.Ledger, error) {
	var settings config.Settings
	name := filepath.Join(folder, config.FileName)
	text, err := os.ReadFile(name)
	if err == nil {
		settings, err = config.Read(name, text)
	}
	if err != nil && !errors.Is(err, os.ErrNotExist) { // the demo's folder has none
		return nil, err
	}
	return ledger.OpenRecord(settings.Ledger, folder)
}
