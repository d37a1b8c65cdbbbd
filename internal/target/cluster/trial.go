package cluster

import (
	"cmp"
	"context"
	"errors"
	"maps"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"
	apierrors "k8s.io/apimachinery/pkg/api/errors"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"
	"k8s.io/apimachinery/pkg/apis/meta/v1/unstructured"

	"aditus/internal/core/declare"
	"aditus/internal/status"
	"aditus/internal/target"
)

var _ target.Placer = (*Site)(nil)

// triedAtOnce is how many objects are tried at the same time.
const triedAtOnce = 8

// Try implements target.Placer: it has the server try all objects that are not so already, and what runs and keeps state of
// all other parts, changing nothing.
func (s *Site) Try(ctx context.Context, workload string, desired declare.Desired) ([]target.Trial, error) {
	if err := s.connection.await(ctx, s.Namespace); err != nil {
		return nil, unreachable(s.Name, err)
	}
	if s.ReadOnly && apierrors.IsNotFound(s.connection.read(ctx, "/api/v1/namespaces/"+s.Namespace, nil)) {
		return []target.Trial{{Told: []string{"the namespace " + s.Namespace + " is not there yet, and is made with the site"}}}, nil
	}
	records, err := s.records(workload)
	if err != nil {
		return nil, err
	}
	at := s.place(workload)
	at.revision = desired.Fingerprint()
	at.cohort = s.cohortFor(workload, at.revision, records)
	var mu sync.Mutex
	var all []target.Trial
	tell := func(one target.Trial) {
		mu.Lock()
		defer mu.Unlock()
		all = append(all, one)
	}
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(triedAtOnce)
	for _, name := range slices.Sorted(maps.Keys(desired.Parts)) {
		part := desired.Parts[name]
		defined := definedIn(part)
		if part.Kind == declare.Route {
			tell(target.Trial{Part: name, Told: s.notKept(part)})
		}
		group.Go(func() error {
			tell(target.Trial{Part: name, Refused: s.tryPart(ctx, at, name, desired)})
			return ctx.Err()
		})
		for _, id := range slices.Sorted(maps.Keys(part.Objects)) {
			group.Go(func() error {
				tell(s.try(ctx, workload, name, id, part, defined))
				return ctx.Err()
			})
		}
	}
	err = group.Wait()
	slices.SortFunc(all, func(a, b target.Trial) int {
		return cmp.Or(declare.ObjectRank(desired.Parts[a.Part].Objects[a.ID])-declare.ObjectRank(desired.Parts[b.Part].Objects[b.ID]), cmp.Compare(a.Part, b.Part), cmp.Compare(a.ID, b.ID))
	})
	return all, err
}

// tryPart has the server try what runs a part, or keeps its state, and tells why it would not take it.
func (s *Site) tryPart(ctx context.Context, at place, name string, desired declare.Desired) string {
	var o object
	var err error
	switch part := desired.Parts[name]; part.Kind {
	case declare.Service:
		o, err = at.service(name, desired.Parts, part.Instances)
	case declare.Task:
		o, err = at.task(name, desired.Parts)
	case declare.Volume:
		o = at.volume(name, part)
	}
	if err == nil && o != nil {
		one := &unstructured.Unstructured{Object: o}
		err = s.connection.free(ctx, kindOf(one.GetKind()), one)
		if err == nil {
			_, err = s.connection.write(ctx, kindOf(one.GetKind()), one, metav1.ApplyOptions{FieldManager: manager, Force: true, DryRun: []string{metav1.DryRunAll}})
		}
	}
	if err == nil || untried(err) {
		return ""
	}
	return err.Error()
}

// untried tells whether an object was not tried because an admission cannot be asked beforehand.
func untried(err error) bool {
	var said apierrors.APIStatus
	return errors.As(err, &said) && strings.Contains(said.Status().Message, "does not support dry run")
}

// notKept tells what of a route's declaration the cluster does not keep.
func (s *Site) notKept(part declare.Part) (told []string) {
	splits := s.connection.mirror.has(routeKind(part), s.Namespace)
	switch {
	case part.TCP != 0:
	case !splits && part.GRPC && s.connection.mirror.has(routes, s.Namespace):
		told = append(told, "its traffic is split by the numbers of instances, as the cluster has no GRPCRoute, or the account may not list and watch it")
	case !splits:
		told = append(told, "its traffic is split by the numbers of instances, as the cluster has no Gateway API")
	}
	if !splits && (part.Preview != "" || part.PreviewBy != nil) {
		told = append(told, "its preview cannot be reached, as there are no routes there")
	}
	switch keep := part.Sticky; {
	case keep == nil:
	case keep.Header != "":
		told = append(told, "sticky is not kept: no route of a cluster keeps visitors by a header that they send; write cookie:")
	case !splits || !s.connection.keeps.Load() || part.GRPC:
		told = append(told, "sticky is not kept: the cluster's "+routeKind(part).kind+" has no session persistence")
	}
	return told
}

// definedIn are the kinds that a part's own definitions bring.
func definedIn(part declare.Part) map[string]bool {
	kinds := map[string]bool{}
	for _, o := range part.Objects {
		if declare.TextAt(o, "kind") == "CustomResourceDefinition" {
			kinds[declare.TextAt(o, "spec", "names", "kind")+" "+declare.TextAt(o, "spec", "group")] = true
		}
	}
	return kinds
}

// try has the server try one object.
func (s *Site) try(ctx context.Context, workload, name, id string, part declare.Part, defined map[string]bool) target.Trial {
	o, told := part.Objects[id], target.Trial{Part: name, ID: id}
	k, err := s.connection.kindFor(ctx, o)
	if err != nil {
		group, _, _ := strings.Cut(declare.TextAt(o, "apiVersion"), "/")
		if !errors.Is(err, errNoKind) || !defined[declare.TextAt(o, "kind")+" "+group] {
			told.Refused = err.Error()
		}
		return told
	}
	if other := s.alsoAt(k, workload, name, id); other != "" {
		told.Told = append(told.Told, "it is of the whole cluster, and "+other+" has it too: it is as the one of them has it that was synced last, and stays while one of them has it")
	}
	live := s.liveObject(k, o)
	if live != nil && s.standsAs(live, o) {
		return told
	}
	tried, err := s.putObject(ctx, workload, name, o, part.Opened, true)
	if untried(err) {
		told.Told = append(told.Told, "what the cluster would make of it cannot be asked beforehand: "+err.Error())
		return told
	}
	if err != nil {
		told.Refused = err.Error()
		return told
	}
	if tried == live {
		told.Told = append(told.Told, "it is deleted with what it owns and made anew, as a field that changed cannot be changed where it is")
		return told
	}
	if shown, _ := project(withoutSecrets(o), withoutSecrets(tried.Object), nil, s.connection.as); shown != nil {
		otherwise := differences("", withoutSecrets(o), shown)
		for _, place := range slices.Sorted(maps.Keys(otherwise)) {
			told.Told = append(told.Told, "the cluster would make "+place+" "+otherwise[place])
		}
	}
	if there, err := s.isThere(ctx, o); err == nil && there {
		told.Told = append(told.Told, s.takingOver(ctx, k, o, tried.GetNamespace())...)
	}
	return told
}

// takingOver tells what putting an object there makes of one that is there already: fields that nobody looks after are filled in.
func (s *Site) takingOver(ctx context.Context, k kind, o declare.Object, namespace string) (told []string) {
	before, err := s.connection.of(k).Namespace(namespace).Get(ctx, declare.TextAt(o, "metadata", "name"), metav1.GetOptions{})
	if err != nil {
		return []string{"it is there already, and is taken over; how it is there cannot be read: " + short(err.Error())}
	}
	shown, _ := project(withoutSecrets(o), withoutSecrets(before.Object), nil, s.connection.as)
	otherwise := differences("", withoutSecrets(o), shown)
	if len(otherwise) == 0 {
		return []string{status.TakenAsItIs}
	}
	for _, place := range slices.Sorted(maps.Keys(otherwise)) {
		told = append(told, "it is there already, and taking it over changes "+place+", which is "+otherwise[place])
	}
	return told
}
