package cli

import (
	"context"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"aditus/internal/config"
	"aditus/internal/control"
	"aditus/internal/core/berth"
	"aditus/internal/core/policy"
	"aditus/internal/ledger"
	"aditus/internal/status"
)

// completeWait is how long a shell waits for completions.
const completeWait = 2 * time.Second

// known is what completions are made of: the picture of the Aditus that runs, or of what is on record.
type known struct {
	c    control.Reader
	s    status.Snapshot
	args []string // those before
	r    connection
}

// kindsOfWords are what stands in a command's usage, or the name of a flag, and what may be there.
var kindsOfWords = map[string]func(ctx context.Context, k known) []string{
	"BERTH": func(_ context.Context, k known) []string {
		return each(k.s.Berths, func(b status.Berth) string { return b.ID.String() })
	},
	"WORKLOAD": func(_ context.Context, k known) []string {
		return each(k.s.Berths, func(b status.Berth) string { return b.Workload })
	},
	"SITE": func(_ context.Context, k known) []string { return k.s.Sites },
	"LINK": func(_ context.Context, k known) []string {
		return each(k.s.Links, func(l status.Link) string { return l.Name })
	},
	"TEAM": func(_ context.Context, k known) []string {
		return slices.Sorted(maps.Keys(k.s.Policy.Teams))
	},
	"INSTANCE": func(_ context.Context, k known) []string { return k.instances() },
	"PART":     func(_ context.Context, k known) []string { return k.parts() },
	"REVISION": func(ctx context.Context, k known) []string { return k.revisions(ctx) },
	"GUARD":    func(_ context.Context, k known) []string { return k.guards() },
	"ROLLOUT":  func(ctx context.Context, k known) []string { return k.rollouts(ctx) },
	"SECTION":  func(context.Context, known) []string { return config.Sections },
	"SINK":     func(_ context.Context, k known) []string { return k.sinks() },
	"TOKEN":    func(ctx context.Context, k known) []string { return k.tokens(ctx) },
	"SCOPE": func(context.Context, known) []string {
		return each(policy.Scopes, func(s policy.Scope) string { return string(s) })
	},
	"REFERENCE": func(_ context.Context, k known) []string {
		return each(k.s.Links, func(l status.Link) string { return l.Branch })
	},
}

// flagWords are the kinds of words that flags take, by their names.
var flagWords = map[string]string{
	"workload": "WORKLOAD", "site": "SITE", "team": "TEAM", "part": "PART", "guard": "GUARD", "to": "REVISION", "from": "REVISION", "rollout": "ROLLOUT", "scope": "SCOPE", "link": "LINK", "with": "REFERENCE",
}

// each is what is told of each, once, without what is empty.
func each[T any](all []T, of func(T) string) (out []string) {
	for _, one := range all {
		if name := of(one); name != "" {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// berth is the one that was named before.
func (k known) berth() (status.Berth, bool) {
	for _, arg := range k.args {
		if id, err := parseBerth(arg); err == nil {
			return k.s.Find(id)
		}
	}
	return status.Berth{}, false
}

// sinks are those of the settings here; another server tells nobody but who may change them.
func (k known) sinks() []string {
	folder, err := dataFolder(k.r.data)
	if err != nil {
		return nil
	}
	settings, err := readSettings(folder)
	if err != nil {
		return nil
	}
	return each(settings.Sinks, func(s config.Sink) string { return s.Name })
}

func (k known) tokens(ctx context.Context) []string {
	all, err := k.r.allTokens(ctx)
	if err != nil {
		return nil
	}
	return each(all, func(t control.TokenShown) string { return t.Name })
}

func (k known) instances() (names []string) {
	b, _ := k.berth()
	for _, c := range b.Cohorts {
		names = append(names, each(c.Instances, func(i status.Instance) string { return i.ID })...)
	}
	return names
}

func (k known) parts() (names []string) {
	b, _ := k.berth()
	for _, c := range b.Cohorts {
		names = append(names, each(c.Parts, func(p status.Part) string { return p.Name })...)
	}
	slices.Sort(names)
	return slices.Compact(names)
}

func (k known) guards() (names []string) {
	b, _ := k.berth()
	for _, v := range b.Verdicts {
		names = append(names, v.Guard)
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// recent is of how many facts revisions and rollouts are looked for.
const recent = 500

func (k known) facts(ctx context.Context) []ledger.Fact {
	var of berth.ID
	if b, ok := k.berth(); ok {
		of = b.ID
	}
	facts, err := k.c.Facts(ctx, ledger.Query{Berth: of, Newest: recent})
	if err != nil {
		return nil // a completion that cannot be made is none
	}
	return facts
}

func (k known) revisions(ctx context.Context) []string {
	return each(k.facts(ctx), func(f ledger.Fact) string {
		if f.Revision == "" {
			return ""
		}
		return f.Revision.Short()
	})
}

func (k known) rollouts(ctx context.Context) []string {
	return each(k.facts(ctx), func(f ledger.Fact) string {
		if f.Rollout == 0 {
			return ""
		}
		return strconv.FormatInt(f.Rollout, 10)
	})
}

// completions has the shell complete what stands in a command's usage, and what its flags take, from the Aditus that runs.
func completions(cmd *cobra.Command) {
	for _, child := range cmd.Commands() {
		completions(child)
	}
	if words := strings.Fields(cmd.Use)[1:]; cmd.ValidArgsFunction == nil && len(cmd.ValidArgs) == 0 && cmd.Runnable() {
		words = slices.DeleteFunc(words, func(w string) bool { return strings.HasPrefix(w, "-") })
		cmd.ValidArgsFunction = completesArgs(words)
	}
	for flag, word := range flagWords {
		if f := cmd.Flags().Lookup(flag); f != nil && f.Value.Type() != "bool" {
			if _, has := cmd.GetFlagCompletionFunc(flag); !has {
				cmd.RegisterFlagCompletionFunc(flag, completesWord(word))
			}
		}
	}
}

// files are words in whose place a file may stand, which the shell completes.
var files = []string{"FILE", "FOLDER", "PATH", "REPOSITORY"}

type completes = func(cmd *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective)

// completesArgs completes the words of a usage, one after the other; the last goes on where it ends with three dots.
func completesArgs(words []string) completes {
	return func(cmd *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
		at := len(args)
		if n := len(words); n > 0 && at >= n && strings.HasSuffix(strings.TrimSuffix(words[n-1], "]"), "...") {
			at = n - 1
		}
		if at >= len(words) {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		word, _, _ := strings.Cut(strings.Trim(words[at], "[]."), "|")
		return completesWord(word)(cmd, args, typed)
	}
}

// completesWord completes one kind of word.
func completesWord(word string) completes {
	return func(cmd *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
		const only = cobra.ShellCompDirectiveNoFileComp
		of := kindsOfWords[word]
		switch {
		case slices.Contains(files, word):
			return nil, cobra.ShellCompDirectiveDefault
		case of == nil:
			return nil, only
		}
		flag := func(name string) string {
			if f := cmd.Flags().Lookup(name); f != nil {
				return f.Value.String()
			}
			return ""
		}
		r := connection{data: flag("data"), server: flag("server"), tokenFile: flag("token-file"), ca: flag("ca"), cert: flag("client-cert"), key: flag("client-key")}
		ctx, cancel := context.WithTimeout(cmd.Context(), completeWait)
		defer cancel()
		c, _, shut, err := r.client(ctx)
		if err != nil {
			return nil, only
		}
		defer shut()
		before, last := "", typed
		if at := strings.LastIndex(typed, ","); at >= 0 { // several with commas
			before, last = typed[:at+1], typed[at+1:]
		}
		var fit []string
		for _, name := range of(ctx, known{c, c.Snapshot(ctx), args, r}) {
			if strings.HasPrefix(name, last) {
				fit = append(fit, before+name)
			}
		}
		return fit, only
	}
}
