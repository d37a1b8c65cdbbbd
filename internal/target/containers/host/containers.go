package host

import (
	"bufio"
	"cmp"
	"context"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"
)

// Create is a container that is to be made.
type Create struct {
	Image            string
	Entrypoint       []string `json:",omitempty"`
	Cmd              []string `json:",omitempty"`
	Env              []string
	Labels           map[string]string
	User             string              `json:",omitempty"`
	WorkingDir       string              `json:",omitempty"`
	StopSignal       string              `json:",omitempty"`
	ExposedPorts     map[string]struct{} `json:",omitempty"`
	HostConfig       HostConfig
	NetworkingConfig Networking `json:",omitzero"`
}

// HostConfig is what a container has of its machine.
type HostConfig struct {
	NetworkMode    string            `json:",omitempty"`
	PortBindings   map[string][]Port `json:",omitempty"`
	Mounts         []Mount           `json:",omitempty"`
	Tmpfs          map[string]string `json:",omitempty"`
	Memory         int64             `json:",omitempty"`
	MemorySwap     int64             `json:",omitempty"`
	NanoCpus       int64             `json:",omitempty"`
	PidsLimit      *int64            `json:",omitempty"`
	ReadonlyRootfs bool
	CapDrop        []string `json:",omitempty"`
	SecurityOpt    []string `json:",omitempty"`
	PidMode        string   `json:",omitempty"` // host: the machine's processes are seen
	RestartPolicy  Restart  `json:",omitzero"`
}

// Restart says when an engine starts a container again by itself.
type Restart struct{ Name string } // always, unless-stopped

// Port is an address of the machine.
type Port struct {
	HostIP   string `json:"HostIp"`
	HostPort string
}

// Mount is a volume, or a folder of the machine, within a container.
type Mount struct {
	Type     string // volume, bind
	Source   string
	Target   string
	ReadOnly bool
}

// Networking are the networks that a container is in.
type Networking struct {
	EndpointsConfig map[string]Endpoint `json:",omitempty"`
}

// Endpoint is a container within a network.
type Endpoint struct {
	Aliases []string `json:",omitempty"`
}

// Container is a container as it is.
type Container struct {
	ID      string `json:"Id"`
	Name    string
	Created time.Time
	Image   string // its ID
	State   State
	Config  struct {
		Env         []string
		Cmd         []string
		Entrypoint  []string
		Labels      map[string]string
		Image       string
		User        string
		StopSignal  json.RawMessage // a name, or a number
		Healthcheck *Healthcheck    // that of its image
	}
	HostConfig HostConfig
	Mounts     []struct {
		Type, Name, Source, Destination string
		RW                              bool
	}
	NetworkSettings struct {
		Networks map[string]struct{ IPAddress string }
		Ports    map[string][]Port
	}
}

// Healthcheck is how an image has whoever runs it ask whether it is well. Spans are in nanoseconds; those that are 0 are the engines' own.
type Healthcheck struct {
	Test                           []string // CMD and arguments, CMD-SHELL and a line, or NONE
	Interval, Timeout, StartPeriod time.Duration
	Retries                        int
}

// State is how a container is doing.
type State struct {
	Status     string // created, running, paused, exited, dead
	Running    bool
	Paused     bool
	OOMKilled  bool
	Pid        int
	ExitCode   int
	Error      string
	StartedAt  time.Time
	FinishedAt time.Time
}

// heavyWait is how long it may take to make or to start a container: an engine that has much to do takes its time.
const heavyWait = 2 * time.Minute

// heavy is ask for what may take so long.
func (h *Host) heavy(ctx context.Context, method, path string, body, into any) error {
	ctx, cancel := context.WithTimeout(ctx, heavyWait)
	defer cancel()
	return h.askFor(ctx, method, path, body, into)
}

// Create makes a container under a name.
func (h *Host) Create(ctx context.Context, name string, c Create) (id string, err error) {
	var made struct {
		ID string `json:"Id"`
	}
	err = h.heavy(ctx, http.MethodPost, "/containers/create?name="+url.QueryEscape(name), c, &made)
	return made.ID, err
}

// Start starts a container; one that runs already is left alone.
func (h *Host) Start(ctx context.Context, id string) error {
	return h.heavy(ctx, http.MethodPost, "/containers/"+url.PathEscape(id)+"/start", nil, nil)
}

// Stop has a container end by its signal, and by force after a while. One that has ended already is left alone.
func (h *Host) Stop(ctx context.Context, id string, within time.Duration) error {
	ctx, cancel := context.WithTimeout(ctx, within+heavyWait)
	defer cancel()
	return h.askFor(ctx, http.MethodPost, "/containers/"+url.PathEscape(id)+"/stop?t="+strconv.Itoa(int((within+time.Second-1)/time.Second)), nil, nil)
}

// Remove takes a container away, by force; what is not there any more is no failure.
func (h *Host) Remove(ctx context.Context, id string) error {
	err := h.heavy(ctx, http.MethodDelete, "/containers/"+url.PathEscape(id)+"?force=true&v=true", nil, nil)
	if errors.Is(err, ErrNotFound) {
		return nil
	}
	return err
}

// Inspect gives a container as it is.
func (h *Host) Inspect(ctx context.Context, id string) (c Container, err error) {
	return c, h.ask(ctx, http.MethodGet, "/containers/"+url.PathEscape(id)+"/json", nil, &c)
}

// Listed is a container in a list.
type Listed struct {
	ID     string `json:"Id"`
	Names  []string
	Image  string
	State  string
	Labels map[string]string
}

// List lists containers with some labels, those that do not run too; all where there are none.
func (h *Host) List(ctx context.Context, labels map[string]string) (all []Listed, err error) {
	return all, h.ask(ctx, http.MethodGet, "/containers/json?all=true&filters="+filters(labels, nil), nil, &all)
}

// Event is something that happened to a container.
type Event struct {
	Action string
	ID     string // of the container
}

// Events tells what happens to all containers there, to their networks too, until ctx ends or the engine does. begun is called once nothing
// more is missed.
func (h *Host) Events(ctx context.Context, begun func(), do func(Event)) error {
	at, err := h.path(ctx, "/events?filters="+filters(nil, map[string][]string{"type": {"container", "network"}}))
	if err != nil {
		return err
	}
	stream, err := h.open(ctx, http.MethodGet, at, nil)
	if err != nil {
		return err
	}
	defer stream.Close()
	begun()
	decoder := json.NewDecoder(stream)
	for {
		var e struct {
			Action string
			Actor  struct {
				ID         string
				Attributes map[string]string
			}
		}
		if err := decoder.Decode(&e); err != nil {
			return h.silent(ctx, err)
		}
		do(Event{e.Action, cmp.Or(e.Actor.Attributes["container"], e.Actor.ID)}) // of networks not all engines say the ID in the same place
	}
}

// Line is a line that a container wrote.
type Line struct {
	At     time.Time
	Stream string // out, err
	Text   string
}

// Log gives the newest lines of a container since a moment, oldest first, at most so many.
func (h *Host) Log(ctx context.Context, id string, since time.Time, most int) ([]Line, error) {
	ctx, cancel := context.WithTimeout(ctx, answerWait)
	defer cancel()
	query := url.Values{"stdout": {"1"}, "stderr": {"1"}, "timestamps": {"1"}, "tail": {strconv.Itoa(most)}}
	if !since.IsZero() {
		query.Set("since", strconv.FormatInt(since.Unix(), 10))
	}
	at, err := h.path(ctx, "/containers/"+url.PathEscape(id)+"/logs?"+query.Encode())
	if err != nil {
		return nil, err
	}
	stream, err := h.open(ctx, http.MethodGet, at, nil)
	if err != nil {
		return nil, err
	}
	defer stream.Close()
	lines, err := readFrames(io.LimitReader(stream, mostAnswer))
	kept := lines[:0]
	for _, l := range lines {
		if !l.At.Before(since) {
			kept = append(kept, l)
		}
	}
	return kept[max(0, len(kept)-most):], h.silent(ctx, err)
}

// readFrames reads what containers write: frames of eight bytes, with the stream and how long it is, and the text.
func readFrames(in io.Reader) (lines []Line, err error) {
	var head [8]byte
	rest := map[byte]string{}
	take := func(stream byte, text string) {
		at, said, _ := strings.Cut(text, " ")
		when, err := time.Parse(time.RFC3339Nano, at)
		if err != nil {
			return // half a line
		}
		name := "out"
		if stream == 2 {
			name = "err"
		}
		lines = append(lines, Line{when, name, strings.TrimRight(said, "\r")})
	}
	buffered := bufio.NewReader(in)
	for {
		if _, err := io.ReadFull(buffered, head[:]); err != nil {
			for _, stream := range []byte{1, 2} {
				if rest[stream] != "" {
					take(stream, rest[stream])
				}
			}
			if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
				err = nil
			}
			return lines, err
		}
		n := binary.BigEndian.Uint32(head[4:])
		if head[0] > 2 || n > mostAnswer {
			return lines, errors.New("what the container wrote is not in frames")
		}
		text := make([]byte, n)
		if _, err := io.ReadFull(buffered, text); err != nil {
			return lines, nil
		}
		whole := rest[head[0]] + string(text)
		for {
			line, more, is := strings.Cut(whole, "\n")
			if !is {
				break
			}
			take(head[0], line)
			whole = more
		}
		rest[head[0]] = whole
	}
}

// Exec runs a command within a container until it ends, and gives its exit status and the last of what it wrote.
func (h *Host) Exec(ctx context.Context, id string, args []string) (status int, wrote string, err error) {
	var made struct {
		ID string `json:"Id"`
	}
	if err := h.ask(ctx, http.MethodPost, "/containers/"+url.PathEscape(id)+"/exec", map[string]any{"AttachStdout": true, "AttachStderr": true, "Cmd": args}, &made); err != nil {
		return 0, "", err
	}
	at, err := h.path(ctx, "/exec/"+made.ID+"/start")
	if err != nil {
		return 0, "", err
	}
	stream, err := h.open(ctx, http.MethodPost, at, map[string]any{"Detach": false})
	if err != nil {
		return 0, "", err
	}
	text, err := io.ReadAll(io.LimitReader(stream, 64<<10))
	io.Copy(io.Discard, stream)
	stream.Close()
	if err != nil {
		return 0, "", h.silent(ctx, err)
	}
	var ended struct{ ExitCode int }
	if err := h.ask(ctx, http.MethodGet, "/exec/"+made.ID+"/json", nil, &ended); err != nil {
		return 0, "", err
	}
	return ended.ExitCode, lastLine(text), nil
}

// lastLine is the last line in frames without times.
func lastLine(text []byte) (last string) {
	for len(text) >= 8 {
		n := int(binary.BigEndian.Uint32(text[4:8]))
		end := min(8+n, len(text))
		for line := range strings.Lines(string(text[8:end])) {
			if line = strings.TrimSpace(line); line != "" {
				last = line
			}
		}
		text = text[end:]
	}
	return last
}

// Network makes a network where there is none of that name.
func (h *Host) Network(ctx context.Context, name string, labels map[string]string) error {
	there := func() error { return h.ask(ctx, http.MethodGet, "/networks/"+url.PathEscape(name), nil, nil) }
	if err := there(); err == nil || !errors.Is(err, ErrNotFound) {
		return err
	}
	err := h.ask(ctx, http.MethodPost, "/networks/create", map[string]any{"Name": name, "Labels": labels, "CheckDuplicate": true}, nil)
	if err != nil && there() == nil { // somebody made it meanwhile, which engines say in words of their own
		return nil
	}
	return err
}

// RemoveNetwork takes a network away that nothing is in.
func (h *Host) RemoveNetwork(ctx context.Context, name string) error {
	return h.ask(ctx, http.MethodDelete, "/networks/"+url.PathEscape(name), nil, nil)
}

// Volume makes a volume where there is none of that name, and tells the folder of the engine's machine that it is.
func (h *Host) Volume(ctx context.Context, name string, labels map[string]string) (folder string, err error) {
	var made struct{ Mountpoint string }
	err = h.ask(ctx, http.MethodPost, "/volumes/create", map[string]any{"Name": name, "Labels": labels}, &made)
	var refused *Refused
	if errors.As(err, &refused) && h.ask(ctx, http.MethodGet, "/volumes/"+url.PathEscape(name), nil, &made) == nil { // somebody made it meanwhile
		err = nil
	}
	return made.Mountpoint, err
}

// RemoveVolume takes a volume away, with all that it holds.
func (h *Host) RemoveVolume(ctx context.Context, name string) error {
	err := h.ask(ctx, http.MethodDelete, "/volumes/"+url.PathEscape(name), nil, nil)
	if errors.Is(err, ErrNotFound) {
		return nil
	}
	return err
}

// Usage is what a container uses of its machine.
type Usage struct {
	Seconds float64 // of processor time, since its start
	Memory  uint64
}

// Usage tells what a container uses.
func (h *Host) Usage(ctx context.Context, id string) (u Usage, err error) {
	var said struct {
		CPU struct {
			Usage struct {
				Total uint64 `json:"total_usage"`
			} `json:"cpu_usage"`
		} `json:"cpu_stats"`
		Memory struct{ Usage uint64 } `json:"memory_stats"`
	}
	if err := h.ask(ctx, http.MethodGet, "/containers/"+url.PathEscape(id)+"/stats?stream=false&one-shot=true", nil, &said); err != nil {
		return u, err
	}
	return Usage{float64(said.CPU.Usage.Total) / 1e9, said.Memory.Usage}, nil
}

// Image is an image that an engine has.
type Image struct {
	ID      string   `json:"Id"`
	Tags    []string `json:"RepoTags"`
	Digests []string `json:"RepoDigests"`
	Config  struct {
		Env, Cmd, Entrypoint []string
		User                 string
	}
	Size    int64
	Created json.RawMessage
}

// Image finds an image by its name.
func (h *Host) Image(ctx context.Context, name string) (i Image, err error) {
	return i, h.ask(ctx, http.MethodGet, "/images/"+name+"/json", nil, &i)
}

// Images lists images with names that begin with something.
func (h *Host) Images(ctx context.Context, reference string) (all []Image, err error) {
	return all, h.ask(ctx, http.MethodGet, "/images/json?filters="+filters(nil, map[string][]string{"reference": {reference}}), nil, &all)
}

// Load takes images in, from a tar as image tools write them.
func (h *Host) Load(ctx context.Context, tar io.Reader) error {
	at, err := h.path(ctx, "/images/load")
	if err != nil {
		return err
	}
	stream, err := h.open(ctx, http.MethodPost, at, tar)
	if err != nil {
		return err
	}
	defer stream.Close()
	decoder := json.NewDecoder(io.LimitReader(stream, mostAnswer))
	for { // what went wrong may stand in the stream
		var said struct{ Error, Stream string }
		if err := decoder.Decode(&said); errors.Is(err, io.EOF) {
			return nil
		} else if err != nil {
			return h.silent(ctx, err)
		}
		if said.Error != "" {
			return fmt.Errorf("the container engine says %q", said.Error)
		}
	}
}

// RemoveImage takes an image away; one that something still needs is left alone.
func (h *Host) RemoveImage(ctx context.Context, name string) error {
	err := h.ask(ctx, http.MethodDelete, "/images/"+name, nil, nil)
	var refused *Refused
	if errors.As(err, &refused) && (refused.Status == http.StatusNotFound || refused.Status == http.StatusConflict) {
		return nil
	}
	return err
}
