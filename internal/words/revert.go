package words

import (
	"fmt"
	"strings"

	"aditus/internal/core/rollout"
	"aditus/internal/core/say"
	"aditus/internal/status"
)

// RevertMessage is a commit's message that tells why what Git declares for a berth is taken back, with the evidence.
func RevertMessage(b status.Berth, s rollout.State) string {
	var m strings.Builder
	fmt.Fprintf(&m, "Revert %s to %s\n\n", b.Workload, b.Applied.Version)
	fmt.Fprintf(&m, "%s (%s), “%s” by %s, was rolled back at %s on %s:\n%s.\n", b.Bar.Version, b.Bar.Revision.Short(), b.Declared.Subject, b.Declared.Author, b.Site, b.Bar.At.UTC().Format("2 January 2006 15:04:05 MST"), say.Capital(b.Bar.Why))
	for _, cause := range s.Causes {
		v := cause.Verdict
		if v == nil || v.New == nil {
			continue
		}
		unit := v.Limit.Unit
		fmt.Fprintf(&m, "\n%s\n  limit       %s\n  new         %s, %s to %s, of %s\n", v.Guard, v.Limit, unit.Format(v.New.Value), unit.Format(v.New.Low), unit.Format(v.New.High), say.Number(v.New.Count))
		if v.Old != nil {
			fmt.Fprintf(&m, "  old         %s, of %s\n", unit.Format(v.Old.Value), say.Number(v.Old.Count))
		}
		if v.Difference != nil {
			fmt.Fprintf(&m, "  difference  %s\n", unit.FormatInterval(*v.Difference))
		}
	}
	fmt.Fprintf(&m, "\nWith this %s is declared as it serves: %s (%s).\n", b.Workload, b.Applied.Version, b.Applied.Fingerprint.Short())
	return m.String()
}
