package cli

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"aditus/internal/control/api"
	"aditus/internal/disk"
	"aditus/internal/login"
	"aditus/internal/tui/kit"
)

// loginsFile is the file of the state folder that has logins where there is no keyring.
const loginsFile = "logins.json"

// logins are those of this account.
func logins() (login.Store, error) {
	state, err := stateFolder()
	return login.Store{File: filepath.Join(state, loginsFile), Disk: disk.Machine}, err
}

func newLogin() *cobra.Command {
	var r connection
	cmd := &cobra.Command{
		Use:   "login",
		Short: "Log in at a server with whom it says",
		Long: `Shows an address and a code: open the one wherever there is a browser, and type the
other there. What comes of it is kept in the keyring of this machine, or in a file that is
yours alone, and shown to that server by every command and screen until aditus logout.`,
		Example: "  aditus login --server https://aditus.skerry.example:8791",
		Args:    noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			remote, server, err := r.anonymous()
			if err != nil {
				return err
			}
			of, err := remote.Provider(cmd.Context())
			if err != nil {
				return err
			}
			store, err := logins()
			if err != nil {
				return err
			}
			if err := os.MkdirAll(filepath.Dir(store.File), 0o700); err != nil {
				return err
			}
			out := cmd.OutOrStdout()
			p := login.Provider{Issuer: of.Issuer, Client: of.Client, Scopes: of.Scopes}
			ctx, err := r.providerWay(cmd.Context())
			if err != nil {
				return err
			}
			l, err := p.Ask(ctx, func(address, code, _ string) {
				fmt.Fprintf(out, "Open %s and type %s\n", kit.Plain(address), kit.Plain(code))
			})
			if err != nil {
				return err
			}
			if err := store.Put(server, l); err != nil {
				return err
			}
			fmt.Fprintf(out, "You are logged in at %s.\n", server)
			return nil
		},
	}
	connectionFlags(cmd, &r)
	return cmd
}

func newLogout() *cobra.Command {
	var r connection
	cmd := &cobra.Command{
		Use:   "logout",
		Short: "Forget a login",
		Args:  noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			_, server, err := r.anonymous()
			if err != nil {
				return err
			}
			store, err := logins()
			if err != nil {
				return err
			}
			if err := store.Remove(server); errors.Is(err, login.ErrNone) {
				return fmt.Errorf("nobody is logged in at %s from here", server)
			} else if err != nil {
				return err
			}
			fmt.Fprintf(cmd.OutOrStdout(), "The login at %s is forgotten.\n", server)
			return nil
		},
	}
	connectionFlags(cmd, &r)
	return cmd
}

// anonymous gives the server that is named, without showing it anything.
func (r connection) anonymous() (*api.Remote, string, error) {
	server := strings.TrimSuffix(r.server, "/")
	if server == "" {
		server = strings.TrimSuffix(os.Getenv("ADITUS_SERVER"), "/")
	}
	if server == "" {
		return nil, "", usageError{errors.New("name a server: --server https://aditus.skerry.example:8791, or $ADITUS_SERVER")}
	}
	remote, err := api.DialWay(server, api.Way{CA: r.ca})
	if err != nil {
		return nil, "", usageError{err}
	}
	return remote, server, nil
}

// providerWay has a provider asked with the certificates to trust.
func (r connection) providerWay(ctx context.Context) (context.Context, error) {
	client, err := r.providerClient()
	if err != nil || client == nil {
		return ctx, err
	}
	return login.With(ctx, client), nil
}

func (r connection) providerClient() (*http.Client, error) {
	if r.ca == "" {
		return nil, nil
	}
	return api.Trusting(r.ca)
}
