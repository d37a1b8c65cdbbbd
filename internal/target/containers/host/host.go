// Package host asks a container engine, on this machine or another one, by the REST API that such engines share: images, containers, networks, volumes, logs,
// commands and events. It decides nothing. It is written by hand, as the fifteen calls that are needed are less than any client brings.
package host

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// The versions of the API that are spoken: the newest is asked for, an older one where the engine has no newer.
const (
	newest = "1.41"
	oldest = "1.40"
)

var (
	// ErrSilent means that the engine did not answer: nothing is known of what is there.
	ErrSilent = errors.New("the container engine does not answer")
	// ErrNotFound means that there is no such container, image or volume.
	ErrNotFound = errors.New("there is none of that name")
)

// answerWait is how long a call may take that nothing is waited for in.
const answerWait = 20 * time.Second

// mostAnswer bounds what is read of an answer.
const mostAnswer = 64 << 20

// Host is a container engine. Make it with New. It is safe for concurrent use.
type Host struct {
	address string
	dial    func(context.Context) (net.Conn, error)
	http    *http.Client

	mu      sync.Mutex
	version string // that is spoken; empty while that is not known
}

// New gives the engine of this machine at an address, which is not asked yet.
func New(address string) *Host { return Open(Way{Address: address}) }

// Open gives the engine at the end of a way, which is not asked yet.
func Open(way Way) *Host {
	dial := way.dialer()
	through := func(ctx context.Context, _, _ string) (net.Conn, error) { return dial(ctx) }
	return &Host{address: way.Address, dial: dial, http: &http.Client{Transport: &http.Transport{DialContext: through, MaxIdleConnsPerHost: 8, IdleConnTimeout: time.Minute}}}
}

// Refused is what an engine said no to.
type Refused struct {
	Status int
	Why    string
}

func (r *Refused) Error() string {
	return fmt.Sprintf("the container engine says %q (%d)", r.Why, r.Status)
}

// Is tells what is not there by its status.
func (r *Refused) Is(target error) bool {
	return target == ErrNotFound && r.Status == http.StatusNotFound
}

// Version is what an engine says of itself.
type Version struct {
	Name, Version, API string
	System, Machine    string // of which its containers are, as Go calls them: linux, amd64
}

// Ping finds out which version of the API is spoken.
func (h *Host) Ping(ctx context.Context) (v Version, err error) {
	var said struct {
		Version       string
		APIVersion    string `json:"ApiVersion"`
		MinAPIVersion string
		Os, Arch      string
		Components    []struct{ Name string }
	}
	if err := h.call(ctx, http.MethodGet, "/version", nil, &said); err != nil {
		return v, err
	}
	v = Version{Version: said.Version, API: said.APIVersion, System: said.Os, Machine: said.Arch}
	if len(said.Components) > 0 {
		v.Name = said.Components[0].Name
	}
	spoken := newest
	if older(said.APIVersion, newest) {
		spoken = said.APIVersion
	}
	if said.APIVersion == "" || older(spoken, oldest) || said.MinAPIVersion != "" && older(spoken, said.MinAPIVersion) {
		return v, fmt.Errorf("the container engine at %s speaks versions %s to %s of the API; %s to %s are needed", h.address, cmp.Or(said.MinAPIVersion, "?"), cmp.Or(said.APIVersion, "?"), oldest, newest)
	}
	h.mu.Lock()
	h.version = spoken
	h.mu.Unlock()
	return v, nil
}

// older tells whether a version of the API is older than another one.
func older(a, b string) bool {
	number := func(text string) (n int) {
		major, minor, _ := strings.Cut(text, ".")
		x, _ := strconv.Atoi(major)
		y, _ := strconv.Atoi(minor)
		return x*1000 + y
	}
	return number(a) < number(b)
}

// path is a path of the API in the version that is spoken.
func (h *Host) path(ctx context.Context, path string) (string, error) {
	h.mu.Lock()
	version := h.version
	h.mu.Unlock()
	if version == "" {
		if _, err := h.Ping(ctx); err != nil {
			return "", err
		}
		return h.path(ctx, path)
	}
	return "/v" + version + path, nil
}

// ask makes a call in the version that is spoken, and reads what is answered into something.
func (h *Host) ask(ctx context.Context, method, path string, body, into any) error {
	ctx, cancel := context.WithTimeout(ctx, answerWait)
	defer cancel()
	return h.askFor(ctx, method, path, body, into)
}

// askFor is ask for what may take as long as ctx lets it.
func (h *Host) askFor(ctx context.Context, method, path string, body, into any) error {
	at, err := h.path(ctx, path)
	if err != nil {
		return err
	}
	return h.call(ctx, method, at, body, into)
}

func (h *Host) call(ctx context.Context, method, path string, body, into any) error {
	stream, err := h.open(ctx, method, path, body)
	if err != nil {
		return err
	}
	defer stream.Close()
	text, err := io.ReadAll(io.LimitReader(stream, mostAnswer))
	if err == nil && into != nil {
		if err = json.Unmarshal(text, into); err != nil {
			return fmt.Errorf("what the container engine answers to %s is not understood: %w", path, err)
		}
	}
	return h.silent(ctx, err)
}

// open makes a call and gives what is answered as it comes.
func (h *Host) open(ctx context.Context, method, path string, body any) (io.ReadCloser, error) {
	var sent io.Reader
	kind := "application/json"
	switch b := body.(type) {
	case nil:
	case io.Reader:
		sent, kind = b, "application/x-tar"
	default:
		text, err := json.Marshal(b)
		if err != nil {
			return nil, err
		}
		sent = bytes.NewReader(text)
	}
	request, err := http.NewRequestWithContext(ctx, method, "http://engine"+path, sent)
	if err != nil {
		return nil, err
	}
	if sent != nil {
		request.Header.Set("Content-Type", kind)
	}
	response, err := h.http.Do(request)
	if err != nil {
		return nil, h.silent(ctx, err)
	}
	if response.StatusCode >= 400 {
		defer response.Body.Close()
		text, _ := io.ReadAll(io.LimitReader(response.Body, 64<<10))
		var said struct{ Message, Cause string }
		json.Unmarshal(text, &said)
		return nil, &Refused{response.StatusCode, cmp.Or(said.Message, said.Cause, strings.TrimSpace(string(text)), http.StatusText(response.StatusCode))}
	}
	return response.Body, nil
}

// silent tells that an engine did not answer, unless nobody waits for it any more.
func (h *Host) silent(ctx context.Context, err error) error {
	if err == nil || errors.Is(ctx.Err(), context.Canceled) {
		return errors.Join(err, ctx.Err())
	}
	var dialled *net.OpError
	switch {
	case errors.As(err, &dialled) && dialled.Op == "remote error": // an alert of TLS, for which there is no type
		err = refusedTLS(dialled.Err)
	case errors.As(err, &dialled):
		err = dialled.Err
	}
	return fmt.Errorf("%w at %s: %v", ErrSilent, h.address, err)
}

// filters are what is looked for by labels.
func filters(labels map[string]string, more map[string][]string) string {
	all := map[string][]string{}
	for key, values := range more {
		all[key] = values
	}
	for name, value := range labels {
		all["label"] = append(all["label"], name+"="+value)
	}
	slices.Sort(all["label"])
	text, _ := json.Marshal(all)
	return url.QueryEscape(string(text))
}
