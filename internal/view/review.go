package view

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"aditus/internal/core/say"
	"aditus/internal/status"
)

// mostDone is how many changes of a berth a review names.
const mostDone = 4

// WriteReview tells a review as Markdown (CommonMark with tables), short enough to stand in a discussion of the change: sites with
// the same change are one row.
func WriteReview(w io.Writer, r status.Review, zone *time.Location) error {
	var out strings.Builder
	fmt.Fprintf(&out, "### What %s would do\n\n", quoted(r.Ref))
	if r.Changes() == 0 {
		fmt.Fprintf(&out, "Nothing: all %s stay as they are declared.\n", say.Count(r.Berths, "berth"))
	} else {
		fmt.Fprintf(&out, "%d of %s change.\n", r.Changes(), say.Count(r.Berths, "berth"))
	}
	if r.Rules {
		out.WriteString("\nIt changes the line's rules too: what comes with it must satisfy those from before it as well.\n")
	}
	if len(r.Conflicts) > 0 {
		fmt.Fprintf(&out, "\n**Both changed:** %s, each in its own way; this is told as the change has them.\n", escaped(say.List(r.Conflicts)))
	} else if r.Behind {
		out.WriteString("\nWhat is declared went on since it was made from that; what came since stays as it is.\n")
	}
	for _, work := range r.Workloads {
		fmt.Fprintf(&out, "\n**%s**%s\n\n| sites | version | change | at the earliest | waits for |\n| --- | --- | --- | --- | --- |\n", escaped(work.Workload), onCourse(work))
		var lasting []string
		for _, row := range rows(work, zone) {
			fmt.Fprintf(&out, "| %s | %s | %s | %s | %s |\n", escaped(strings.Join(row.sites, ", ")), escaped(row.version), escaped(row.does), escaped(row.when), escaped(row.waits))
		}
		for _, site := range work.Sites {
			for _, task := range site.Lasting {
				if !slices.Contains(lasting, task) {
					lasting = append(lasting, task)
				}
			}
		}
		if len(lasting) > 0 {
			fmt.Fprintf(&out, "\n**Cannot be undone:** what %s %s, not by a rollback either.\n", escaped(say.List(lasting)), map[bool]string{true: "does", false: "do"}[len(lasting) == 1])
		}
	}
	if r.Kept > 0 {
		fmt.Fprintf(&out, "\nKept as fact %d of the ledger: `aditus compare --kept %d`.\n", r.Kept, r.Kept)
	}
	_, err := io.WriteString(w, out.String())
	return err
}

func onCourse(w status.ReviewWorkload) string {
	switch {
	case w.Course == "":
		return ""
	case w.Off:
		return fmt.Sprintf(", on the course %s, which is off", escaped(w.Course))
	}
	return ", on the course " + escaped(w.Course)
}

// row is one or several sites with the same change.
type row struct {
	sites                      []string
	version, does, when, waits string
}

func rows(w status.ReviewWorkload, zone *time.Location) (all []row) {
	for _, site := range w.Sites {
		next := row{sites: []string{site.Site}, version: site.From + " → " + site.To, does: strings.Join(site.Does, "; ")}
		switch {
		case site.From == "":
			next.version = site.To + ", new"
		case site.To == "":
			next.version = site.From + ", not declared any more"
		case site.From == site.To:
			next.version = site.To
		}
		if more := len(site.Does) - mostDone; more > 0 {
			next.does = strings.Join(site.Does[:mostDone], "; ") + fmt.Sprintf("; %d more", more)
		}
		if leg := site.Leg; leg != nil {
			next.when, next.waits = leg.Comes(zone), strings.Join(leg.Waiting(), "; then ")
		}
		if i := slices.IndexFunc(all, func(r row) bool {
			return r.version == next.version && r.does == next.does && r.when == next.when && r.waits == next.waits
		}); i >= 0 {
			all[i].sites = append(all[i].sites, site.Site)
			continue
		}
		all = append(all, next)
	}
	return all
}

// escaped keeps text from meaning anything in Markdown, in a table too.
func escaped(text string) string {
	var out strings.Builder
	for _, r := range text {
		switch {
		case r == '\n' || r == '\r' || r == '\t':
			out.WriteByte(' ')
		case r < ' ' || r == 0x7f:
		case strings.ContainsRune("\\`*_{}[]<>()#+!|~&", r):
			out.WriteByte('\\')
			out.WriteRune(r)
		case r == '@': // nobody is called by it
			out.WriteString("&#64;")
		default:
			out.WriteRune(r)
		}
	}
	return out.String()
}

// quoted writes text as code.
func quoted(text string) string {
	text = strings.NewReplacer("`", "'", "\n", " ", "\r", " ").Replace(text)
	return "`" + text + "`"
}
