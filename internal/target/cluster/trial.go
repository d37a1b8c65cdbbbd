package cluster

import (
	"context"
	"errors"
	"maps"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"
	metav1 "k8s.io/apimachinery/pkg/apis/meta/v1"

	"aditus/internal/core/declare"
	"aditus/internal/target"
)

var _ target.Placer = (*Site)(nil)

// triedAtOnce is how many objects are tried at the same time.
const triedAtOnce = 8

// TryObjects implements target.Placer: it has the server try all objects that are not so already, changing nothing.
func (s *Site) TryObjects(ctx context.Context, workload string, desired declare.Desired) ([]target.Trial, error) {
	if err := s.connection.await(ctx, s.Namespace); err != nil {
		return nil, unreachable(s.Name, err)
	}
	var mu sync.Mutex
	var all []target.Trial
	group, ctx := errgroup.WithContext(ctx)
	group.SetLimit(triedAtOnce)
	for _, name := range slices.Sorted(maps.Keys(desired.Parts)) {
		part := desired.Parts[name]
		defined := definedIn(part)
		for _, id := range slices.Sorted(maps.Keys(part.Objects)) {
			group.Go(func() error {
				one := s.try(ctx, workload, name, id, part, defined)
				mu.Lock()
				defer mu.Unlock()
				all = append(all, one)
				return ctx.Err()
			})
		}
	}
	err := group.Wait()
	slices.SortFunc(all, func(a, b target.Trial) int {
		return declare.ObjectRank(desired.Parts[a.Part].Objects[a.ID]) - declare.ObjectRank(desired.Parts[b.Part].Objects[b.ID])
	})
	return all, err
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
	live := s.liveObject(k, o)
	if live != nil && s.standsAs(live, o) {
		return told
	}
	tried, err := s.putObject(ctx, workload, name, o, part.Opened, true)
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
		return []string{"it is there already, and is taken over as it is"}
	}
	for _, place := range slices.Sorted(maps.Keys(otherwise)) {
		told = append(told, "it is there already, and taking it over changes "+place+", which is "+otherwise[place])
	}
	return told
}
