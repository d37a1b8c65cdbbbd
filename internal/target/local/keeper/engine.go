package keeper

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"aditus/internal/core/say"
	"aditus/internal/target/containers/host"
)

// How an engine is looked after: it is tried again while it is silent, and asked whether it still answers while nothing happens there.
const (
	engineAgain = time.Second
	engineBeat  = 10 * time.Second
	engineWait  = 5 * time.Second
	engineFails = 2 // answers that do not come, until it counts as silent: one that has much to do may be slow
	engineSlots = 8 // containers that are made, started and ended at a time: with more of them it answers nobody
)

// LabelAgent is on the containers and volumes of agents, which work with an engine from within it: whose they are.
const LabelAgent = "aditus.agent"

// LabelKeeper is on all that a keeper has an engine make: whose it is.
const LabelKeeper = "aditus.keeper"

// engine is a container engine with the containers that are kept there.
type engine struct {
	*host.Host
	owner string // of what is made there, as it stands in labels
	news  func() // tells all sites that something is new
	slots chan struct{}

	mu     sync.Mutex
	kept   map[string]*process    // by container
	gone   map[string]chan ending // of each, has one when it ended
	silent string                 // why it does not answer; empty where it does
	known  bool                   // it answered, or did not

	networks map[string]*sync.RWMutex // by name: held for reading while something is made in one, and for writing while it is taken away
}

// network guards a network of the engine.
func (e *engine) network(name string) *sync.RWMutex {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.networks[name] == nil {
		e.networks[name] = new(sync.RWMutex)
	}
	return e.networks[name]
}

// engine gives the engine at an address.
func (k *Keeper) engine(address string) *engine {
	k.mu.Lock()
	defer k.mu.Unlock()
	e := k.engines[address]
	if e == nil {
		e = &engine{Host: host.New(address), owner: OwnerOf(k.options.Folder), slots: make(chan struct{}, engineSlots), kept: map[string]*process{}, gone: map[string]chan ending{}, networks: map[string]*sync.RWMutex{}}
		e.news = func() {
			for _, s := range k.all() {
				s.news.add()
			}
		}
		k.engines[address] = e
		go e.run(k.left)
	}
	return e
}

// OwnerOf is what a data folder's containers are known by.
func OwnerOf(folder string) string {
	sum := sha256.Sum256([]byte(folder))
	return hex.EncodeToString(sum[:8])
}

// run hears what happens at the engine until the keeper leaves.
func (e *engine) run(left <-chan struct{}) {
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	go func() {
		<-left
		cancel()
	}()
	for ctx.Err() == nil {
		life, end := context.WithCancelCause(ctx)
		go e.beat(life, end)
		err := e.Events(life, func() { go e.look(life) }, func(event host.Event) { e.happened(life, event) })
		if why := context.Cause(life); ctx.Err() == nil && why != nil {
			err = why
		}
		end(nil)
		if ctx.Err() != nil {
			return
		}
		if err == nil {
			err = errors.New("it ended the stream of what happens there")
		}
		e.told(err)
		select {
		case <-ctx.Done():
		case <-time.After(engineAgain):
		}
	}
}

// beat asks the engine whether it still answers, and ends its life where it does not.
func (e *engine) beat(ctx context.Context, end context.CancelCauseFunc) {
	ticker := time.NewTicker(engineBeat)
	defer ticker.Stop()
	for failed := 0; ; {
		asking, cancel := context.WithTimeout(ctx, engineWait)
		_, err := e.Ping(asking)
		cancel()
		switch failed++; {
		case ctx.Err() != nil:
			return
		case err == nil:
			failed = 0
		case failed >= engineFails:
			end(err)
			return
		default:
			continue
		}
		select {
		case <-ctx.Done():
			return
		case <-ticker.C:
		}
	}
}

// told notes whether the engine answers.
func (e *engine) told(err error) {
	why := ""
	if err != nil {
		why = err.Error()
	}
	e.mu.Lock()
	news := !e.known || e.silent != why
	e.silent, e.known = why, true
	e.mu.Unlock()
	if news {
		e.news()
	}
}

// says tells why the engine is silent; empty where it answers, and while that is not known yet.
func (e *engine) says() string {
	e.mu.Lock()
	defer e.mu.Unlock()
	return e.silent
}

// look sees how all that is kept there is doing: something may have happened while nobody heard it.
func (e *engine) look(ctx context.Context) {
	all, err := e.List(ctx, nil) // what was taken over carries no label
	if ctx.Err() != nil {
		return
	}
	if e.told(err); err != nil {
		return
	}
	runs := map[string]bool{}
	for _, c := range all {
		runs[c.ID] = c.State == "running" || c.State == "paused"
	}
	e.mu.Lock()
	var ended, on []string
	for id := range e.kept {
		if runs[id] {
			on = append(on, id)
		} else {
			ended = append(ended, id)
		}
	}
	e.mu.Unlock()
	for _, id := range ended {
		e.ended(ctx, id)
	}
	for _, id := range on {
		e.changed(ctx, id)
	}
}

// happened takes what an engine tells of a container.
func (e *engine) happened(ctx context.Context, event host.Event) {
	e.mu.Lock()
	_, own := e.kept[event.ID]
	e.mu.Unlock()
	if !own {
		return
	}
	switch event.Action {
	case "die", "died", "remove", "destroy":
		e.ended(ctx, event.ID)
	case "start", "stop", "kill", "exec", "exec_create", "exec_start", "exec_died", "create", "init", "attach", "sync", "cleanup", "mount", "unmount", "health_status":
	default: // paused, changed, brought into another network
		e.changed(ctx, event.ID)
	}
}

// attend has a process hear when its container ends.
func (e *engine) attend(id string, p *process) *running {
	now := &running{container: id, gone: make(chan ending, 1)}
	e.mu.Lock()
	e.kept[id], e.gone[id] = p, now.gone
	e.mu.Unlock()
	return now
}

// enter waits until there is room for one more container to be made, started or ended.
func (e *engine) enter(ctx context.Context) (leave func(), err error) {
	select {
	case e.slots <- struct{}{}:
		return func() { <-e.slots }, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

func (e *engine) forget(id string) {
	e.mu.Lock()
	defer e.mu.Unlock()
	delete(e.kept, id)
	delete(e.gone, id)
}

// ended tells the process of a container that it ended, and how.
func (e *engine) ended(ctx context.Context, id string) {
	c, err := e.Inspect(ctx, id)
	how := ending{}
	switch {
	case errors.Is(err, host.ErrNotFound):
		how.why = "its container was removed"
	case err != nil:
		return // it is looked at again once the engine answers
	case c.State.Running || c.State.Status == "created" || c.State.Status == "configured":
		time.AfterFunc(engineAgain, func() { e.look(ctx) }) // it was started anew, or is about to; or the engine does not know yet
		return
	default:
		how = endingOf(c.State)
		if lines, err := e.Log(ctx, id, time.Time{}, 1); err == nil && len(lines) > 0 {
			how.last = lines[0].Text
		}
	}
	e.mu.Lock()
	gone := e.gone[id]
	delete(e.kept, id)
	delete(e.gone, id)
	e.mu.Unlock()
	if gone != nil {
		gone <- how
	}
}

// endingOf is how a container ended.
func endingOf(s host.State) ending {
	how := ending{status: s.ExitCode, known: true}
	switch {
	case s.OOMKilled:
		how.why = "killed: it used all of its memory"
	case s.Error != "":
		how.why = s.Error
	case s.ExitCode == 137:
		how.why = "killed, or out of memory (status 137)"
	}
	return how
}

// changed sees what somebody changed of a container.
func (e *engine) changed(ctx context.Context, id string) {
	e.mu.Lock()
	p := e.kept[id]
	e.mu.Unlock()
	if p == nil {
		return
	}
	c, err := e.Inspect(ctx, id)
	if err != nil {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.spec.Container == nil {
		return
	}
	all := changedOf(p.spec, c)
	if p.record.Found { // it is in what networks it was, and held to what it was
		all = slices.DeleteFunc(all, func(what string) bool { return what != isPaused })
	}
	if !slices.Equal(all, p.used.byHand) {
		p.used.byHand, p.changed = all, p.site.news.add()
	}
}

// isPaused is what is told of a container that somebody paused.
const isPaused = "paused"

// changedOf is what of a container is not as it was made, in words.
func changedOf(spec Process, is host.Container) (all []string) {
	made := spec.Container
	if is.State.Paused || is.State.Status == "paused" {
		all = append(all, isPaused)
	}
	if l := spec.Limits; l != nil {
		if l.Memory != is.HostConfig.Memory {
			all = append(all, "held to "+orNone(is.HostConfig.Memory, say.Bytes)+" of memory")
		}
		if want := int64(l.CPU * 1e9); want/1e7 != is.HostConfig.NanoCpus/1e7 {
			all = append(all, "held to "+orNone(is.HostConfig.NanoCpus, func(n int64) string { return fmt.Sprintf("%.3g of a processor", float64(n)/1e9) }))
		}
	}
	if is.Config.Image != made.Image {
		all = append(all, "of the image "+is.Config.Image)
	}
	for _, m := range is.Mounts {
		if (m.Type == "bind" || m.Type == "volume") && !slices.ContainsFunc(made.Mounts, func(own host.Mount) bool {
			return own.Target == m.Destination && (own.Source == m.Source || own.Source == m.Name) && own.ReadOnly != m.RW
		}) {
			all = append(all, "with another "+m.Type+" at "+m.Destination)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(is.NetworkSettings.Networks)) {
		if name != made.Network {
			all = append(all, "in the network "+name)
		}
	}
	if _, in := is.NetworkSettings.Networks[made.Network]; !in && made.Network != "" && is.State.Running {
		all = append(all, "out of its network")
	}
	return all
}

func orNone(n int64, say func(int64) string) string {
	if n == 0 {
		return "no limit"
	}
	return say(n)
}
