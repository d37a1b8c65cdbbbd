package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"runtime"
	"strings"

	"github.com/spf13/cobra"

	"aditus/internal/control"
	"aditus/internal/control/api"
	"aditus/internal/core/berth"
	"aditus/internal/ledger"
	"aditus/internal/login"
	"aditus/internal/status"
	"aditus/internal/system"
	"aditus/internal/tui/kit"
)

// connection says which Aditus a command speaks with: a server somewhere, or the one on a data folder.
type connection struct {
	data, server, tokenFile, ca string
	cert, key                   string
}

// connectionFlags adds the flags of a connection to a command.
func connectionFlags(cmd *cobra.Command, r *connection) {
	dataFlag(cmd, &r.data)
	flags := cmd.Flags()
	flags.StringVar(&r.server, "server", "", "the `address` of a server, such as https://aditus.skerry.example:8791 (default $ADITUS_SERVER; without one, the Aditus on the data folder)")
	flags.StringVar(&r.tokenFile, "token-file", "", "the `file` that has the token for it (default: the token in $ADITUS_TOKEN)")
	flags.StringVar(&r.ca, "ca", "", "a `file` of certificates to trust for it, beside the system's")
	flags.StringVar(&r.cert, "client-cert", os.Getenv("ADITUS_CLIENT_CERT"), "show the certificate in this `file` instead of a token (default $ADITUS_CLIENT_CERT)")
	flags.StringVar(&r.key, "client-key", os.Getenv("ADITUS_CLIENT_KEY"), "whose key is in this `file` (default $ADITUS_CLIENT_KEY)")
}

// far gives the server that is named; nil where none is.
func (r connection) far() (*api.Remote, error) {
	server := r.server
	if server == "" && r.data == "" {
		server = os.Getenv("ADITUS_SERVER")
	}
	if server == "" {
		return nil, nil
	}
	token := os.Getenv("ADITUS_TOKEN")
	if r.tokenFile != "" {
		text, err := os.ReadFile(r.tokenFile)
		if err != nil {
			return nil, fmt.Errorf("read the token: %w", err)
		}
		token = strings.TrimSpace(string(text))
	}
	way := api.Way{Token: token, CA: r.ca, Cert: r.cert, Key: r.key}
	if token == "" && r.cert == "" {
		store, err := logins()
		if err != nil {
			return nil, err
		}
		server := strings.TrimSuffix(server, "/")
		if _, err := store.Get(server); err == nil {
			source := &login.Source{Store: store, Server: server}
			if source.Way, err = r.providerClient(); err != nil {
				return nil, err
			}
			way.Shown = source.Token
		} else if !errors.Is(err, login.ErrNone) {
			return nil, err
		}
	}
	remote, err := api.DialWay(server, way)
	if err != nil {
		return nil, usageError{err}
	}
	return remote, nil
}

// errFace means that what is asked for is done by a server, and none runs on this system.
var errFace = usageError{fmt.Errorf("on %s Aditus is a face of a server elsewhere: name it with --server, or in $ADITUS_SERVER", runtime.GOOS)}

// running gives the Aditus that runs where it is meant, or nil and the data folder where none does.
func (r connection) running() (remote *api.Remote, folder string, err error) {
	if remote, err = r.far(); remote != nil || err != nil {
		return remote, "", err
	}
	if !system.Serves {
		return nil, "", errFace
	}
	if folder, err = dataFolder(r.data); err != nil {
		return nil, "", err
	}
	if running, _ := ledger.InUse(folder); running {
		return api.Dial(folder), folder, nil
	}
	return nil, folder, nil
}

// changeable tells why settings, credentials and tokens of a data folder are not to be changed here; nil where they may be.
func changeable(ctx context.Context, folder string) error {
	s, err := readSettings(folder)
	if err != nil || s.Ledger == "" {
		return nil // there is nobody to share them with
	}
	if running, _ := ledger.InUse(folder); !running {
		return nil
	}
	ctx, cancel := context.WithTimeout(ctx, pictureWait)
	defer cancel()
	now, err := api.Dial(folder).Renew(ctx)
	if err != nil {
		return err
	}
	if now.Leader == nil || !now.Leader.Here {
		name := "which one does is not known now"
		if now.Leader != nil && now.Leader.Name != "" {
			name = now.Leader.Name + " does"
		}
		return fmt.Errorf("this server does not lead, and takes settings, credentials and tokens from the one that does; %s: change them there", name)
	}
	return nil
}

// client gives what can be asked: of the Aditus that runs, or of the record that it left. note says which where it is the
// record. close is to be called at the end.
func (r connection) client(ctx context.Context) (c control.Reader, note string, close func(), err error) {
	remote, folder, err := r.running()
	if err != nil {
		return nil, "", nil, err
	}
	if remote != nil {
		_, err := remote.Renew(ctx)
		return remote, "", func() {}, err
	}
	book, err := openRecord(folder)
	if err != nil {
		return nil, "", nil, err
	}
	record, err := control.OpenRecord(book)
	if err != nil {
		book.Close()
		return nil, "", nil, err
	}
	return record, notRunning(folder), func() { book.Close() }, nil
}

// told is what is told of a berth, as JSON.
type told struct {
	Berth string `json:"berth"`
	Text  string `json:"text"`
}

// printBerth tells something about a berth: a line for a person, or one of JSON.
func printBerth(w io.Writer, id berth.ID, asJSON bool, text string) {
	if asJSON {
		_ = writeLine(w, told{id.String(), text}) // texts always marshal, and a pipe that is gone ends the program
		return
	}
	fmt.Fprintf(w, "%s: %s\n", id, kit.Plain(text))
}

// berthOf gives a berth as a face sees it.
func berthOf(ctx context.Context, c control.Reader, id berth.ID) (status.Berth, error) {
	s := c.Snapshot(ctx)
	b, ok := s.Find(id)
	if !ok {
		return b, fmt.Errorf("there is no berth %s; %s", id, nearBerths(s, id))
	}
	return b, nil
}
