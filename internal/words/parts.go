package words

import (
	"cmp"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"aditus/internal/core/declare"
	"aditus/internal/core/say"
)

// mostKinds are so many kinds of objects that are named.
const mostKinds = 4

// Parts tells what a revision is made of, in the order in which it comes up.
func Parts(d declare.Desired) (told []string) {
	for _, wave := range d.Waves(slices.Collect(maps.Keys(d.Parts))...) {
		for _, name := range wave {
			told = append(told, partOf(name, d.Parts[name]))
		}
	}
	return told
}

func partOf(name string, p declare.Part) string {
	from := ""
	if p.Artifact != "" {
		artifact, _, _ := strings.Cut(p.Artifact, "@")
		from = " of " + path.Base(artifact)
	}
	switch p.Kind {
	case declare.Service:
		return times(name, p.Instances) + from
	case declare.Task:
		return fmt.Sprintf("the task %s%s", name, from)
	case declare.Settings, declare.Secret:
		return fmt.Sprintf("%s (%s)", name, say.Count(max(len(p.Values), len(p.Sealed)), "value"))
	case declare.Volume:
		return fmt.Sprintf("the volume %s of %s", name, say.Bytes(p.Size))
	case declare.Route:
		if p.TCP != 0 {
			return fmt.Sprintf("TCP port %d to %s", p.TCP, p.Service)
		}
		return fmt.Sprintf("%s to %s", cmp.Or(p.Host, "any host"), p.Service)
	case declare.Objects:
		return fmt.Sprintf("%s: %s", name, ObjectsByKind(slices.Collect(maps.Keys(p.Objects))))
	}
	return name
}

// times tells how many there are of something: app × 2.
func times(name string, n int) string {
	if n == 1 {
		return name
	}
	return fmt.Sprintf("%s × %d", name, n)
}

// ObjectsByKind counts objects of a cluster's API by their kinds, given as Kind/name, the most frequent first.
func ObjectsByKind(ids []string) string {
	counts := map[string]int{}
	for _, id := range ids {
		kind, _, _ := strings.Cut(id, "/")
		kind, _, _ = strings.Cut(kind, ".")
		counts[kind]++
	}
	kinds := slices.SortedFunc(maps.Keys(counts), func(a, b string) int {
		return cmp.Or(counts[b]-counts[a], strings.Compare(a, b))
	})
	var told []string
	for _, kind := range kinds {
		told = append(told, times(kind, counts[kind]))
	}
	return say.Few(told, mostKinds)
}
