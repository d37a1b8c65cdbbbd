package agent

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"os"
	"time"

	"aditus/internal/core/declare"
	"aditus/internal/target"
)

const (
	mostBody  = 64 << 20
	beat      = 3 * time.Second // between two signs that it can still say something
	reachWait = 10 * time.Second
)

// handler answers the server: GET /agent, PUT /setup, GET /news, POST /artifacts, /opened, /end and /leave, POST /sites/NAME/QUESTION, and CONNECT to
// the ports that instances have.
func (a *agent) handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /agent", func(w http.ResponseWriter, r *http.Request) {
		reply(w, Hello{Program: a.Program, PID: os.Getpid(), Leads: a.leadsAll(r.Context())})
	})
	mux.HandleFunc("PUT /setup", func(w http.ResponseWriter, r *http.Request) {
		var setup Setup
		if !read(w, r, &setup) {
			return
		}
		if other := a.hub.other(setup.Server); other != "" {
			done(w, fmt.Errorf("another Aditus works with this agent now, %s: give the line of one of them another name in its settings, and an agent of its own with that", other))
			return
		}
		done(w, a.set(setup))
	})
	mux.HandleFunc("GET /news", a.serveNews)
	mux.HandleFunc("POST /artifacts", func(w http.ResponseWriter, r *http.Request) {
		var all map[string]Artifact
		if read(w, r, &all) {
			done(w, a.brought.take(all))
		}
	})
	mux.HandleFunc("POST /opened", func(w http.ResponseWriter, r *http.Request) {
		var all map[string]Opened
		if read(w, r, &all) {
			err := a.brought.unseal(all)
			a.brought.again()
			done(w, err)
		}
	})
	mux.HandleFunc("POST /leave", func(w http.ResponseWriter, _ *http.Request) {
		done(w, nil)
		select {
		case a.leave <- struct{}{}:
		default:
		}
	})
	mux.HandleFunc("POST /end", func(w http.ResponseWriter, r *http.Request) {
		err := a.set(a.without())
		if err == nil {
			err = a.End(r.Context())
		}
		done(w, err)
	})
	mux.HandleFunc("POST /sites/{name}/{question}", func(w http.ResponseWriter, r *http.Request) {
		var q about
		if !read(w, r, &q) {
			return
		}
		var said answer
		site, err := a.site(r.PathValue("name"))
		if err == nil {
			err = a.ask(r.Context(), site, r.PathValue("question"), q, &said)
		}
		said.tell(err)
		reply(w, said)
	})
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodConnect {
			a.connect(w, r)
			return
		}
		mux.ServeHTTP(w, r)
	})
}

// ask asks a site.
func (a *agent) ask(ctx context.Context, s Site, question string, q about, said *answer) (err error) {
	switch question {
	case askObserve:
		var o target.Observation
		o, err = s.Observe(ctx, q.Workload)
		said.Observed = &o
	case askApply:
		if err = a.brought.unseal(q.Opened); err == nil {
			err = s.Apply(ctx, q.Workload, q.Wants)
		}
	case askExec:
		said.Said, err = s.Exec(ctx, q.Workload, q.Instance, q.Command)
	case askRestart:
		err = s.Restart(ctx, q.Workload, q.Instance)
	case askMeasure:
		said.Measured, err = s.Measure(ctx, q.Workload)
	case askLog:
		said.Lines, err = s.Log(ctx, q.Workload, q.Instance, q.Since, q.Most)
	case askStrays:
		said.Strays, err = s.Strays(ctx)
	case askPledge:
		err = s.Pledge(q.Workload, q.Parts)
	case askGround:
		g, wrong := s.Ground(ctx)
		said.Ground, err = &g, wrong
	case askRemembers:
		said.Workloads = s.Remembers()
	case askRemembered:
		if r := s.Remembered(q.Workload, declare.Fingerprint(q.Revision)); r != nil {
			said.Remembered = target.Remember(r)
		}
	default:
		err = fmt.Errorf("there is no question %q", question)
	}
	return err
}

// serveNews tells what is new as it comes about: what changed, and what is asked for.
func (a *agent) serveNews(w http.ResponseWriter, r *http.Request) {
	server := r.Header.Get(serverHeader)
	l, stop := a.hub.listen(server)
	defer stop()
	if server != "" {
		defer a.brought.listen(a.hub.poke)()
	}
	out := json.NewEncoder(w)
	ticker := time.NewTicker(beat)
	defer ticker.Stop()
	say := func(n News) bool { return out.Encode(n) == nil && http.NewResponseController(w).Flush() == nil }
	for wishes := ""; ; {
		for _, c := range l.take() {
			if !say(News{Site: c.site, Workload: c.workload}) {
				return
			}
		}
		n := News{}
		if server != "" { // whoever only looks brings nothing
			n = a.brought.wishes()
		}
		if text := fmt.Sprintf("%q", [][]string{n.Used, n.Asked, n.Sealed}); text != wishes || len(n.Gone) > 0 {
			if wishes = text; !say(n) {
				return
			}
		}
		select {
		case <-r.Context().Done():
			return
		case <-l.wake:
		case <-ticker.C:
			if !say(News{}) {
				return
			}
		}
	}
}

// connect leads a connection to a port of an instance.
func (a *agent) connect(w http.ResponseWriter, r *http.Request) {
	host, port, err := net.SplitHostPort(r.Host)
	if err == nil && !a.leads(host, port) {
		err = fmt.Errorf("%s is no port that instances are given here", r.Host)
	}
	if err != nil {
		http.Error(w, err.Error(), http.StatusForbidden)
		return
	}
	conn, err := (&net.Dialer{Timeout: reachWait}).DialContext(r.Context(), "tcp", r.Host)
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadGateway)
		return
	}
	defer conn.Close()
	stop := context.AfterFunc(r.Context(), func() { conn.Close() })
	defer stop()
	w.WriteHeader(http.StatusOK)
	flush := http.NewResponseController(w)
	flush.Flush()
	go func() {
		io.Copy(conn, r.Body)
		if tcp, is := conn.(*net.TCPConn); is {
			tcp.CloseWrite()
		}
	}()
	io.Copy(flushed{w, flush}, conn)
}

// leadsAll tells whether all sites work here, and nothing of another program does.
func (a *agent) leadsAll(ctx context.Context) bool {
	a.mu.Lock()
	sites := maps.Clone(a.sites)
	a.mu.Unlock()
	for _, s := range sites {
		if _, err := s.Observe(ctx, ""); err != nil {
			return false
		}
	}
	return a.Leads(ctx)
}

// leads tells whether an address is one that instances may have: one of this machine alone, within the ports of a site.
func (a *agent) leads(host, port string) bool {
	number, err := net.LookupPort("tcp", port)
	if ip := net.ParseIP(host); err != nil || ip == nil || !ip.IsLoopback() {
		return false
	}
	a.setting.Lock()
	defer a.setting.Unlock()
	for _, site := range a.setup.Sites {
		if number >= site.Ports[0] && number <= site.Ports[1] {
			return true
		}
	}
	return false
}

// flushed sends on at once what is written.
type flushed struct {
	w     io.Writer
	flush *http.ResponseController
}

func (f flushed) Write(p []byte) (int, error) {
	n, err := f.w.Write(p)
	if err == nil {
		err = f.flush.Flush()
	}
	return n, err
}

// read reads what is sent, and says so where it is not understood.
func read(w http.ResponseWriter, r *http.Request, into any) bool {
	if err := json.NewDecoder(io.LimitReader(r.Body, mostBody)).Decode(into); err != nil {
		http.Error(w, "this is not understood: "+err.Error(), http.StatusBadRequest)
		return false
	}
	return true
}

func reply(w http.ResponseWriter, value any) {
	w.Header().Set("Content-Type", "application/json")
	json.NewEncoder(w).Encode(value) // whoever is gone hears nothing
}

// done says that something was done, or why not.
func done(w http.ResponseWriter, err error) {
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}
