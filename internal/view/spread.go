package view

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"aditus/internal/core/compare"
	"aditus/internal/core/course"
	"aditus/internal/status"
)

// Spread is who runs what of one workload, over all its sites.
type Spread struct {
	Workload string          `json:"workload"`
	Newest   string          `json:"newest,omitempty"` // version that Git declares, at most of the sites
	Sites    int             `json:"sites"`
	Versions []SpreadVersion `json:"versions"` // what Git declares first, then by how many sites run it
	Now      time.Time       `json:"now"`
}

// SpreadVersion is a version that sites run.
type SpreadVersion struct {
	Version string       `json:"version,omitempty"` // empty where nothing is there
	Sites   []SpreadSite `json:"sites"`             // those that have had it longest first
	First   time.Time    `json:"first,omitzero"`    // since when, the first and the last of them
	Last    time.Time    `json:"last,omitzero"`
	Why     []SpreadWhy  `json:"why,omitempty"` // why they run nothing newer, the most common first
}

// SpreadSite is one site of these.
type SpreadSite struct {
	Site   string    `json:"site"`
	Since  time.Time `json:"since,omitzero"`
	Behind int       `json:"behind,omitempty"` // revisions
	Health string    `json:"health"`
	Why    string    `json:"why,omitempty"` // in words
}

// SpreadWhy is a reason, and at how many sites.
type SpreadWhy struct {
	Reason string `json:"reason"`
	Sites  int    `json:"sites"`
}

// NewSpread tells of a workload who runs what; it has no sites where none declares or runs it.
func NewSpread(s status.Snapshot, workload string) Spread {
	told := Spread{Workload: workload, Now: s.Now, Versions: []SpreadVersion{}}
	declared, byVersion := map[string]int{}, map[string]*SpreadVersion{}
	for _, b := range s.Berths {
		if b.Workload != workload {
			continue
		}
		told.Sites++
		if b.Declared != nil && b.Follows == "" {
			declared[b.Declared.Version]++
		}
		version := ""
		if b.Applied != nil {
			version = b.Applied.Version
		}
		v := byVersion[version]
		if v == nil {
			v = &SpreadVersion{Version: version}
			byVersion[version] = v
		}
		short, long := whyNotNewer(b)
		v.Sites = append(v.Sites, SpreadSite{Site: b.Site, Since: b.AppliedAt, Behind: b.BehindBy, Health: string(b.Health.Word), Why: long})
		if i := slices.IndexFunc(v.Why, func(w SpreadWhy) bool { return w.Reason == short }); i >= 0 {
			v.Why[i].Sites++
		} else if short != "" {
			v.Why = append(v.Why, SpreadWhy{short, 1})
		}
	}
	for version, n := range declared {
		if most := declared[told.Newest]; n > most || n == most && version > told.Newest {
			told.Newest = version
		}
	}
	for _, v := range byVersion {
		slices.SortFunc(v.Sites, func(a, b SpreadSite) int { return cmp.Or(a.Since.Compare(b.Since), cmp.Compare(a.Site, b.Site)) })
		v.First, v.Last = v.Sites[0].Since, v.Sites[len(v.Sites)-1].Since
		slices.SortFunc(v.Why, func(a, b SpreadWhy) int { return cmp.Or(b.Sites-a.Sites, cmp.Compare(a.Reason, b.Reason)) })
		told.Versions = append(told.Versions, *v)
	}
	slices.SortFunc(told.Versions, func(a, b SpreadVersion) int {
		if (a.Version == told.Newest) != (b.Version == told.Newest) {
			if a.Version == told.Newest {
				return -1
			}
			return 1
		}
		return cmp.Or(len(b.Sites)-len(a.Sites), cmp.Compare(b.Version, a.Version))
	})
	return told
}

// whyNotNewer tells why a berth does not run what is declared: in a few words that several share, and in all.
func whyNotNewer(b status.Berth) (short, long string) {
	switch {
	case b.SyncStatus == compare.Unread:
		return "silent", "the site is silent"
	case b.Follows != "":
		return "follow another branch", "follows " + b.Follows
	case b.Rollout != nil:
		return "on the way", "a rollout is under way"
	case b.Declared == nil || b.SyncStatus == compare.Aligned:
		return "", ""
	case b.Lock != nil:
		return "locked", "locked by " + b.Lock.String()
	case b.Bar != nil:
		return "rolled back", b.Bar.Why
	case b.Asks != nil && b.Asks.Kind == course.Signing:
		return "wait for a sign-off", b.Asks.Why
	case b.Asks != nil && b.Offer != nil && b.Offer.Answer == course.PutsOff:
		return "put off by their team", b.Asks.Why
	case b.Asks != nil:
		return "offered", b.Asks.Why
	case b.Offer != nil && b.Offer.Answer == course.Declines:
		return "declined by their team", b.Waits
	case b.SyncStatus == compare.Drifted || b.SyncStatus == compare.Diverged:
		return "changed by hand", b.Waits
	}
	return inShort(b.Waits), b.Waits
}

// inShort is a wait in the few words that several share.
func inShort(waits string) string {
	behind, proven := strings.CutSuffix(waits, " has proven it")
	switch {
	case proven:
		return "wait behind " + strings.TrimPrefix(behind, "waits until ")
	case strings.HasPrefix(waits, "waits until it is proven"):
		return "wait for its time"
	case strings.HasPrefix(waits, "waits for the window"), strings.Contains(waits, "and the window"):
		return "outside their window"
	case strings.Contains(waits, "nothing moves until"):
		return "in a freeze"
	case strings.Contains(waits, "by hand"):
		return "by hand"
	case strings.HasPrefix(waits, "cools down"):
		return "cool down"
	}
	return waits
}
