package cli

import (
	"errors"
	"fmt"
	"io"
	"os"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v4"

	"aditus/internal/config"
	"aditus/internal/control"
	"aditus/internal/control/api"
	"aditus/internal/core/say"
	"aditus/internal/source"
	"aditus/internal/target"
)

func newSettings() *cobra.Command {
	var r connection
	cmd := &cobra.Command{
		Use:   "settings",
		Short: "The settings, here or of a server",
		Long: `Prints the settings, without what is secret in them. They are changed in settings.yaml,
or with the commands below, at a server too, by those who may change the whole line; what
people wrote beside them stays. See docs/settings.md.`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			shown, err := r.settings(cmd)
			if err != nil {
				return err
			}
			text, err := yaml.Marshal(shown)
			if err == nil {
				_, err = cmd.OutOrStdout().Write(text)
			}
			return err
		},
	}
	connectionFlags(cmd, &r)
	cmd.AddCommand(newSettingsPut(), newSettingsRemove())
	return cmd
}

// settings are the settings of the Aditus that is meant, as they may be shown.
func (r connection) settings(cmd *cobra.Command) (map[string]any, error) {
	remote, folder, err := r.running()
	if err != nil {
		return nil, err
	}
	if remote != nil && folder == "" {
		return remote.Settings(cmd.Context(), whoami(fromShell))
	}
	s, err := readSettings(folder)
	if err != nil {
		return nil, err
	}
	return s.Shown()
}

func newSettingsPut() *cobra.Command {
	var r connection
	cmd := &cobra.Command{
		Use:   "put [SECTION NAME] [FILE]",
		Short: "Write entries of links, sites, sinks, follow, registries, metrics-stores and alerts",
		Long: `Reads an entry as YAML or JSON from a file, or from standard input, and writes it into the
settings in place of the one of that name. Without SECTION and NAME it reads several, by
section and name, and credentials by name, and writes all or none of them:

  {links: {tides: {repository: …, branch: main, every: 10s}}, sites: {isle: {target: {kind: local}}},
   credentials: {tides: {user: aditus, password: …}}}

At a server, what is of the machine itself, such as programs and files, is not written.`,
		Example: "  aditus settings put sites isle site.yaml\n  aditus settings put --server https://aditus.skerry.example:8791 < all.yaml",
		Args: func(_ *cobra.Command, args []string) error {
			if len(args) > 3 {
				return usageError{errors.New("aditus settings put takes SECTION and NAME, and a FILE")}
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			var text []byte
			var err error
			if len(args)%2 == 1 {
				text, err = os.ReadFile(args[len(args)-1])
			} else {
				text, err = io.ReadAll(cmd.InOrStdin())
			}
			if err != nil {
				return err
			}
			var all api.Settings
			if len(args) >= 2 {
				var value map[string]any
				if err := yaml.Unmarshal(text, &value); err != nil {
					return usageError{err}
				}
				if all, err = ofSection(args[0], args[1], value); err != nil {
					return usageError{err}
				}
			} else if err := strictly(text, &all); err != nil {
				return usageError{err}
			}
			return putSettings(cmd, r, all)
		},
	}
	connectionFlags(cmd, &r)
	return cmd
}

// strictly reads YAML by the names that JSON has.
func strictly(text []byte, into *api.Settings) error {
	var read struct {
		Links, Sites, Sinks, Follow, Registries map[string]map[string]any
		MetricsStores                           map[string]map[string]any `yaml:"metrics-stores"`
		Alerts                                  map[string]map[string]any
		Credentials                             map[string]source.Credential
	}
	if err := yaml.Unmarshal(text, &read); err != nil {
		return err
	}
	*into = api.Settings(read)
	return nil
}

func ofSection(section, name string, value map[string]any) (s api.Settings, err error) {
	one := map[string]map[string]any{name: value}
	switch section {
	case "links":
		s.Links = one
	case "sites":
		s.Sites = one
	case "sinks":
		s.Sinks = one
	case "follow":
		s.Follow = one
	case "registries":
		s.Registries = one
	case "metrics-stores":
		s.MetricsStores = one
	case "alerts":
		s.Alerts = one
	default:
		err = fmt.Errorf("there is no section %q: there are %s", section, say.List(config.Sections))
	}
	return s, err
}

// putSettings writes entries at the Aditus that is meant, or into the file where none runs.
func putSettings(cmd *cobra.Command, r connection, all api.Settings) error {
	remote, folder, err := r.running()
	if err != nil {
		return err
	}
	if remote != nil {
		return remote.PutSettings(cmd.Context(), whoami(fromShell), all.Credentials, all.Entries()...)
	}
	if err := changeable(cmd.Context(), folder); err != nil {
		return err
	}
	_, err = control.Settle(folder, firstSettings, all.Credentials, all.Entries(), false, func(s config.Settings) error { return target.Check(kinds, s) })
	return err
}

func newSettingsRemove() *cobra.Command {
	var r connection
	cmd := &cobra.Command{
		Use:   "remove SECTION NAME",
		Short: "Take an entry out",
		Args:  twoArgs("SECTION and NAME"),
		RunE: func(cmd *cobra.Command, args []string) error {
			remote, folder, err := r.running()
			if err != nil {
				return err
			}
			if remote != nil {
				return remote.DropSetting(cmd.Context(), whoami(fromShell), args[0], args[1])
			}
			if err := changeable(cmd.Context(), folder); err != nil {
				return err
			}
			_, err = config.Drop(folder, args[0], args[1], false, func(s config.Settings) error { return target.Check(kinds, s) })
			return err
		},
	}
	connectionFlags(cmd, &r)
	return cmd
}
