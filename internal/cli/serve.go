package cli

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"runtime/debug"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"aditus/internal/config"
	"aditus/internal/control"
	"aditus/internal/control/api"
	"aditus/internal/status"
)

type serveOptions struct {
	tcp  api.TCP
	text bool
	more bool
}

func newServe() *cobra.Command {
	var folder string
	var set []string
	var o serveOptions
	cmd := &cobra.Command{
		Use:   "serve",
		Short: "Work without a screen, and answer screens and shells",
		Long: `Looks after all berths until it is ended, and answers on the socket aditus.sock in the
data folder, which is its owner's alone. Screens (aditus) and the shell find it there.

With --listen it answers over TCP too, to those who have a token (aditus token). It
refuses to do so in plain text where other machines could reach it.

When it ends, what runs at local sites runs on, kept by its keeper. SIGTERM and SIGINT
let what is under way end. Under systemd it tells when it is ready (Type=notify);
docs/server.md has a unit.`,
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			values, err := setValues(set)
			if err != nil {
				return err
			}
			if o.tcp.Address != "" {
				if err := o.tcp.Check(); err != nil {
					return usageError{err}
				}
			}
			folder, err := dataFolder(folder)
			if err != nil {
				return err
			}
			return runServer(cmd.Context(), cmd.ErrOrStderr(), folder, values, o)
		},
	}
	dataFlag(cmd, &folder)
	setFlag(cmd, &set)
	flags := cmd.Flags()
	flags.StringVar(&o.tcp.Address, "listen", "", "answer at this `address` too, such as 127.0.0.1:8791")
	flags.StringVar(&o.tcp.Cert, "tls-cert", "", "the `file` of the certificate for it (PEM)")
	flags.StringVar(&o.tcp.Key, "tls-key", "", "the `file` of its key")
	flags.BoolVar(&o.text, "log-text", false, "log lines as text rather than JSON")
	flags.BoolVarP(&o.more, "verbose", "v", false, "log every request")
	return cmd
}

// serverGC has the collector run twice as often as usual: a server that mostly waits gains memory by it and loses no time.
const serverGC = 50

func runServer(ctx context.Context, w io.Writer, folder string, set map[string]string, o serveOptions) error {
	log := newLog(w, o)
	debug.SetGCPercent(serverGC)
	s, err := openLocal(folder, localOptions{set: set})
	if err != nil {
		return err
	}
	defer s.Close()
	log.Info("aditus works", "folder", folder, "sites", len(s.settings.Sites), "links", len(s.settings.Links), "pid", os.Getpid())
	group, ctx := errgroup.WithContext(ctx)
	server := api.New(ctx, s.Live, api.OpenTokens(folder), log)
	group.Go(func() error { return s.Engine.Run(ctx) })
	group.Go(func() error { return serve(ctx, s.Live, server, func() { notify("READY=1") }) })
	group.Go(func() error { return logTrouble(ctx, s.Live, log) })
	if o.tcp.Address != "" {
		group.Go(func() error {
			return api.ServeTCP(ctx, o.tcp, server, func(at string) { log.Info("answers", "address", at, "tls", o.tcp.Cert != "") })
		})
	}
	err = group.Wait()
	notify("STOPPING=1")
	log.Info("aditus ends; what runs at local sites runs on")
	return err
}

func newLog(w io.Writer, o serveOptions) *slog.Logger {
	options := &slog.HandlerOptions{Level: slog.LevelInfo}
	if o.more {
		options.Level = slog.LevelDebug
	}
	if o.text {
		return slog.New(slog.NewTextHandler(w, options))
	}
	return slog.New(slog.NewJSONHandler(w, options))
}

// troubleEvery is how often it is looked for trouble to log.
const troubleEvery = 2 * time.Second

// logTrouble logs what a person should know of, once when it comes and once when it goes.
func logTrouble(ctx context.Context, live control.Live, log *slog.Logger) error {
	changed := live.Changed(ctx)
	told := map[string]string{}
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(troubleEvery):
		}
		select {
		case <-ctx.Done():
			return nil
		case <-changed:
		}
		now := map[string]string{}
		for _, p := range problemsOf(live.Snapshot(ctx)) {
			if now[p.About] = p.Text; told[p.About] != p.Text {
				log.Warn("trouble", "about", p.About, "text", p.Text)
			}
		}
		for about := range told {
			if now[about] == "" {
				log.Info("trouble is over", "about", about)
			}
		}
		told = now
	}
}

// problemsOf are all problems of a snapshot: its own, the links' and the berths'.
func problemsOf(s status.Snapshot) []status.Problem {
	all := append([]status.Problem(nil), s.Problems...)
	for _, l := range s.Links {
		if l.Problem != nil {
			all = append(all, status.Problem{About: "link " + l.Name, Text: l.Problem.Text, Since: l.Problem.Since})
		}
	}
	for _, b := range s.Berths {
		if b.Problem != nil {
			all = append(all, *b.Problem)
		}
	}
	return all
}

// notify tells systemd how the service is doing (sd_notify): a datagram to the socket that it names, and nothing where
// there is none. The protocol is these few lines, so that a library for it would be larger than what it saves.
func notify(state string) {
	name := os.Getenv("NOTIFY_SOCKET")
	if name == "" {
		return
	}
	if name[0] == '@' {
		name = "\x00" + name[1:]
	}
	conn, err := net.DialUnix("unixgram", nil, &net.UnixAddr{Name: name, Net: "unixgram"})
	if err != nil {
		return
	}
	defer conn.Close()
	fmt.Fprint(conn, state)
}

// serve does what goes on beside an engine that runs: settings are followed, faces answered, and webhooks taken. ready is
// called once faces are.
func serve(ctx context.Context, live control.Live, server *api.Server, ready func()) error {
	group, ctx := errgroup.WithContext(ctx)
	group.Go(func() error {
		live.FollowSettings(ctx, filepath.Join(live.Folder, config.FileName))
		return nil
	})
	group.Go(func() error { return api.ServeSocket(ctx, live.Folder, server, ready) })
	group.Go(func() error {
		err := serveHooks(ctx, live)
		live.Report("webhooks", err)
		return nil // without webhooks all else goes on, by polling
	})
	return group.Wait()
}
