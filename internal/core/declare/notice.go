package declare

import "aditus/internal/core/calendar"

// Notice is what of all that happens is told to a sink, and when.
type Notice struct {
	Name  string   `json:"name"`
	To    string   `json:"to"`              // a sink of the settings
	About []string `json:"about,omitempty"` // kinds of facts, or patterns; needs, for what needs a person, where it is left out
	Selector
	Quiet  *calendar.Times `json:"quiet,omitempty"`  // when nothing is told; afterwards all at once
	Digest string          `json:"digest,omitempty"` // a cron expression: all at once at these times
	Zone   string          `json:"zone,omitempty"`   // of both; UTC where it is left out
}

func (r *reader) notices(n Node, pointer string) (all []Notice) {
	r.several(n, pointer, "notices", func(item Node, p string) (string, bool) {
		var own Notice
		text := func(to *string, key string) func(Node, string) {
			return func(n Node, p string) { *to = r.text(n, p, key) }
		}
		known := map[string]func(Node, string){
			"name": text(&own.Name, "name"), "to": text(&own.To, "to"), "zone": text(&own.Zone, "zone"), "digest": text(&own.Digest, "digest"),
			"about": func(n Node, p string) { own.About = r.patterns(n, p, "about") },
			"quiet": func(n Node, p string) {
				own.Quiet = &calendar.Times{}
				q := own.Quiet
				r.fields(n, p, "quiet", []string{"starts", "rule", "lasts"}, map[string]func(Node, string){
					"zone": text(&q.Zone, "zone"), "starts": func(n Node, _ string) { q.Starts = n.Text }, "rule": text(&q.Rule, "rule"), "lasts": text(&q.Lasts, "lasts"),
				})
			},
		}
		r.selector(known, &own.Selector)
		if !r.fields(item, p, "a notice", []string{"name", "to"}, known) {
			return "", false
		}
		all = append(all, own)
		return own.Name, true
	})
	return all
}
