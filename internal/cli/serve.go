package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"runtime/debug"
	"sync"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"aditus/internal/backup"
	"aditus/internal/config"
	"aditus/internal/control"
	"aditus/internal/control/api"
	"aditus/internal/ledger"
	notices "aditus/internal/notify"
	"aditus/internal/status"
)

type serveOptions struct {
	tcp  api.TCP
	name string // of this server, among those that share a ledger
	url  string // where others ask it
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

Where the settings say that the ledger lies in PostgreSQL (ledger:), several servers may
share it: one leads, the others stand by, tell all that is on record, and take the lead
within ten seconds when nothing is heard of it. GET /leads says which one it is.

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
	flags.StringVar(&o.tcp.ClientCA, "tls-client-ca", "", "let in who shows a certificate that one in this `file` signed; the name is its common name, the groups its organizational units")
	flags.StringVar(&o.name, "name", machineName(), "the `name` of this server among those that share a ledger, and of the machine that its local sites are on")
	flags.StringVar(&o.url, "url", "", "the `address` at which people ask it from elsewhere, such as https://harbor-1.skerry.example:8791 (default: made of --listen)")
	flags.BoolVar(&o.text, "log-text", false, "log lines as text rather than JSON")
	flags.BoolVarP(&o.more, "verbose", "v", false, "log every request")
	return cmd
}

// serverGC has the collector run twice as often as usual: a server that mostly waits gains memory by it and loses no time.
const serverGC = 50

func runServer(ctx context.Context, w io.Writer, folder string, set map[string]string, o serveOptions) error {
	debug.SetGCPercent(serverGC)
	if err := beginSettings(folder); err != nil {
		return err
	}
	group, ctx := errgroup.WithContext(ctx)
	h := &host{folder: folder, set: set, o: o, log: newLog(w, o), answers: make(chan struct{})}
	h.server = api.New(ctx, nil, api.OpenTokens(folder), h.log)
	h.server.Logins = api.NewLogins(loginOf(folder))
	group.Go(func() error { return h.run(ctx) })
	group.Go(func() error {
		select {
		case <-ctx.Done():
			return nil
		case <-h.answers:
			return h.answer(ctx)
		}
	})
	err := group.Wait()
	notify("STOPPING=1")
	h.log.Info("aditus ends; what runs at local sites runs on")
	return err
}

// host is a server on a data folder, which leads its ledger, or stands by where another one does.
type host struct {
	folder  string
	set     map[string]string
	o       serveOptions
	log     *slog.Logger
	server  *api.Server
	answers chan struct{}   // closed once there is something to tell
	served  bool            // it is
	leader  string          // that was logged last
	last    status.Snapshot // when it led last
	good    lastGood
	refused error // why the settings before could not be opened, where those from before them are back
}

// run leads and stands by in turns, until ctx ends.
func (h *host) run(ctx context.Context) error {
	for {
		err := h.turn(ctx)
		switch {
		case errors.Is(err, errAnew) && ctx.Err() == nil:
			h.good.anew, h.refused = true, nil
			h.log.Info("the settings take a new start: this one begins anew with them")
			continue
		case err != nil && ctx.Err() == nil && h.good.restore(h.folder):
			h.refused = fmt.Errorf("%w; the settings from before are back, and those are kept in %s", err, refusedName)
			h.log.Error("the settings cannot be opened", "why", h.refused.Error())
			continue
		}
		if ctx.Err() != nil || !errors.Is(err, ledger.ErrDeposed) && !errors.Is(err, ledger.ErrUnreached) {
			return err
		}
		h.leader = ""
		h.log.Warn("another server may lead now: this one begins anew, with what is on record", "why", err.Error())
	}
}

// errAnew means that the settings were changed in a way that takes a new start.
var errAnew = errors.New("the settings take a new start")

// turn waits until this server leads, and works until it does not any more.
func (h *host) turn(ctx context.Context) error {
	s, err := openLocal(ctx, h.folder, localOptions{set: h.set, faces: h.o.tcp.Address, server: ledger.Server{Name: h.o.name, Address: h.o.public()}, waits: h.standBy})
	if ctx.Err() != nil {
		return nil // it ends while it waits
	}
	if err != nil {
		return err
	}
	defer s.Close()
	h.good.keep(h.folder)
	s.Report("settings", h.refused)
	h.log.Info("aditus works", "folder", h.folder, "sites", len(s.settings.Sites), "links", len(s.settings.Links), "pid", os.Getpid())
	if i := s.settings.Instances; i.Apart() {
		h.log.Info("workloads at local sites run as users of their own", "users", i.Users, "folder", i.Folder)
	}
	h.tellAside(s.aside)
	if s.Leader != nil {
		h.log.Info("leads", "ledger", s.Ledger.Place(), "name", s.Leader.Name)
	}
	memory, err := s.settings.MemorySize()
	if err != nil {
		return err
	}
	leads, anew := context.WithCancelCause(s.leads)
	defer anew(nil)
	s.Anew = func() { anew(errAnew) }
	h.serve(s.Live)
	works, ctx := errgroup.WithContext(leads)
	works.Go(func() error { return s.Engine.Run(ctx) })
	works.Go(func() error { return beside(ctx, s.Live) })
	works.Go(func() error { return logTrouble(ctx, s.Live, h.log) })
	works.Go(func() error { return watchMemory(ctx, memory, s.Report) })
	err = works.Wait()
	if h.last = s.Snapshot(ctx); err != nil {
		return err
	}
	if cause := context.Cause(leads); errors.Is(cause, ledger.ErrDeposed) || errors.Is(cause, errAnew) {
		return cause
	}
	return nil
}

// standBy has this server tell what is on record while another one leads.
func (h *host) standBy(ctx context.Context, book *ledger.Ledger) (told func(ledger.Lead) error) {
	standby := control.NewStandby(book, h.last)
	begin := sync.OnceFunc(func() {
		h.serve(standby)
		go standby.Follow(ctx)
	})
	if h.served { // it led before, and does not any more
		begin()
	}
	var shared time.Time
	return func(l ledger.Lead) error {
		if time.Since(shared) >= shareEvery && l.Trouble == nil && l.Turn > 0 {
			shared = time.Now()
			aside, err := backup.Share(ctx, h.folder, book, false, time.Now())
			if l.Trouble = err; err == nil {
				h.tellAside(aside)
			}
		}
		standby.Saw(l)
		if l.Name != "" && l.Name != h.leader {
			h.leader = l.Name
			h.log.Info("stands by", "leader", l.Name, "address", l.Address, "since", l.Since)
		}
		begin()
		return nil
	}
}

// tellAside logs which files others took the place of.
func (h *host) tellAside(files []string) {
	for _, name := range files {
		h.log.Warn("a file was changed here and at the server that leads: that one's is used, this one's is kept", "as", name)
	}
}

// serve has faces told something else from now on.
func (h *host) serve(c api.Control) {
	h.server.Serve(c)
	if !h.served {
		h.served = true
		close(h.answers)
	}
}

// answer answers faces until ctx ends.
func (h *host) answer(ctx context.Context) error {
	group, ctx := errgroup.WithContext(ctx)
	group.Go(func() error { return api.ServeSocket(ctx, h.folder, h.server, func() { notify("READY=1") }) })
	if h.o.tcp.Address != "" {
		group.Go(func() error {
			return api.ServeTCP(ctx, h.o.tcp, h.server, func(at string) { h.log.Info("answers", "address", at, "tls", h.o.tcp.Cert != "") })
		})
	}
	return group.Wait()
}

// public is where other machines ask this server; empty where they do not.
func (o serveOptions) public() string {
	if o.url != "" || o.tcp.Address == "" {
		return o.url
	}
	host, port, _ := net.SplitHostPort(o.tcp.Address) // it was checked
	if ip := net.ParseIP(host); host == "" || ip != nil && ip.IsUnspecified() {
		host = machineName()
	}
	scheme := "http"
	if o.tcp.Cert != "" {
		scheme = "https"
	}
	return scheme + "://" + net.JoinHostPort(host, port)
}

// loginOf gives whom people log in with, as the settings say now.
func loginOf(folder string) func() *config.Login {
	var mu sync.Mutex
	var looked time.Time
	var of *config.Login
	return func() *config.Login {
		mu.Lock()
		defer mu.Unlock()
		if time.Since(looked) >= loginEvery {
			looked = time.Now()
			if s, err := readSettings(folder); err == nil { // those before stay in force
				of = s.Login
			}
		}
		return of
	}
}

// loginEvery is how often it is looked for other settings of logins.
const loginEvery = 5 * time.Second

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

// beside does what goes on beside an engine that runs: settings are followed, webhooks taken, and notices given.
func beside(ctx context.Context, live control.Live) error {
	group, ctx := errgroup.WithContext(ctx)
	group.Go(func() error {
		live.FollowSettings(ctx, filepath.Join(live.Folder, config.FileName))
		return nil
	})
	group.Go(func() error {
		err := serveHooks(ctx, live)
		live.Report("webhooks", err)
		return nil // without webhooks all else goes on, by polling
	})
	group.Go(func() error {
		live.Report("otlp", serveOTLP(ctx, live))
		return nil
	})
	group.Go(func() error {
		return (&notices.Notifier{Host: live, Book: live.Ledger, Credentials: live.Credentials}).Run(ctx)
	})
	return group.Wait()
}
