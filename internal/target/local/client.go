package local

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"aditus/internal/confine"
	"aditus/internal/core/say"
	"aditus/internal/socket"
	"aditus/internal/system"
	"aditus/internal/target/local/keeper"
	"aditus/internal/target/local/sole"
	"aditus/internal/target/local/traffic"
)

// Client speaks with the keeper of a data folder, and starts one where none runs. It is safe for concurrent use.
type Client struct {
	folder  string
	command []string // that runs a keeper on the folder
	users   string   // the numbers of users as which it is to run processes; empty for its own alone
	program string   // that it is to be of; empty for any that speaks our format
	http    *http.Client

	watching atomic.Bool // somebody sees to it that the keeper answers
	starting sync.Mutex  // one search for a keeper at a time
	known    atomic.Bool // one of our format answered
}

// NewClient makes a client for a data folder. command starts a keeper for it; it is empty where none should be started.
func NewClient(folder string, command ...string) *Client {
	return &Client{folder: folder, command: command, http: &http.Client{Transport: socket.Transport(filepath.Join(folder, keeper.SocketFile), 0)}}
}

// A keeper may take startWait until it answers; another one is started every startAgain meanwhile.
const (
	startWait  = 10 * time.Second
	startAgain = 500 * time.Millisecond
	helloWait  = 2 * time.Second // for one that runs to say who it is
	answerWait = 5 * time.Second // for any answer of it: one that hangs must hang nobody else
)

// ErrNoKeeper means that no keeper runs on the data folder.
var ErrNoKeeper = errors.New("no keeper answers")

// errUntold means that the keeper was not told of a site yet, of which it is to change a part.
var errUntold = errors.New("the keeper was not told of the site yet")

// ensure sees to it that a keeper of our format runs.
func (c *Client) ensure(ctx context.Context) error {
	if c.known.Load() {
		return nil
	}
	c.starting.Lock()
	defer c.starting.Unlock()
	if c.known.Load() { // by now
		return nil
	}
	hello, err := c.hello(ctx)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	cannot := c.mayStart()
	if err == nil && !c.fits(hello) {
		if hello.Format != keeper.Format || cannot == nil {
			c.ask(ctx, http.MethodPost, "/leave", nil, nil) // it leaves its processes running
		}
		err = ErrNoKeeper
	}
	if err == nil {
		c.known.Store(true)
		return nil
	}
	if len(c.command) == 0 {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, startWait)
	defer cancel()
	var started time.Time
	for wait := 5 * time.Millisecond; ; wait = min(2*wait, 200*time.Millisecond) {
		if hello, err := c.hello(ctx); err == nil && c.fits(hello) {
			c.known.Store(true)
			return nil
		}
		if cannot == nil && time.Since(started) > startAgain { // one that finds the last one still leaving ends by itself
			started = time.Now()
			if err := c.start(); err != nil {
				return fmt.Errorf("start the keeper: %w", err)
			}
		}
		select {
		case <-ctx.Done():
			if cannot != nil {
				return cannot
			}
			return fmt.Errorf("%w; see %s", ErrNoKeeper, filepath.Join(c.folder, keeper.LogName))
		case <-time.After(wait):
		}
	}
}

// fits tells whether a keeper speaks our format, and runs processes as whom it is to.
func (c *Client) fits(hello keeper.Hello) bool {
	return hello.Format == keeper.Format && (c.users == "" || hello.Users == c.users) && (c.program == "" || hello.Program == c.program)
}

// TookOver tells whether none but keeper and router of the program that they are to be of are there.
func (c *Client) TookOver(ctx context.Context) bool {
	hello, err := c.hello(ctx)
	if err != nil || !c.fits(hello) {
		return false
	}
	router, err := traffic.NewClient(c.folder, c.program, slog.New(slog.DiscardHandler)).Program(ctx)
	return err != nil || router == c.program // without one there is nothing to lead
}

// mayStart tells why this program cannot start the keeper that is needed.
func (c *Client) mayStart() error {
	if c.users == "" {
		return nil
	}
	if err := confine.MayBecome(); err != nil {
		return fmt.Errorf("%w that runs processes as users %s, and this program cannot start one: %v; have the system run \"aditus keep --stay --users %s --data %s\" as this user, with them (docs/local-sites.md has a unit for it)", ErrNoKeeper, c.users, err, c.users, c.folder)
	}
	return nil
}

// watch sees to it until ctx ends that the keeper answers: one that hangs is killed, and another one takes over what runs.
func (c *Client) watch(ctx context.Context) {
	if !c.watching.CompareAndSwap(false, true) {
		return // of another site
	}
	defer c.watching.Store(false)
	for sole.AwaitHang(ctx, func(ctx context.Context) error { return c.ask(ctx, http.MethodGet, "/keeper", nil, nil) }) {
		if keeper.Kill(c.folder) == nil {
			c.known.Store(false)
			c.ensure(ctx) // where that fails whoever needs it tells why
		}
	}
}

// start starts a keeper that goes on when this program ends.
func (c *Client) start() error {
	log, err := os.OpenFile(filepath.Join(c.folder, keeper.LogName), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer log.Close()
	args := c.command[1:]
	if c.users != "" {
		args = append(slices.Clone(args), "--users", c.users)
	}
	cmd := exec.Command(c.command[0], args...)
	cmd.Env = sole.Environment()
	cmd.Dir, cmd.Stdout, cmd.Stderr, cmd.SysProcAttr = c.folder, log, log, system.Session(0)
	if err := cmd.Start(); err != nil {
		return err
	}
	go cmd.Wait()
	return nil
}

func (c *Client) hello(ctx context.Context) (hello keeper.Hello, err error) {
	ctx, cancel := context.WithTimeout(ctx, helloWait)
	defer cancel()
	err = c.ask(ctx, http.MethodGet, "/keeper", nil, &hello)
	return hello, err
}

// submit has the keeper run what a site is to run, and gives the site's version then.
func (c *Client) submit(ctx context.Context, site string, spec keeper.Spec) (version uint64, err error) {
	if err := c.ensure(ctx); err != nil {
		return 0, err
	}
	return c.tell(ctx, site, spec)
}

// tell is submit to the keeper that runs, whichever it is.
func (c *Client) tell(ctx context.Context, site string, spec keeper.Spec) (version uint64, err error) {
	var taken keeper.Taken
	err = c.ask(ctx, http.MethodPut, "/sites/"+url.PathEscape(site), spec, &taken)
	return taken.Version, err
}

// after waits for what the keeper says of a site after a version that is known. Where none runs it starts one.
func (c *Client) after(ctx context.Context, site string, version uint64) (status keeper.Status, err error) {
	if err := c.ensure(ctx); err != nil {
		return status, err
	}
	err = c.ask(ctx, http.MethodGet, "/sites/"+url.PathEscape(site)+"?after="+strconv.FormatUint(version, 10), nil, &status)
	return status, err
}

func (c *Client) status(ctx context.Context, site string) (status keeper.Status, err error) {
	err = c.ask(ctx, http.MethodGet, "/sites/"+url.PathEscape(site), nil, &status)
	return status, err
}

// run has the keeper run a command beside a process, and gives what is wrong with it.
func (c *Client) run(ctx context.Context, site string, command keeper.Command) (string, error) {
	var ran keeper.Ran
	err := c.askFor(ctx, http.MethodPost, "/sites/"+url.PathEscape(site)+"/run", command, &ran)
	return ran.Said, err
}

// hand has the keeper give an instance's user what was laid anew for it.
func (c *Client) hand(ctx context.Context, site, id string) error {
	if err := c.ensure(ctx); err != nil {
		return err
	}
	return c.ask(ctx, http.MethodPost, "/sites/"+url.PathEscape(site)+"/instances/"+url.PathEscape(id)+"/hand", nil, nil)
}

// End has the keeper end all that it keeps, and leave. Where none runs, or one that was not told of a site, but what an earlier
// one started does, that is ended as well. What cannot be ended is told.
func (c *Client) End(ctx context.Context) error {
	kept, err := c.kept()
	if err != nil {
		return err
	}
	var folders []string
	for _, k := range kept {
		folders = append(folders, k.instances, k.room)
	}
	err = c.end(ctx, kept, folders)
	if left := keeper.Unended(folders); err != nil && ctx.Err() != nil && len(left) > 0 {
		return fmt.Errorf("these did not end in time: %s; the keeper goes on to end them. See whether their engine answers, and ask again", say.Few(left, 3))
	}
	return err
}

func (c *Client) end(ctx context.Context, kept []kept, folders []string) error {
	hello, err := c.hello(ctx)
	switch {
	case err != nil && len(keeper.Running(folders)) == 0 && !keeper.KeepsContainers(folders) && c.mayStart() == nil: // where it may not start one it does not see all that runs
		return errors.Join(c.endRouter(ctx), forget(kept))
	case err != nil && len(c.command) == 0:
		return err
	}
	tell := c.submit
	if err == nil {
		tell = c.tell // whoever keeps it can end it, whatever the settings say by now
	}
	for _, k := range kept {
		if _, err := tell(ctx, k.site, keeper.Spec{Folder: k.instances, Room: k.room}); err != nil {
			return err
		}
	}
	if err := c.ask(ctx, http.MethodPost, "/leave?end=all", nil, nil); err != nil {
		return fmt.Errorf("end what the keeper keeps: %w", err)
	}
	for {
		if now, err := c.hello(ctx); err != nil || hello.PID != 0 && now.PID != hello.PID { // the system may have started another one at once
			break
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("end what the keeper keeps: %w", ctx.Err())
		case <-time.After(20 * time.Millisecond):
		}
	}
	if err := keeper.EndRest(ctx, folders); err != nil {
		return err
	}
	if err := c.endRouter(ctx); err != nil {
		return err
	}
	return forget(kept)
}

// kept is what a data folder has of a site: where its instances are, and their secrets.
type kept struct{ site, instances, room, secrets string }

// kept are the sites of the data folder.
func (c *Client) kept() (all []kept, err error) {
	folders, _ := filepath.Glob(filepath.Join(c.folder, sitesFolder, "*")) // the pattern is right
	for _, folder := range folders {
		site := filepath.Base(folder)
		places, err := placesOf(c.folder, site)
		if err != nil {
			return nil, fmt.Errorf("find the instances of %s: %w", site, err)
		}
		if instances := filepath.Join(places, instancesFolder); isFolder(instances) {
			all = append(all, kept{site, instances, roomOf(c.folder, site, places), secretsOf(c.folder, site, places)})
		}
	}
	return all, nil
}

// forget removes opened secrets, which go with what read them.
func forget(sites []kept) error {
	var failed []error
	for _, k := range sites {
		failed = append(failed, os.RemoveAll(k.secrets))
	}
	return errors.Join(failed...)
}

// endRouter has a router leave that was left behind.
func (c *Client) endRouter(ctx context.Context) error {
	return traffic.NewClient(c.folder, "", slog.New(slog.DiscardHandler)).Leave(ctx)
}

// letGo has the keeper leave an instance to itself that ran before it kept it.
func (c *Client) letGo(ctx context.Context, site, id string) error {
	if err := c.ensure(ctx); err != nil {
		return err
	}
	return c.ask(ctx, http.MethodPost, "/sites/"+url.PathEscape(site)+"/instances/"+url.PathEscape(id)+"/let-go", nil, nil)
}

func (c *Client) ask(ctx context.Context, method, path string, body, into any) error {
	ctx, cancel := context.WithTimeout(ctx, answerWait)
	defer cancel()
	return c.askFor(ctx, method, path, body, into)
}

// askFor is ask for what may take as long as ctx lets it.
func (c *Client) askFor(ctx context.Context, method, path string, body, into any) error {
	err := socket.Ask(ctx, c.http, method, path, body, into)
	var refused *socket.Refused
	switch {
	case errors.As(err, &refused) && refused.Status == http.StatusConflict:
		return errUntold
	case errors.As(err, &refused):
		return fmt.Errorf("the keeper says %q", refused.Why)
	case errors.Is(err, socket.ErrNobody):
		c.known.Store(false)
		return fmt.Errorf("%w: %w", ErrNoKeeper, err)
	}
	return err
}
