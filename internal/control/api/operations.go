package api

import (
	"cmp"
	"context"
	"fmt"
	"strconv"
	"time"

	"aditus/internal/config"
	"aditus/internal/control"
	"aditus/internal/core/berth"
	"aditus/internal/core/declare"
	"aditus/internal/core/policy"
	"aditus/internal/ledger"
	"aditus/internal/source"
	"aditus/internal/status"
	"aditus/internal/target"
	"aditus/internal/view"
)

// operation is one thing that can be asked of the server. The handlers, the OpenAPI document and the tests that hold one
// against the other are made from the same list.
type operation struct {
	method, path string
	name         string // operationId
	about        string
	scope        policy.Scope
	query        []parameter
	in, out      any // values of the types of the bodies; nil for none
	do           func(ctx context.Context, c call) (any, error)
}

type parameter struct {
	name, about, kind string // kind is a JSON type
}

// call is one request, as far as it is common to all.
type call struct {
	Control
	berth         berth.ID
	link          string
	sink          string
	section, name string
	tokens        *Tokens
	query         func(name string) string
	in            any // what in points to, read
	who           policy.Actor
}

// Bodies that belong to no other package.
type (
	// Links are those to be read; all where none is named.
	Links struct {
		Links []string `json:"links,omitempty"`
	}
	// Ref is a branch, tag or commit.
	Ref struct {
		With string `json:"with"`
	}
	// Every is a polling interval.
	Every struct {
		Every string `json:"every"` // such as 30s
	}
	// Wish is what is asked for in somebody's name.
	Wish struct {
		By    string  `json:"by,omitempty"` // of no meaning: the account at the socket, or the token, tells who asks
		Guard string  `json:"guard,omitempty"`
		Limit float64 `json:"limit,omitempty"` // in the guard's own unit: shares from 0 to 1, seconds, bytes
	}
	// Fields are fields of a berth, by JSON Pointers (RFC 6901).
	Fields struct {
		Fields []string `json:"fields,omitempty"` // all that were changed by hand, where none is named
	}
	// Answer is a sentence.
	Answer struct {
		Text string `json:"text"`
	}
	// Facts are facts of the ledger, oldest first.
	Facts struct {
		Facts []ledger.Fact `json:"facts"`
	}
	// Tree is what is at a site of a berth.
	Tree struct {
		Nodes []status.Node `json:"nodes"`
	}
	// Sites are all sites, in course order.
	Sites struct {
		Sites []status.Site `json:"sites"`
	}
	// Strays are what nobody put at a site through Aditus.
	Strays struct {
		Strays []status.Stray `json:"strays"`
	}
	// Lines are lines that an instance wrote, oldest first.
	Lines struct {
		Lines []target.LogLine `json:"lines"`
	}
	// Done is the answer to what has nothing to tell.
	Done struct{}
)

const berthPath = "/v1/berths/{workload}/{site}"

var operations = []operation{
	{method: "GET", path: "/v1/snapshot", name: "snapshot", about: "All that is known now: sites, links, berths, problems.", scope: policy.Look, out: status.Snapshot{},
		do: func(ctx context.Context, c call) (any, error) { return c.Snapshot(ctx), nil }},
	{method: "POST", path: "/v1/orders", name: "order", about: "Give an order for a berth. It is answered once it is carried out, or refused with the reason.", scope: policy.Sync, in: berth.Order{}, out: Done{},
		do: func(ctx context.Context, c call) (any, error) {
			return Done{}, c.Do(ctx, c.who, *c.in.(*berth.Order))
		}},
	{method: "POST", path: "/v1/look", name: "look", about: "Read links now.", scope: policy.Sync, in: Links{}, out: Done{},
		do: func(ctx context.Context, c call) (any, error) {
			return Done{}, c.LookNow(ctx, c.who, c.in.(*Links).Links...)
		}},
	{method: "GET", path: berthPath, name: "berth", about: "One workload at one site as it stands.", scope: policy.Look, out: status.Berth{},
		do: func(ctx context.Context, c call) (any, error) {
			b, ok := c.Snapshot(ctx).Find(c.berth)
			if !ok {
				return nil, errNotFound(fmt.Sprintf("there is no berth %s", c.berth))
			}
			return b, nil
		}},
	{method: "GET", path: berthPath + "/watch", name: "watch", about: "The picture of a rollout: stages, traffic, instances, signals, events on one time axis.", scope: policy.Look, out: view.Watch{},
		query: []parameter{{"rollout", "Its number in the ledger; the newest where it is left out.", "integer"}},
		do: func(ctx context.Context, c call) (any, error) {
			id, err := strconv.ParseInt(cmp.Or(c.query("rollout"), "0"), 10, 64)
			if err != nil {
				return nil, errInput("rollout is a number")
			}
			return c.Watch(ctx, c.berth, id)
		}},
	{method: "GET", path: berthPath + "/declared", name: "declared", about: "What Git declares for the berth, as it was read last. Its revision is the SHA-256 of its canonical form (RFC 8785).", scope: policy.Look, out: declare.Desired{},
		do: func(ctx context.Context, c call) (any, error) { return c.Declared(ctx, c.berth) }},
	{method: "GET", path: berthPath + "/compare", name: "compare", about: "Applied, declared and live, field by field, and what a sync would do.", scope: policy.Look, out: view.Comparison{},
		query: []parameter{
			{"with", "A branch, tag, commit or revision to compare with instead of what Git declares.", "string"},
			{"site", "Compare with what is declared at another site.", "string"},
			{"from", "Compare a revision on record, by its fingerprint or version, with the one under to.", "string"},
			{"to", "The revision that from is compared with.", "string"},
		},
		do: func(ctx context.Context, c call) (any, error) {
			return c.Compare(ctx, c.berth, view.Against{Ref: c.query("with"), Site: c.query("site"), From: c.query("from"), To: c.query("to")})
		}},
	{method: "GET", path: berthPath + "/bench", name: "bench", about: "A guard's signal over the berth's history, with the releases of that time.", scope: policy.Look, out: view.Bench{},
		query: []parameter{{"guard", "Its name; the first where it is left out.", "string"}},
		do: func(ctx context.Context, c call) (any, error) {
			return c.Bench(ctx, c.berth, c.query("guard"))
		}},
	{method: "GET", path: berthPath + "/log", name: "log", about: "The newest lines that an instance wrote, oldest first.", scope: policy.Look, out: Lines{},
		query: []parameter{{"instance", "Its name.", "string"}, {"since", "A moment (RFC 3339) before which nothing is told.", "string"}, {"most", "How many lines at most; 200 where it is left out.", "integer"}},
		do: func(ctx context.Context, c call) (any, error) {
			most, err := strconv.Atoi(cmp.Or(c.query("most"), "200"))
			if err != nil || most < 1 || most > mostLines {
				return nil, errInput(fmt.Sprintf("most is a number from 1 to %d", mostLines))
			}
			since, err := time.Parse(time.RFC3339Nano, cmp.Or(c.query("since"), "0001-01-01T00:00:00Z"))
			if err != nil {
				return nil, errInput("since is a moment, such as 2026-03-12T09:30:00Z")
			}
			lines, err := c.Log(ctx, c.berth, c.query("instance"), since, most)
			return Lines{lines}, err
		}},
	{method: "GET", path: "/v1/workloads/{workload}/course", name: "course", about: "When a workload's declared revision comes to the sites of its course, at the earliest.", scope: policy.Look, out: status.Course{},
		query: []parameter{{"with", "A branch, tag or commit of its link, for what that would declare instead.", "string"}},
		do: func(ctx context.Context, c call) (any, error) {
			return c.Course(ctx, c.berth.Workload, c.query("with"))
		}},
	{method: "GET", path: "/v1/sites", name: "sites", about: "What each site runs on, whether that answers, how much room it has, what runs there, and how revisions come to it. Each is asked, for 5 s at most.", scope: policy.Look, out: Sites{},
		do: func(ctx context.Context, c call) (any, error) {
			all, err := c.Sites(ctx)
			return Sites{all}, err
		}},
	{method: "GET", path: "/v1/sites/{site}/strays", name: "strays", about: "What is at a site and nobody put there through Aditus.", scope: policy.Change, out: Strays{},
		do: func(ctx context.Context, c call) (any, error) {
			all, err := c.Strays(ctx, c.berth.Site)
			return Strays{all}, err
		}},
	{method: "POST", path: "/v1/sites/{site}/take-over", name: "takeOver", about: "Offer a workload that is what some strays of a site are, as a declaration on a branch.", scope: policy.Change, in: status.TakeOver{}, out: source.Proposal{},
		do: func(ctx context.Context, c call) (any, error) {
			what := *c.in.(*status.TakeOver)
			what.Site = c.berth.Site
			return c.TakeOver(ctx, c.who, what)
		}},
	{method: "GET", path: "/v1/calendar", name: "calendar", about: "What happens in the line between two moments, as far as it is known.", scope: policy.Look, out: status.Calendar{},
		query: []parameter{{"from", "A moment (RFC 3339); now where it is left out.", "string"}, {"until", "A later one; two weeks later where it is left out.", "string"}},
		do: func(ctx context.Context, c call) (any, error) {
			from, until := c.Snapshot(ctx).Now, time.Time{}
			for name, to := range map[string]*time.Time{"from": &from, "until": &until} {
				if text := c.query(name); text != "" {
					at, err := time.Parse(time.RFC3339Nano, text)
					if err != nil {
						return nil, errInput(name + " is a moment, such as 2026-03-12T09:30:00Z")
					}
					*to = at
				}
			}
			if until.IsZero() {
				until = from.AddDate(0, 0, 14)
			}
			if !until.After(from) {
				return nil, errInput("until is after from")
			}
			return c.Calendar(ctx, from, until)
		}},
	{method: "GET", path: "/v1/review", name: "review", about: "What a branch, tag or commit would change at every site, and what it would meet on its way.", scope: policy.Look, out: status.Review{},
		query: []parameter{{"with", "The branch, tag or commit.", "string"}},
		do: func(ctx context.Context, c call) (any, error) {
			if c.query("with") == "" {
				return nil, errInput("with names a branch, tag or commit")
			}
			return c.Review(ctx, c.query("with"))
		}},
	{method: "POST", path: "/v1/review", name: "keepReview", about: "Put such a review on record.", scope: policy.Sync, in: Ref{}, out: status.Review{},
		do: func(ctx context.Context, c call) (any, error) {
			ref := c.in.(*Ref).With
			if ref == "" {
				return nil, errInput("with names a branch, tag or commit")
			}
			return c.KeepReview(ctx, c.who, ref)
		}},
	{method: "GET", path: "/v1/settings", name: "settings", about: "The settings, without what is secret in them.", scope: policy.Change, out: map[string]any{},
		do: func(ctx context.Context, c call) (any, error) { return c.Settings(ctx, c.who) }},
	{method: "POST", path: "/v1/explore", name: "explore", about: "Look at what a repository, or a bundle in a registry, offers before it is connected: branches, folders with workloads and sites, and what new sites can run on. Nothing is changed.", scope: policy.Change, in: control.Asked{}, out: control.Offer{},
		do: func(ctx context.Context, c call) (any, error) {
			return c.Explore(ctx, c.who, *c.in.(*control.Asked))
		}},
	{method: "PUT", path: "/v1/settings/{section}/{name}", name: "putSetting", about: "Write one entry of links, sites, sinks, follow, registries, metrics-stores or alerts into the settings, as their schema has it. What is of the machine itself, such as programs and files, is written there alone.", scope: policy.Change, in: map[string]any{}, out: Done{},
		do: func(ctx context.Context, c call) (any, error) {
			return Done{}, c.PutSettings(ctx, c.who, nil, config.Entry{Section: c.section, Name: c.name, Value: *c.in.(*map[string]any)})
		}},
	{method: "PUT", path: "/v1/settings", name: "putSettings", about: "Write several of these, all or none, and keep credentials: a link with its credential, and the sites it is for.", scope: policy.Change, in: Settings{}, out: Done{},
		do: func(ctx context.Context, c call) (any, error) {
			s := c.in.(*Settings)
			return Done{}, c.PutSettings(ctx, c.who, s.Credentials, s.Entries()...)
		}},
	{method: "DELETE", path: "/v1/settings/{section}/{name}", name: "dropSetting", about: "Take one out.", scope: policy.Change, out: Done{},
		do: func(ctx context.Context, c call) (any, error) {
			return Done{}, c.DropSetting(ctx, c.who, c.section, c.name)
		}},
	{method: "PUT", path: "/v1/credentials/{name}", name: "putCredential", about: "Keep a credential of a link, a registry's host, or a sink. It is never shown again.", scope: policy.Change, in: source.Credential{}, out: Done{},
		do: func(ctx context.Context, c call) (any, error) {
			return Done{}, c.PutCredential(ctx, c.who, c.name, c.in.(*source.Credential))
		}},
	{method: "DELETE", path: "/v1/credentials/{name}", name: "dropCredential", about: "Forget one.", scope: policy.Change, out: Done{},
		do: func(ctx context.Context, c call) (any, error) {
			return Done{}, c.PutCredential(ctx, c.who, c.name, nil)
		}},
	{method: "POST", path: "/v1/links/{link}/webhook", name: "makeHook", about: "Make the secret of a link's webhook, which is shown this once.", scope: policy.Change, out: Secret{},
		do: func(ctx context.Context, c call) (any, error) {
			secret, err := c.MakeHook(ctx, c.who, c.link)
			return Secret{secret}, err
		}},
	{method: "GET", path: "/v1/tokens", name: "tokens", about: "All tokens, without what is secret of them.", scope: policy.Change, out: TokenList{},
		do: func(ctx context.Context, c call) (any, error) { return c.listTokens(ctx) }},
	{method: "POST", path: "/v1/tokens", name: "makeToken", about: "Make a token, which is shown this once. It may no more than whoever makes it, and is of that one, or a program's own.", scope: policy.Change, in: control.NewToken{}, out: Secret{},
		do: func(ctx context.Context, c call) (any, error) {
			secret, err := c.makeToken(ctx, *c.in.(*control.NewToken))
			return Secret{secret}, err
		}},
	{method: "DELETE", path: "/v1/tokens/{name}", name: "removeToken", about: "Make a token good for nothing, at once.", scope: policy.Change, out: Done{},
		do: func(ctx context.Context, c call) (any, error) { return Done{}, c.removeToken(ctx) }},
	{method: "POST", path: "/v1/sinks/{sink}/test", name: "testSink", about: "Tell a sink of the settings that this is a test.", scope: policy.Sync, out: Done{},
		do: func(ctx context.Context, c call) (any, error) {
			return Done{}, c.TestSink(ctx, c.who, c.sink)
		}},
	{method: "GET", path: berthPath + "/tree", name: "tree", about: "What is at the site of a berth, and what belongs to what.", scope: policy.Look, out: Tree{},
		do: func(ctx context.Context, c call) (any, error) {
			nodes, err := c.Tree(ctx, c.berth)
			return Tree{nodes}, err
		}},
	{method: "GET", path: berthPath + "/sheet", name: "sheet", about: "All that a site knows of one node of a berth's tree.", scope: policy.Look, out: status.Sheet{},
		query: []parameter{{"node", "Its id.", "string"}},
		do: func(ctx context.Context, c call) (any, error) {
			return c.Sheet(ctx, c.berth, c.query("node"))
		}},
	{method: "POST", path: berthPath + "/revert", name: "revert", about: "Offer the revert of the barred revision as a commit on a branch.", scope: policy.Change, in: Wish{}, out: source.Proposal{},
		do: func(ctx context.Context, c call) (any, error) {
			return c.OfferRevert(ctx, c.who, c.berth)
		}},
	{method: "POST", path: berthPath + "/live", name: "live", about: "Offer to declare what was changed by hand as it is there, as a commit on a branch.", scope: policy.Change, in: Fields{}, out: source.Proposal{},
		do: func(ctx context.Context, c call) (any, error) {
			return c.OfferLive(ctx, c.who, c.berth, c.in.(*Fields).Fields)
		}},
	{method: "POST", path: berthPath + "/limit", name: "limit", about: "Offer another limit of a guard as a commit on a branch.", scope: policy.Change, in: Wish{}, out: source.Proposal{},
		do: func(ctx context.Context, c call) (any, error) {
			w := c.in.(*Wish)
			b, err := c.Bench(ctx, c.berth, w.Guard)
			if err != nil {
				return nil, err
			}
			return c.OfferLimit(ctx, c.who, b, w.Limit)
		}},
	{method: "POST", path: "/v1/links/{link}/try", name: "try", about: "Ask a link whether it answers.", scope: policy.Sync, out: Answer{},
		do: func(ctx context.Context, c call) (any, error) {
			text, err := c.Try(ctx, c.who, c.link)
			return Answer{text}, err
		}},
	{method: "POST", path: "/v1/links/{link}/accept", name: "accept", about: "Accept the rewritten history of a link's branch.", scope: policy.Change, out: Done{},
		do: func(ctx context.Context, c call) (any, error) {
			return Done{}, c.Accept(ctx, c.who, c.link)
		}},
	{method: "PUT", path: "/v1/links/{link}/every", name: "every", about: "Change how often a link is polled.", scope: policy.Change, in: Every{}, out: Done{},
		do: func(ctx context.Context, c call) (any, error) {
			every, err := time.ParseDuration(c.in.(*Every).Every)
			if err != nil {
				return nil, errInput("every is a length of time, such as 30s")
			}
			return Done{}, c.SetEvery(ctx, c.who, c.link, every)
		}},
	{method: "GET", path: "/v1/ledger", name: "ledger", about: "What happened, and why, oldest first.", scope: policy.Look, out: Facts{},
		query: []parameter{
			{"workload", "Facts of one workload; site goes with it.", "string"}, {"site", "", "string"}, {"rollout", "Facts of one rollout.", "integer"},
			{"after", "Facts with a larger number only: the first 1000 of them, from where one goes on with the last one's number.", "integer"}, {"newest", "The last so many, of which the first 1000 come; 1000 where it, after and since are left out.", "integer"},
			{"since", "Facts at or after a moment (RFC 3339) only: the first 1000 of them.", "string"},
		},
		do: func(ctx context.Context, c call) (any, error) {
			q, err := c.ledgerQuery()
			if err != nil {
				return nil, err
			}
			facts, err := c.Facts(ctx, q)
			return Facts{facts}, err
		}},
}

// Limits on what one answer holds.
const (
	mostLines = 10_000
	mostFacts = ledger.PageSize
)

func (c call) ledgerQuery() (q ledger.Query, err error) {
	number := func(name string) (n int64) {
		if text := c.query(name); text != "" && err == nil {
			if n, err = strconv.ParseInt(text, 10, 64); err != nil || n < 0 {
				err = errInput(name + " is a number from 0")
			}
		}
		return n
	}
	q = ledger.Query{Berth: berth.ID{Workload: c.query("workload"), Site: c.query("site")}, Rollout: number("rollout"), After: number("after"), Newest: int(number("newest"))}
	if (q.Berth.Workload == "") != (q.Berth.Site == "") {
		return q, errInput("workload and site go together")
	}
	if text := c.query("since"); text != "" && err == nil {
		if q.Since, err = time.Parse(time.RFC3339, text); err != nil {
			err = errInput("since is a moment such as 2026-11-26T08:00:00Z")
		}
	}
	if q.Newest == 0 && q.After == 0 && q.Since.IsZero() {
		q.Newest = mostFacts
	}
	q.Most = mostFacts
	return q, err
}
