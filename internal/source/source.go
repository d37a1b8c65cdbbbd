// Package source is where declarations come from: it reads a folder at a commit of a Git repository, or a bundle in an
// OCI registry, and parses what is there. What a declaration means is package declare's part.
package source

import (
	"context"
	"errors"
	"fmt"
	"path"
	"strings"
	"time"

	"github.com/go-git/go-git/v5/plumbing"
)

// Link is a connection to a repository: what to watch of it. Repository is a local path, a URL with https, http, ssh,
// git or file, USER@HOST:PATH, or oci://HOST/PATH for a bundle.
type Link struct {
	Name       string            `yaml:"name"`
	Repository string            `yaml:"repository"`
	Branch     string            `yaml:"branch,omitempty"` // one of Branch, Tag, Commit; none of them for a bundle
	Tag        string            `yaml:"tag,omitempty"`
	Commit     string            `yaml:"commit,omitempty"`
	Version    string            `yaml:"version,omitempty"` // of a bundle: a version, a range of them, or a digest
	Folder     string            `yaml:"folder,omitempty"`
	Every      time.Duration     `yaml:"every"`                 // between two looks
	Variables  map[string]string `yaml:"variables,omitempty"`   // set over those declared, as on the command line
	KnownHosts string            `yaml:"known-hosts,omitempty"` // file of the keys of ssh hosts; left out for the user's own
	CA         string            `yaml:"ca,omitempty"`          // file of further certificates to trust
	Plain      bool              `yaml:"plain,omitempty"`       // of a bundle: the registry speaks http
	Push       bool              `yaml:"push,omitempty"`        // branches with offered changes may be written to it
}

// Ref is what the link watches, in a word: a branch, a tag, a commit, or a bundle's version.
func (l Link) Ref() string {
	switch {
	case l.Branch != "":
		return l.Branch
	case l.Tag != "":
		return "tag " + l.Tag
	case l.Commit != "":
		return fmt.Sprintf("commit %.7s", l.Commit)
	}
	return "version " + l.Version
}

// At is the link to another branch or commit of the same repository, or another version of the same bundle.
func (l Link) At(ref string) Link {
	switch {
	case l.Bundle():
		l.Version = ref
	case plumbing.IsHash(ref):
		l.Branch, l.Tag, l.Commit = "", "", ref
	default:
		l.Branch, l.Tag, l.Commit = ref, "", ""
	}
	return l
}

// Bundle tells whether the link is to a bundle in a registry.
func (l Link) Bundle() bool { return strings.HasPrefix(l.Repository, ociScheme) }

// Check tells what is wrong with how a link is written.
func (l Link) Check() error {
	given := 0
	for _, ref := range []string{l.Branch, l.Tag, l.Commit} {
		if ref != "" {
			given++
		}
	}
	folder := path.Clean("/" + l.Folder)
	switch {
	case l.Name == "" || l.Repository == "":
		return errors.New("a link needs a name and a repository")
	case strings.ContainsAny(l.Name, " /\\\t\n"):
		return fmt.Errorf("a link's name is one word without slashes, not %q", l.Name)
	case l.Bundle() && (given > 0 || l.Version == ""):
		return fmt.Errorf("link %s: a bundle has a version, such as 1.4.2, ^1.4 or sha256:…, and no branch, tag or commit", l.Name)
	case !l.Bundle() && given != 1:
		return fmt.Errorf("link %s: name one of branch, tag and commit", l.Name)
	case !l.Bundle() && l.Version != "":
		return fmt.Errorf("link %s: only a bundle has a version; name a branch, tag or commit", l.Name)
	case l.Folder != "" && l.Folder != "." && folder[1:] != strings.TrimSuffix(l.Folder, "/"):
		return fmt.Errorf("link %s: the folder %q must be written plainly from the repository's root, without .. and without a slash before it", l.Name, l.Folder)
	case l.Every < time.Second:
		return fmt.Errorf("link %s: it is polled every %s; 1s is the least", l.Name, l.Every)
	}
	return nil
}

// What can be wrong with a link. Each comes wrapped in a sentence that says what to do.
var (
	ErrUnreachable = errors.New("the repository cannot be reached")
	ErrNotFound    = errors.New("the repository was not found")
	ErrRefused     = errors.New("the repository refuses these credentials")
	ErrKeyUnknown  = errors.New("the host's key is not known")
	ErrNoBranch    = errors.New("the branch is missing")
	ErrNoVersion   = errors.New("no version fits")
	ErrNoFolder    = errors.New("the folder is missing")
	ErrRewritten   = errors.New("the branch was rewritten")
)

// Credential is what opens a repository. It is never printed.
type Credential struct {
	User       string `json:"user,omitempty"`
	Password   string `json:"password,omitempty"` // or a token
	Key        string `json:"key,omitempty"`      // of ssh, in PEM
	Passphrase string `json:"passphrase,omitempty"`
}

// String keeps a credential out of logs and screens.
func (c Credential) String() string { return "a credential" }

// GoString does so where it is printed in Go's own form.
func (c Credential) GoString() string { return c.String() }

// Access is what a look needs beside the link: the credential, and a folder for a copy of what is far away.
type Access struct {
	Credential Credential
	Cache      string // empty where nothing may be kept
}

// Commit is where a declaration came from. Of a bundle its hash is the digest.
type Commit struct {
	Hash    string    `json:"hash"`
	Subject string    `json:"subject"`
	Author  string    `json:"author"`
	At      time.Time `json:"at"`
}

// Seen is what is known of a link already: what was read last.
type Seen struct {
	Commit string `json:"commit"` // its hash
	Tree   string `json:"tree"`   // the folder's tree hash: what decides whether anything changed
}

// File is a file of the watched folder with the commit that changed it last. Its name is from the folder's root.
type File struct {
	Name   string
	Text   []byte
	Commit Commit
}

// Look is what a look at a link gave.
type Look struct {
	Seen
	Head    Commit
	Changed bool   // the folder's content differs from what was seen before
	Files   []File // when Changed: what is in it, by name
	Ref     string // of a bundle: the version that was taken
}

// LookAt reads a link. It is not Changed when the folder is as in seen. A branch whose history no longer holds the
// commit seen before gives ErrRewritten, unless accept is set.
func LookAt(ctx context.Context, link Link, access Access, seen Seen, accept bool) (Look, error) {
	if link.Bundle() {
		return lookAtBundle(ctx, link, access, seen)
	}
	return lookAtGit(ctx, link, access, seen, accept)
}

// special are files of a folder that are no declarations of a workload.
const (
	variablesFile = "variables.yaml"
	rulesFile     = "rules.yaml"
)

// IsDeclaration tells whether a file's name says that it belongs to declarations.
func IsDeclaration(name string) bool {
	return strings.HasSuffix(name, ".yaml") || strings.HasSuffix(name, ".yml")
}

// Limits on a folder, far above what declarations need.
const (
	maxFiles      = 20_000
	maxFolderSize = 256 << 20
)
