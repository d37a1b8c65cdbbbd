package cli

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"text/tabwriter"

	"github.com/spf13/cobra"

	"aditus/internal/config"
	"aditus/internal/control"
	notices "aditus/internal/notify"
)

func newNotify() *cobra.Command {
	var r connection
	var test bool
	cmd := &cobra.Command{
		Use:   "notify [SINK]",
		Short: "Where notices go, and whether they arrive",
		Long: `Lists the sinks of the settings: webhooks, mailboxes, chats and programs that are told
what happens. With --test each of them, or the one that is named, is told that this is a
test, by the Aditus that runs where one does. See docs/notices.md.`,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) > 1 {
				return usageError{errors.New("aditus notify takes one sink, or none for all")}
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			remote, folder, err := r.running()
			if err != nil {
				return err
			}
			who := whoami(fromShell)
			if remote != nil && folder == "" { // far away, where the settings are not to be seen
				if !test || len(args) == 0 {
					return usageError{errors.New("name a sink to be tested: aditus notify --test SINK; the others stand in the settings of the server")}
				}
				return testSinks(cmd, args, func(name string) error { return remote.TestSink(cmd.Context(), who, name) })
			}
			settings, err := readSettings(folder)
			if err != nil {
				return err
			}
			var names []string
			for _, s := range settings.Sinks {
				if len(args) == 0 || args[0] == s.Name {
					names = append(names, s.Name)
				}
			}
			switch {
			case len(names) == 0 && len(args) > 0:
				return settings.ErrNoSink(args[0])
			case len(names) == 0:
				fmt.Fprintln(cmd.OutOrStdout(), "There are no sinks: write some under sinks: in the settings.")
				return nil
			case !test:
				return listSinks(cmd, settings.Sinks, names)
			case remote != nil:
				return testSinks(cmd, names, func(name string) error { return remote.TestSink(cmd.Context(), who, name) })
			}
			here := control.Live{Folder: folder}
			return testSinks(cmd, names, func(name string) error {
				i := slices.IndexFunc(settings.Sinks, func(s config.Sink) bool { return s.Name == name })
				return notices.Test(cmd.Context(), settings.Sinks[i], settings.Line, here.Credentials, who.Person())
			})
		},
	}
	connectionFlags(cmd, &r)
	cmd.Flags().BoolVar(&test, "test", false, "tell them that this is a test")
	return cmd
}

func listSinks(cmd *cobra.Command, sinks []config.Sink, names []string) error {
	table := tabwriter.NewWriter(cmd.OutOrStdout(), 0, 0, 3, ' ', 0)
	for _, s := range sinks {
		if !slices.Contains(names, s.Name) {
			continue
		}
		kind := "program " + strings.Join(s.Program, " ")
		switch {
		case s.Webhook != nil:
			kind = "webhook " + config.ShownURL(s.Webhook.URL)
		case s.Mail != nil:
			kind = "mail to " + strings.Join(s.Mail.To, ", ")
		case s.Chat != nil && s.Chat.URL != "":
			kind = "chat " + config.ShownURL(s.Chat.URL)
		case s.Chat != nil:
			kind = "chat, whose address is the credential " + s.Chat.Credential
		}
		about := "what needs a person"
		if len(s.About) > 0 {
			about = strings.Join(s.About, ", ")
		}
		fmt.Fprintf(table, "%s\t%s\t%s\n", s.Name, kind, about)
	}
	return table.Flush()
}

func testSinks(cmd *cobra.Command, names []string, test func(name string) error) error {
	var failed []error
	for _, name := range names {
		if err := test(name); err != nil {
			failed = append(failed, fmt.Errorf("%s was not told: %w", name, err))
			continue
		}
		fmt.Fprintf(cmd.OutOrStdout(), "%s was told.\n", name)
	}
	return errors.Join(failed...)
}
