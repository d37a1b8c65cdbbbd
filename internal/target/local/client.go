package local

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"aditus/internal/socket"
	"aditus/internal/target/local/keeper"
)

// Client speaks with the keeper of a data folder, and starts one where none runs. It is safe for concurrent use.
type Client struct {
	folder  string
	command []string // that runs a keeper on the folder
	http    *http.Client

	mu    sync.Mutex
	known bool     // a keeper of our format answered
	ended bool     // none is wanted any more
	gone  []func() // called when the keeper went without being asked to
}

// NewClient makes a client for a data folder. command starts a keeper for it; it is empty where none should be started.
func NewClient(folder string, command ...string) *Client {
	return &Client{folder: folder, command: command, http: &http.Client{Transport: socket.Transport(filepath.Join(folder, keeper.SocketFile), 0)}}
}

// A keeper may take startWait until it answers; another one is started every startAgain meanwhile.
const (
	startWait  = 10 * time.Second
	startAgain = 500 * time.Millisecond
)

// ErrNoKeeper means that no keeper runs on the data folder.
var ErrNoKeeper = errors.New("no keeper answers")

// ensure sees to it that a keeper of our format runs.
func (c *Client) ensure(ctx context.Context) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.known {
		return nil
	}
	hello, err := c.hello(ctx)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err == nil && hello.Format != keeper.Format {
		c.ask(ctx, http.MethodPost, "/leave", nil, nil) // it leaves its processes running
		err = ErrNoKeeper
	}
	if err == nil {
		c.found()
		return nil
	}
	if len(c.command) == 0 {
		return err
	}
	ctx, cancel := context.WithTimeout(ctx, startWait)
	defer cancel()
	var started time.Time
	for wait := 5 * time.Millisecond; ; wait = min(2*wait, 200*time.Millisecond) {
		if hello, err := c.hello(ctx); err == nil && hello.Format == keeper.Format {
			c.found()
			return nil
		}
		if time.Since(started) > startAgain { // one that finds the last one still leaving ends by itself
			started = time.Now()
			if err := c.start(); err != nil {
				return fmt.Errorf("start the keeper: %w", err)
			}
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("%w; see %s", ErrNoKeeper, filepath.Join(c.folder, keeper.LogName))
		case <-time.After(wait):
		}
	}
}

// found notes that a keeper answers, and watches it: when it goes, another one is needed at once, as traffic goes
// through it. It is called with the lock held.
func (c *Client) found() {
	c.known = true
	go func() {
		if response, err := c.http.Get("http://keeper/stay"); err == nil {
			io.Copy(io.Discard, response.Body)
			response.Body.Close()
		}
		c.mu.Lock()
		c.known = false
		ended, gone := c.ended, c.gone
		c.mu.Unlock()
		for _, tell := range gone {
			if !ended {
				tell()
			}
		}
	}()
}

// onGone has something done when the keeper went without being asked to.
func (c *Client) onGone(do func()) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.gone = append(c.gone, do)
}

// start starts a keeper that goes on when this program ends.
func (c *Client) start() error {
	log, err := os.OpenFile(filepath.Join(c.folder, keeper.LogName), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer log.Close()
	cmd := exec.Command(c.command[0], c.command[1:]...)
	cmd.Dir, cmd.Stdout, cmd.Stderr, cmd.SysProcAttr = c.folder, log, log, &syscall.SysProcAttr{Setsid: true}
	if err := cmd.Start(); err != nil {
		return err
	}
	go cmd.Wait()
	return nil
}

func (c *Client) hello(ctx context.Context) (hello keeper.Hello, err error) {
	err = c.ask(ctx, http.MethodGet, "/keeper", nil, &hello)
	return hello, err
}

func (c *Client) tell(ctx context.Context, site string, spec keeper.Spec) error {
	if err := c.ensure(ctx); err != nil {
		return err
	}
	return c.ask(ctx, http.MethodPut, "/sites/"+url.PathEscape(site), spec, nil)
}

func (c *Client) status(ctx context.Context, site string) (status keeper.Status, err error) {
	err = c.ask(ctx, http.MethodGet, "/sites/"+url.PathEscape(site), nil, &status)
	return status, err
}

// End has the keeper end all that it keeps, and leave. Where none runs, but what an earlier one started does, another one
// is started to end that.
func (c *Client) End(ctx context.Context) error {
	if _, err := c.hello(ctx); err != nil {
		records, err := filepath.Glob(filepath.Join(c.folder, sitesFolder, "*", instancesFolder, "*", keeper.RecordFile))
		if len(records) == 0 || len(c.command) == 0 {
			return err
		}
		for _, record := range records {
			instances := filepath.Dir(filepath.Dir(record))
			if err := c.tell(ctx, filepath.Base(filepath.Dir(instances)), keeper.Spec{Folder: instances}); err != nil {
				return err
			}
		}
	}
	c.mu.Lock()
	c.ended = true
	c.mu.Unlock()
	if err := c.ask(ctx, http.MethodPost, "/leave?end=all", nil, nil); err != nil {
		return fmt.Errorf("end what the keeper keeps: %w", err)
	}
	for {
		if _, err := c.hello(ctx); err != nil {
			return ctx.Err()
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("end what the keeper keeps: %w", ctx.Err())
		case <-time.After(20 * time.Millisecond):
		}
	}
}

func (c *Client) ask(ctx context.Context, method, path string, body, into any) error {
	text, err := json.Marshal(body)
	if err != nil {
		return err
	}
	request, err := http.NewRequestWithContext(ctx, method, "http://keeper"+path, bytes.NewReader(text))
	if err != nil {
		return err
	}
	response, err := c.http.Do(request)
	if err != nil {
		c.forget()
		return fmt.Errorf("%w: %v", ErrNoKeeper, errors.Unwrap(err))
	}
	defer response.Body.Close()
	switch {
	case response.StatusCode >= 300:
		why, _ := io.ReadAll(io.LimitReader(response.Body, 1<<10))
		return fmt.Errorf("the keeper says %q", strings.TrimSpace(string(why)))
	case into != nil:
		return json.NewDecoder(response.Body).Decode(into)
	}
	return nil
}

// forget notes that the keeper may be gone. It never waits, as ensure asks the keeper while it holds the lock.
func (c *Client) forget() {
	if c.mu.TryLock() {
		c.known = false
		c.mu.Unlock()
	}
}
