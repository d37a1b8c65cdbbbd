package demo

import (
	"bytes"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/config"
	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/filemode"
	"github.com/go-git/go-git/v5/plumbing/object"
	"github.com/go-git/go-git/v5/storage"

	"aditus/internal/core/declare"
	"aditus/internal/source"
)

//go:embed declarations
var declarations embed.FS

//go:embed bundles/notices.yaml
var notices []byte

//go:embed line.yaml
var rulesOfLine string

//go:embed key.txt
var key []byte

//go:embed behaviour.yaml
var behaviour []byte

const (
	branch     = "main"
	preview    = "preview/quiet-hours"
	watched    = "workloads" // the folder with the declarations
	repoFolder = "skerry-line"
)

const readme = `# Skerry Line

The workloads of the ferry line, one file each in workloads/. What is on the branch main is brought to the sites
drydock, slipway, north, south and isles, in that order.
`

// change is a commit that gives one workload's artifact another version.
type change struct {
	ago      time.Duration // before the story's start
	author   string
	subject  string
	workload string
	version  string
}

const (
	hour = time.Hour
	day  = 24 * time.Hour
)

// oldest are the versions of the first commit, where they differ from the files'.
var oldest = map[string]string{"accounts": "3.1.8", "boarding": "4.11.0", "fares": "8.1.3", "lookout": "5.0.0", "tides": "1.30.0"}

// history is what was committed before the story begins.
var history = []change{
	{21 * day, "Ilse Varga", "Greet by name where a name is known", "boarding", "4.12.1"},
	{12 * day, "Ilse Varga", "Close the gate log once a day", "boarding", "4.12.2"},
	{11 * day, "Joren Falk", "Round fares to the nearest half", "fares", "8.1.4"},
	{9 * day, "Tove Lind", "Let people keep two cards", "accounts", "3.2.0"},
	{8 * day, "Sanna Brekk", "Read the new gauge at the isles", "tides", "1.30.1"},
	{6 * day, "Maren Oake", "Draw tracks in local time", "lookout", "5.0.1"},
	{26 * hour, "Joren Falk", "Day tickets for bicycles", "fares", "8.2.0"},
	{5 * hour, "Ilse Varga", "Read tickets offline", "boarding", "4.13.0"},
	{3 * hour, "Maren Oake", "Keep vessel tracks over midnight", "lookout", "5.0.2"},
}

// declaration gives a workload's file with its artifact at a version; empty for the version in the file.
func declaration(workload, version string) ([]byte, error) {
	text, err := declarations.ReadFile(path.Join("declarations", workload+".yaml"))
	if err != nil || version == "" {
		return text, err
	}
	return setVersion(text, version)
}

// setVersion rewrites the tag of the file's artifact.
func setVersion(text []byte, version string) ([]byte, error) {
	lines := strings.SplitAfter(string(text), "\n")
	for i, line := range lines {
		if strings.HasPrefix(strings.TrimSpace(line), "artifact:") {
			lines[i] = line[:strings.LastIndex(line, ":")+1] + version + "\n"
			return []byte(strings.Join(lines, "")), nil
		}
	}
	return nil, fmt.Errorf("the declaration names no artifact")
}

// committed is a change with the commit it became.
type committed struct {
	change
	commit string
	at     time.Time
	text   []byte
}

func mail(author string) string {
	return strings.ToLower(strings.ReplaceAll(author, " ", ".")) + "@skerry.example"
}

// makeRepository makes the line's repository with its history, and gives the commits oldest first; the first stands
// for every workload once. It writes objects itself, as committing file by file through a work tree takes far longer.
func makeRepository(folder string, start time.Time) ([]committed, error) {
	repository, err := git.PlainInitWithOptions(folder, &git.PlainInitOptions{InitOptions: git.InitOptions{DefaultBranch: plumbing.NewBranchReferenceName(branch)}})
	if err != nil {
		return nil, fmt.Errorf("make the demo's repository: %w", err)
	}
	w := writer{store: repository.Storer, files: map[string]plumbing.Hash{}}
	names, err := fs.Glob(declarations, "declarations/*.yaml")
	if err != nil {
		return nil, err
	}
	var done []committed
	first := change{21 * day, "Maren Oake", "Declare the line's workloads", "", ""}
	for _, f := range beside() {
		w.put(f.Name, f.Text)
	}
	for _, name := range names {
		workload := strings.TrimSuffix(path.Base(name), ".yaml")
		if slices.Contains(special, workload) {
			continue
		}
		text, err := declaration(workload, oldest[workload])
		if err != nil {
			return nil, err
		}
		w.put(workload+".yaml", text)
		c := committed{change: first, at: start.Add(-first.ago), text: text}
		c.workload = workload
		done = append(done, c)
	}
	w.put(declare.LineFile, lineRules(start))
	hash := w.commit(first, start)
	for i := range done {
		done[i].commit = hash.String()
	}
	for _, c := range history {
		text, err := declaration(c.workload, c.version)
		if err != nil {
			return nil, err
		}
		w.put(c.workload+".yaml", text)
		hash = w.commit(c, start)
		done = append(done, committed{c, hash.String(), start.Add(-c.ago), text})
	}
	if w.err != nil {
		return nil, fmt.Errorf("make the demo's repository: %w", w.err)
	}
	previewed := w.preview(hash, start)
	if err := repository.Storer.SetReference(plumbing.NewHashReference(plumbing.NewBranchReferenceName(preview), previewed)); err != nil {
		return nil, err
	}
	if err := repository.Storer.SetReference(plumbing.NewHashReference(plumbing.NewBranchReferenceName(branch), hash)); err != nil {
		return nil, err
	}
	tree, err := repository.Worktree()
	if err == nil {
		err = tree.Reset(&git.ResetOptions{Mode: git.HardReset, Commit: hash})
	}
	if err == nil {
		err = repository.SetConfig(withDefaults(repository))
	}
	return done, err
}

// special are files of the declarations that declare no workload.
var special = []string{"variables", "rules"}

// trialOver is when the trial of the small piers is.
func trialOver(start time.Time) time.Time {
	return start.Add(3 * day).UTC().Truncate(day).Add(12 * hour)
}

// lineRules are the line's rules, with a festival and the end of a trial in the days after the story.
func lineRules(start time.Time) []byte {
	at := func(after time.Duration, clock string) string {
		return start.Add(after).UTC().Format(time.DateOnly) + "T" + clock
	}
	return []byte(strings.NewReplacer(
		"FESTIVAL-OVER", at(7*day, "20:00"), "FESTIVAL", at(5*day, "06:00"), "TRIAL-OVER", trialOver(start).Format("2006-01-02T15:04"),
	).Replace(rulesOfLine))
}

// beside are the files that stand beside the workloads' own: variables, rules, and what differs at single sites.
func beside() []source.File {
	var files []source.File
	names := []string{"variables.yaml", "rules.yaml", "boarding/isles.yaml"}
	for _, workload := range sortedKeys(routed) {
		names = append(names, workload+"/"+drydock+".yaml")
	}
	for _, name := range names {
		text, err := declarations.ReadFile("declarations/" + name)
		if err != nil {
			panic(fmt.Sprintf("the demo's own files: %v", err))
		}
		files = append(files, source.File{Name: name, Text: text})
	}
	return files
}

// quiet is what the preview branch declares for crewing.
func quiet() ([]byte, error) {
	text, err := declaration("crewing", "")
	return bytes.Replace(text, []byte("quiet.from: \"22:00\""), []byte("quiet.from: \"20:30\""), 1), err
}

// previewChange is the one commit of the preview branch.
var previewChange = change{20 * hour, "Sanna Brekk", "Try longer quiet hours", "crewing", "1.18.3"}

// preview makes the branch that one site follows for a while.
func (w *writer) preview(from plumbing.Hash, start time.Time) plumbing.Hash {
	text, err := quiet()
	if err != nil && w.err == nil {
		w.err = err
	}
	before := w.files["crewing.yaml"]
	w.put("crewing.yaml", text)
	hash := w.commit(previewChange, start)
	w.files["crewing.yaml"], w.parent = before, from
	return hash
}

// withDefaults lets whoever tries the demo commit with plain git at once.
func withDefaults(repository *git.Repository) *config.Config {
	c, err := repository.Config()
	if err != nil {
		c = config.NewConfig()
	}
	c.User.Name, c.User.Email = "You", "you@skerry.example"
	return c
}

type writer struct {
	store  storage.Storer
	files  map[string]plumbing.Hash
	parent plumbing.Hash
	err    error
}

func (w *writer) object(encode func(plumbing.EncodedObject) error) plumbing.Hash {
	o := w.store.NewEncodedObject()
	if err := encode(o); err != nil && w.err == nil {
		w.err = err
	}
	hash, err := w.store.SetEncodedObject(o)
	if err != nil && w.err == nil {
		w.err = err
	}
	return hash
}

func (w *writer) blob(text []byte) plumbing.Hash {
	return w.object(func(o plumbing.EncodedObject) error {
		o.SetType(plumbing.BlobObject)
		out, err := o.Writer()
		if err != nil {
			return err
		}
		defer out.Close()
		_, err = out.Write(text)
		return err
	})
}

// tree makes the tree of a folder, with the folders in it, from all files.
func (w *writer) tree(prefix string) *object.Tree {
	t := &object.Tree{}
	for _, name := range sortedKeys(w.files) {
		rest, in := strings.CutPrefix(name, prefix)
		if !in {
			continue
		}
		if below, _, deeper := strings.Cut(rest, "/"); !deeper {
			t.Entries = append(t.Entries, object.TreeEntry{Name: rest, Mode: filemode.Regular, Hash: w.files[name]})
		} else if !slices.ContainsFunc(t.Entries, func(e object.TreeEntry) bool { return e.Name == below }) {
			t.Entries = append(t.Entries, object.TreeEntry{Name: below, Mode: filemode.Dir, Hash: w.object(w.tree(prefix + below + "/").Encode)})
		}
	}
	sort.Sort(object.TreeEntrySorter(t.Entries))
	return t
}

func (w *writer) put(name string, text []byte) { w.files[name] = w.blob(text) }

func (w *writer) commit(c change, start time.Time) plumbing.Hash {
	folder := w.tree("")
	root := &object.Tree{Entries: []object.TreeEntry{
		{Name: "README.md", Mode: filemode.Regular, Hash: w.blob([]byte(readme))},
		{Name: watched, Mode: filemode.Dir, Hash: w.object(folder.Encode)},
	}}
	by := object.Signature{Name: c.author, Email: mail(c.author), When: start.Add(-c.ago)}
	commit := &object.Commit{Author: by, Committer: by, Message: c.subject + "\n", TreeHash: w.object(root.Encode)}
	if !w.parent.IsZero() {
		commit.ParentHashes = []plumbing.Hash{w.parent}
	}
	w.parent = w.object(commit.Encode)
	return w.parent
}

// readable makes the index of the work tree anew where a program that was killed has left half of one: what is committed
// says all that was in it.
func readable(repository *git.Repository, tree *git.Worktree, folder string) error {
	if _, err := repository.Storer.Index(); err == nil {
		return nil
	}
	if err := os.Remove(filepath.Join(folder, git.GitDirName, "index")); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	return tree.Reset(&git.ResetOptions{Mode: git.MixedReset})
}

// push commits a new version of a workload through the work tree, as a person would, on top of whatever is there.
// Doing it twice does no harm.
func push(folder string, c change, now time.Time) error {
	repository, err := git.PlainOpen(filepath.Clean(folder))
	if err != nil {
		return fmt.Errorf("commit to the demo's repository: %w", err)
	}
	tree, err := repository.Worktree()
	if err != nil {
		return fmt.Errorf("commit to the demo's repository: %w", err)
	}
	if err := readable(repository, tree, folder); err != nil {
		return fmt.Errorf("commit to the demo's repository: %w", err)
	}
	name := path.Join(watched, c.workload+".yaml")
	if err := rewrite(filepath.Join(folder, filepath.FromSlash(name)), c.version); err != nil {
		return fmt.Errorf("commit to the demo's repository: %w", err)
	}
	if _, err := tree.Add(name); err != nil {
		return fmt.Errorf("commit to the demo's repository: %w", err)
	}
	by := &object.Signature{Name: c.author, Email: mail(c.author), When: now}
	if _, err := tree.Commit(c.subject+"\n", &git.CommitOptions{Author: by, Committer: by}); err != nil && err != git.ErrEmptyCommit {
		return fmt.Errorf("commit to the demo's repository: %w", err)
	}
	return nil
}
