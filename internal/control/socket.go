package control

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"aditus/internal/engine"
	"aditus/internal/ledger"
	"aditus/internal/source"
)

// SocketFile is the Unix socket in a data folder on which a running Aditus takes orders from the shell.
const SocketFile = "aditus.sock"

// maxOrder bounds what is read of an order.
const maxOrder = 64 << 10

// answered is what every request gets: what was asked for, or why not.
type answered struct {
	Error      string           `json:"error,omitempty"`
	Comparison *Comparison      `json:"comparison,omitempty"`
	Snapshot   *engine.Snapshot `json:"snapshot,omitempty"`
	Proposal   *source.Proposal `json:"proposal,omitempty"`
}

// ServeSocket takes orders on the data folder's socket until ctx ends. The socket is the owner's alone.
func ServeSocket(ctx context.Context, folder string, c Control) error {
	name := filepath.Join(folder, SocketFile)
	if err := os.Remove(name); err != nil && !errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("take orders from the shell: %w", err)
	}
	var config net.ListenConfig
	listener, err := config.Listen(ctx, "unix", name)
	if err != nil {
		return fmt.Errorf("take orders from the shell: %w", err)
	}
	if err := os.Chmod(name, 0o600); err != nil {
		listener.Close()
		return fmt.Errorf("take orders from the shell: %w", err)
	}
	server := &http.Server{Handler: socketHandler(c), ReadHeaderTimeout: 5 * time.Second}
	context.AfterFunc(ctx, func() { server.Close() })
	if err := server.Serve(listener); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

func socketHandler(c Control) http.Handler {
	mux := http.NewServeMux()
	reply := func(w http.ResponseWriter, a answered, err error) {
		w.Header().Set("Content-Type", "application/json")
		if err != nil {
			a.Error = err.Error()
			w.WriteHeader(http.StatusConflict)
		}
		json.NewEncoder(w).Encode(a)
	}
	mux.HandleFunc("POST /orders", func(w http.ResponseWriter, r *http.Request) {
		var o engine.Order
		if err := json.NewDecoder(io.LimitReader(r.Body, maxOrder)).Decode(&o); err != nil {
			reply(w, answered{}, fmt.Errorf("the order is not understood: %w", err))
			return
		}
		reply(w, answered{}, c.Do(r.Context(), o))
	})
	mux.HandleFunc("POST /look", func(w http.ResponseWriter, r *http.Request) {
		c.LookNow(r.URL.Query()["link"]...)
		reply(w, answered{}, nil)
	})
	mux.HandleFunc("GET /snapshot", func(w http.ResponseWriter, _ *http.Request) {
		s := c.Snapshot()
		reply(w, answered{Snapshot: &s}, nil)
	})
	mux.HandleFunc("POST /revert", func(w http.ResponseWriter, r *http.Request) {
		id, ok := ledger.ParseBerth(r.URL.Query().Get("berth"))
		if !ok {
			reply(w, answered{}, fmt.Errorf("%q is no berth", r.URL.Query().Get("berth")))
			return
		}
		p, err := c.OfferRevert(r.Context(), id, r.URL.Query().Get("by"))
		reply(w, answered{Proposal: &p}, err)
	})
	mux.HandleFunc("GET /compare", func(w http.ResponseWriter, r *http.Request) {
		id, ok := ledger.ParseBerth(r.URL.Query().Get("berth"))
		if !ok {
			reply(w, answered{}, fmt.Errorf("%q is no berth", r.URL.Query().Get("berth")))
			return
		}
		found, err := c.Compare(r.Context(), id, r.URL.Query().Get("with"))
		reply(w, answered{Comparison: &found}, err)
	})
	return mux
}

// Shell gives orders to the Aditus that runs on a data folder.
type Shell struct {
	client *http.Client
}

// Dial connects to the Aditus that runs on a data folder.
func Dial(folder string) Shell {
	name := filepath.Join(folder, SocketFile)
	return Shell{&http.Client{Transport: &http.Transport{
		DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			var d net.Dialer
			return d.DialContext(ctx, "unix", name)
		},
	}}}
}

// Do gives an order and tells why it was not carried out where it was not.
func (s Shell) Do(ctx context.Context, o engine.Order) error {
	text, err := json.Marshal(o)
	if err != nil {
		return err
	}
	_, err = s.ask(ctx, http.MethodPost, "/orders", text)
	return err
}

// OfferRevert offers the revert of a barred revision on a branch of its own.
func (s Shell) OfferRevert(ctx context.Context, id ledger.Berth, by string) (source.Proposal, error) {
	a, err := s.ask(ctx, http.MethodPost, "/revert?"+url.Values{"berth": {id.String()}, "by": {by}}.Encode(), nil)
	if err != nil || a.Proposal == nil {
		return source.Proposal{}, err
	}
	return *a.Proposal, nil
}

// LookNow has all links read at once.
func (s Shell) LookNow(ctx context.Context) error {
	_, err := s.ask(ctx, http.MethodPost, "/look", nil)
	return err
}

// Snapshot gives what is known now.
func (s Shell) Snapshot(ctx context.Context) (engine.Snapshot, error) {
	a, err := s.ask(ctx, http.MethodGet, "/snapshot", nil)
	if err != nil || a.Snapshot == nil {
		return engine.Snapshot{}, err
	}
	return *a.Snapshot, nil
}

// Compare compares a berth, with another ref where that is not empty.
func (s Shell) Compare(ctx context.Context, id ledger.Berth, ref string) (Comparison, error) {
	a, err := s.ask(ctx, http.MethodGet, "/compare?"+url.Values{"berth": {id.String()}, "with": {ref}}.Encode(), nil)
	if err != nil || a.Comparison == nil {
		return Comparison{}, err
	}
	return *a.Comparison, nil
}

func (s Shell) ask(ctx context.Context, method, path string, body []byte) (answered, error) {
	request, err := http.NewRequestWithContext(ctx, method, "http://aditus"+path, bytes.NewReader(body))
	if err != nil {
		return answered{}, err
	}
	response, err := s.client.Do(request)
	if err != nil {
		return answered{}, fmt.Errorf("the running Aditus does not answer: %w", errors.Unwrap(err))
	}
	defer response.Body.Close()
	var a answered
	if err := json.NewDecoder(response.Body).Decode(&a); err != nil {
		return a, fmt.Errorf("the running Aditus answers something else: %w", err)
	}
	if a.Error != "" {
		return a, errors.New(a.Error)
	}
	return a, nil
}
