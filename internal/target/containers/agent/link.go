package agent

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"net"
	"net/http"
	"reflect"
	"slices"
	"sync"
	"time"

	"aditus/internal/dial"
	"aditus/internal/socket"
	"aditus/internal/target"
)

const (
	tryAgain  = time.Second
	tryMost   = 15 * time.Second
	patience  = 3 * time.Second  // for an agent that is being reached
	askWait   = 30 * time.Second // for any answer that nothing is waited for in
	tellEvery = time.Second      // how far what is brought is
)

// Images bring artifacts to an engine.
type Images interface {
	Get(reference string) (image string, err error)
	Gone(reference string)
	Use(user string, references func() []string, ready func())
}

// Ends say what is at the server's end of a link.
type Ends struct {
	Name   string                                      // of the engine
	Reach  func(ctx context.Context) (net.Conn, error) // brings the agent where it is not there, and connects to it
	Setup  func() (Setup, error)                       // what is to work there
	Images Images
	Open   func(sealed string) (string, error) // opens a secret's value; nil where there are none
	Mark   func(plain string) string           // the fingerprint of a secret's value; nil where there are none
	Look   bool                                // it is only looked at: nothing is told there
	Now    func() time.Time                    // by the server's clock
	Log    *slog.Logger
}

// Link is the server's end of an agent. Make it with OpenLink; it is safe for concurrent use.
type Link struct {
	Ends
	way   *way
	end   func()
	ended chan struct{}

	mu      sync.Mutex
	peer    *peer // nil while there is none
	why     error // there is none
	renewed chan struct{}
	follows map[string]func(target.Berth) // by site
	known   map[string]map[string]bool    // workloads, by site
	used    []string                      // artifacts
	asked   map[string]bool
	told    map[string]Artifact
	poke    chan struct{} // has something when artifacts are to be told of
}

// OpenLink reaches an agent, and keeps reaching it, until Close.
func OpenLink(e Ends) *Link {
	ctx, cancel := context.WithCancel(context.Background())
	l := &Link{Ends: e, end: cancel, ended: make(chan struct{}), renewed: make(chan struct{}), follows: map[string]func(target.Berth){}, known: map[string]map[string]bool{}, asked: map[string]bool{}, told: map[string]Artifact{}, poke: make(chan struct{}, 1)}
	l.way = &way{link: l}
	l.way.Transport = &http.Transport{DialContext: l.way.DialContext, MaxIdleConnsPerHost: 2, IdleConnTimeout: time.Minute, DisableCompression: true}
	if !e.Look {
		e.Images.Use("agent of "+e.Name, l.references, l.wake)
	}
	go l.run(ctx)
	return l
}

// Close ends the link. What is at its other end goes on.
func (l *Link) Close() {
	l.end()
	<-l.ended
}

// run reaches the agent, hears what it says, and reaches it again once it is lost.
func (l *Link) run(ctx context.Context) {
	defer close(l.ended)
	for wait := tryAgain; ctx.Err() == nil; {
		began := time.Now()
		err := l.once(ctx)
		if ctx.Err() != nil {
			return
		}
		if time.Since(began) > tryMost { // it was there
			wait = tryAgain
		}
		if l.lose(err) {
			l.Log.Warn("a container host is not reached", "engine", l.Name, "error", err)
		}
		select {
		case <-ctx.Done():
		case <-time.After(wait):
		}
		wait = min(2*wait, tryMost)
	}
}

// once reaches the agent and hears what it says until it is lost.
func (l *Link) once(ctx context.Context) error {
	conn, err := l.Reach(ctx)
	if err != nil {
		return err
	}
	p, err := newPeer(conn)
	if err != nil {
		return err
	}
	defer p.close()
	who := ""
	if !l.Look {
		setup, err := l.Setup()
		if err != nil {
			return err
		}
		who, setup.Now = setup.Server, l.Now()
		asking, cancel := context.WithTimeout(ctx, askWait)
		err = p.do(asking, http.MethodPut, "/setup", setup, nil)
		cancel()
		if err != nil {
			return err
		}
	}
	l.found(p)
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	if l.Look {
		return p.listen(ctx, who, func(n News) { l.hear(ctx, p, News{Site: n.Site, Workload: n.Workload}) })
	}
	var group sync.WaitGroup
	defer group.Wait()
	defer cancel()
	group.Go(func() { l.bring(ctx, p) })
	return p.listen(ctx, who, func(n News) { l.hear(ctx, p, n) })
}

// found notes that the agent is there.
func (l *Link) found(p *peer) {
	l.mu.Lock()
	l.peer, l.why = p, nil
	l.told = map[string]Artifact{}
	l.mu.Unlock()
	l.changed()
}

// lose notes that the agent is not there, and tells whether why is new.
func (l *Link) lose(why error) bool {
	why = cmp.Or(why, errors.New("its agent ended"))
	l.mu.Lock()
	fresh := l.peer != nil || l.why == nil || l.why.Error() != why.Error()
	l.peer, l.why = nil, why
	l.mu.Unlock()
	if fresh {
		l.changed()
	}
	return fresh
}

// changed tells all who wait or follow that the agent is there now, or is not.
func (l *Link) changed() {
	l.way.CloseIdleConnections()
	l.mu.Lock()
	close(l.renewed)
	l.renewed = make(chan struct{})
	follows, known := maps.Clone(l.follows), map[string][]string{}
	for site, all := range l.known {
		known[site] = slices.Collect(maps.Keys(all))
	}
	l.mu.Unlock()
	for site, changed := range follows {
		for _, workload := range known[site] {
			changed(workload)
		}
	}
}

// hear takes what the agent says.
func (l *Link) hear(ctx context.Context, p *peer, n News) {
	if n.Site != "" {
		l.mu.Lock()
		changed := l.follows[n.Site]
		l.mu.Unlock()
		if changed != nil {
			changed(n.Workload)
		}
		return
	}
	if len(n.Sealed) > 0 {
		asking, cancel := context.WithTimeout(ctx, askWait)
		defer cancel()
		if err := p.do(asking, http.MethodPost, "/opened", l.unseal(n.Sealed), nil); err != nil {
			l.Log.Warn("secrets cannot be brought to a container host", "engine", l.Name, "error", err)
		}
	}
	if len(n.Used)+len(n.Asked) == 0 {
		return
	}
	for _, reference := range n.Gone {
		l.Images.Gone(reference)
	}
	l.mu.Lock()
	asked := map[string]bool{}
	for _, reference := range n.Asked {
		if asked[reference] = true; l.told[reference].Image != "" { // it knows it no more
			delete(l.told, reference)
		}
	}
	l.used, l.asked = n.Used, asked
	l.mu.Unlock()
	l.wake()
}

// unseal opens values of secrets, as they are told.
func (l *Link) unseal(all []string) map[string]Opened {
	opened := map[string]Opened{}
	for _, sealed := range all {
		if l.Open == nil {
			opened[sealed] = Opened{Why: "there is no key"}
			continue
		}
		plain, err := l.Open(sealed)
		if err != nil {
			opened[sealed] = Opened{Why: err.Error()}
			continue
		}
		o := Opened{Plain: plain}
		if l.Mark != nil {
			o.Mark = l.Mark(plain)
		}
		opened[sealed] = o
	}
	return opened
}

// references are the artifacts that the agent's sites are asked to have.
func (l *Link) references() []string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return append(slices.Clone(l.used), slices.Sorted(maps.Keys(l.asked))...)
}

// wake has the agent be told of artifacts.
func (l *Link) wake() {
	select {
	case l.poke <- struct{}{}:
	default:
	}
}

// bring sees to it that the engine has what is asked for, and tells the agent how far it is.
func (l *Link) bring(ctx context.Context, p *peer) {
	for {
		l.mu.Lock()
		asked, used := slices.Sorted(maps.Keys(l.asked)), slices.Clone(l.used)
		l.mu.Unlock()
		for _, reference := range used { // which is to stay there
			l.Images.Get(reference)
		}
		news, working := map[string]Artifact{}, false
		for _, reference := range asked {
			a := artifactOf(l.Images.Get(reference))
			working = working || a.Working
			l.mu.Lock()
			if !reflect.DeepEqual(l.told[reference], a) {
				news[reference] = a
			}
			l.mu.Unlock()
		}
		if len(news) > 0 {
			asking, cancel := context.WithTimeout(ctx, askWait)
			err := p.do(asking, http.MethodPost, "/artifacts", news, nil)
			cancel()
			if err == nil {
				l.mu.Lock()
				maps.Copy(l.told, news)
				l.mu.Unlock()
			}
		}
		var again <-chan time.Time
		if working {
			again = time.After(tellEvery)
		}
		select {
		case <-ctx.Done():
			return
		case <-l.poke:
		case <-again:
		}
	}
}

// reached gives the agent, once it is there: one that is being reached is waited for for a while.
func (l *Link) reached(ctx context.Context) (*peer, error) {
	timer := time.NewTimer(patience)
	defer timer.Stop()
	for {
		l.mu.Lock()
		p, why, renewed := l.peer, l.why, l.renewed
		l.mu.Unlock()
		if p != nil && !p.lost() {
			return p, nil
		}
		if p == nil && why != nil {
			return nil, fmt.Errorf("%w: %v", target.ErrUnreachable, why)
		}
		select {
		case <-renewed:
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-timer.C:
			return nil, fmt.Errorf("%w: its agent is being reached", target.ErrUnreachable)
		}
	}
}

// ask asks a site there.
func (l *Link) ask(ctx context.Context, site, question string, q about) (said answer, err error) {
	p, err := l.reached(ctx)
	if err != nil {
		return said, fmt.Errorf("%s: %w", site, err)
	}
	err = p.do(ctx, http.MethodPost, "/sites/"+site+"/"+question, q, &said)
	var refused *socket.Refused
	switch {
	case ctx.Err() != nil:
		return said, ctx.Err()
	case errors.As(err, &refused):
		return said, fmt.Errorf("%s: its agent says %q", site, refused.Why)
	case err != nil:
		return said, fmt.Errorf("%s: %w: %v", site, target.ErrUnreachable, err)
	}
	return said, said.err()
}

var _ dial.Way = (*way)(nil)

// way is the way to the ports of instances there.
type way struct {
	*http.Transport
	link *Link
}

// DialContext connects to a port there.
func (w *way) DialContext(ctx context.Context, _, address string) (net.Conn, error) {
	p, err := w.link.reached(ctx)
	if err != nil {
		return nil, err
	}
	return p.connect(ctx, address)
}
