// Package cluster is a site that is a namespace of a cluster, worked through its public API alone: nothing is installed there.
// Parts become objects of the API, cohorts stand side by side, traffic is split by routes of Gateway API where there are any,
// and all that is known comes by watches. It implements target.Driver.
package cluster

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	corev1 "k8s.io/api/core/v1"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"

	"aditus/internal/core/declare"
	"aditus/internal/core/rollout"
	"aditus/internal/target"
)

// Options say what a site stands on.
type Options struct {
	Name      string
	Namespace string
	Line      string   // whose workloads these are; another line's are refused
	Gateway   gateway  // what its routes are attached to; none for the only one that there is
	Pull      []string // names of the Secrets with which its images are pulled
	ReadOnly  bool     // it is only looked at
}

// Site is a namespace as a site. Make it with Connection.Open.
type Site struct {
	Options
	connection *Connection

	mu     sync.Mutex
	follow func(target.Berth)
	shared map[string]time.Time // when a workload's shares were last asked for
	doing  map[string]*sync.Mutex
	lives  map[string]map[string]livePart // by workload, revision and part, as last read

	unpacked map[string]unpackedObjects       // by record, as last read
	accounts map[string]readInventory         // by inventory, as last read
	seen     map[string]map[string]seenObject // by workload, revision, part and ID, as last read
}

// unpackedObjects are the objects of a record, as they stood in it.
type unpackedObjects struct {
	packed  string
	objects map[string]map[string]declare.Object
	forms   map[string]string // by part and ID
}

var (
	_ target.Driver   = (*Site)(nil)
	_ target.Follower = (*Site)(nil)
)

// Open adds a site to a connection that does not run yet.
func (c *Connection) Open(o Options) *Site {
	s := &Site{Options: o, connection: c, shared: map[string]time.Time{}, doing: map[string]*sync.Mutex{}, lives: map[string]map[string]livePart{}, unpacked: map[string]unpackedObjects{}, accounts: map[string]readInventory{}, seen: map[string]map[string]seenObject{}}
	c.mu.Lock()
	defer c.mu.Unlock()
	c.sites = append(c.sites, s)
	return s
}

func (s *Site) place(workload string) place {
	return place{site: s.Name, namespace: s.Namespace, pull: s.Pull, workload: workload}
}

// shareTakes is how long a gateway may take for new shares before that is told.
const shareTakes = 15 * time.Second

func (s *Site) asked(workload string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.shared[workload] = time.Now()
}

// waited tells whether a workload's gateway has had its time.
func (s *Site) waited(workload string) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return time.Since(s.shared[workload]) > shareTakes
}

// Follow implements target.Follower: it hears of every change from the watches.
func (s *Site) Follow(ctx context.Context, changed func(target.Berth)) {
	s.mu.Lock()
	s.follow = changed
	s.mu.Unlock()
	s.changed("") // what changed before is new to whoever follows now
	<-ctx.Done()
	s.mu.Lock()
	s.follow = nil
	s.mu.Unlock()
}

// changed tells whoever follows that there is something new of a workload, or of all where there is none.
func (s *Site) changed(workload string) {
	s.mu.Lock()
	follow := s.follow
	s.mu.Unlock()
	switch {
	case follow == nil:
	case workload != "":
		follow(workload)
	default:
		seen := map[string]bool{}
		for _, o := range list[*unstructured.Unstructured](s.connection.mirror, configMaps, s.Namespace, "") {
			if of := o.GetLabels()[labelWorkload]; of != "" && !seen[of] {
				seen[of] = true
				follow(of)
			}
		}
	}
}

// Apply implements target.Driver. What is so already costs no request.
func (s *Site) Apply(ctx context.Context, workload string, wants []target.Want) error {
	s.mu.Lock()
	one := s.doing[workload]
	if one == nil {
		one = &sync.Mutex{}
		s.doing[workload] = one
	}
	s.mu.Unlock()
	one.Lock()
	defer one.Unlock()
	if err := s.connection.await(ctx, s.Namespace); err != nil {
		return unreachable(s.Name, err)
	}
	var failed []error
	for _, w := range wants {
		records, err := s.records(workload)
		if err == nil {
			err = s.do(ctx, workload, records, w)
		}
		failed = append(failed, err)
	}
	return errors.Join(failed...)
}

func (s *Site) do(ctx context.Context, workload string, records map[declare.Fingerprint]*record, w target.Want) error {
	switch w.Do {
	case target.Note:
		return s.note(ctx, records, w.Step)
	case rollout.Prepare:
		return s.prepare(ctx, workload, records, w)
	case rollout.Scale:
		return s.scale(ctx, workload, records, w)
	case rollout.SetShare:
		return s.setShare(ctx, workload, records, w.Revision, w.Share, w.Rest)
	case rollout.Preview:
		return s.preview(ctx, workload, records, w.Revision)
	case rollout.Run:
		return s.run(ctx, workload, records, w)
	case rollout.MovePart:
		return s.movePart(ctx, workload, records, w)
	case rollout.RemovePart:
		return s.removePart(ctx, records[w.Revision], w.Part)
	case rollout.LetGo:
		return s.release(ctx, records[w.Revision], w.Part)
	case rollout.Relabel:
		return s.relabel(ctx, workload, records, w.From, w.Revision)
	case rollout.Place:
		return s.putObjects(ctx, workload, records, w)
	case rollout.Withdraw:
		return s.withdraw(ctx, workload, records, w)
	case rollout.RemoveObject:
		return s.removeObject(ctx, workload, records, w.Part, w.Object)
	case rollout.Delete:
		return s.delete(ctx, workload, records, w.Revision)
	}
	return fmt.Errorf("%s at %s: nobody knows how to %q", workload, s.Name, w.Do)
}

// applyOnce makes an object as it is given, where it is not so already.
func (s *Site) applyOnce(ctx context.Context, o object) (*unstructured.Unstructured, error) {
	one := &unstructured.Unstructured{Object: o}
	live := s.connection.mirror.get(kindOf(one.GetKind()), one.GetNamespace(), one.GetName())
	if live != nil && live.GetDeletionTimestamp() == nil && len(differences("", o, live.Object)) == 0 {
		return live, nil
	}
	return s.connection.apply(ctx, o)
}

// prepared gives a cohort with a part that is there, or an error that says what could not be done.
func (s *Site) prepared(what, workload string, records map[declare.Fingerprint]*record, revision declare.Fingerprint, part string) (*record, error) {
	r := records[revision]
	if r == nil {
		return nil, fmt.Errorf("%s %s of %s at %s: revision %s was not prepared", what, part, workload, s.Name, revision.Short())
	}
	if _, ok := r.parts[part]; !ok {
		return nil, fmt.Errorf("%s %s of %s at %s: revision %s has no such part", what, part, workload, s.Name, revision.Short())
	}
	return r, nil
}

// pod gives a workload's pod by its name.
func (s *Site) pod(ctx context.Context, workload, name string) (*corev1.Pod, error) {
	if err := s.connection.await(ctx, s.Namespace); err != nil {
		return nil, unreachable(s.Name, err)
	}
	for _, pod := range list[*corev1.Pod](s.connection.mirror, pods, s.Namespace, workload) {
		if pod.Name == name && pod.DeletionTimestamp == nil {
			return pod, nil
		}
	}
	if pod := s.connection.mirror.pod(s.Namespace, name); pod != nil && pod.DeletionTimestamp == nil && s.connection.mirror.workloadOf(pod) == workload {
		return pod, nil
	}
	return nil, fmt.Errorf("%s at %s: %w", name, s.Name, target.ErrNoInstance)
}

// Restart implements target.Driver: a pod is exchanged for another one, as the API starts none anew.
func (s *Site) Restart(ctx context.Context, workload, instance string) error {
	pod, err := s.pod(ctx, workload, instance)
	if err != nil {
		return err
	}
	k := pods
	if pod.Labels[labelWorkload] == "" {
		k = otherPods
	}
	return s.connection.remove(ctx, k, pod)
}
