// Package source is where declarations come from: it reads a folder at a commit of a Git repository, or a bundle in an
// OCI registry, and parses what is there. What a declaration means is package declare's part.
package source

import (
	"context"
	"errors"
	"strings"
	"time"

	"aditus/internal/config"
)

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
	Signed  string    `json:"signed,omitempty"` // who vouches for it, where the link asks for that; who Author is, the commit claims
}

// Seen is what is known of a link already: what was read last.
type Seen struct {
	Commit string `json:"commit"` // its hash
	Tree   string `json:"tree"`   // the folder's tree hash: what decides whether anything changed; empty to have it read whatever it is
}

// asked is the commit that need not be read again; empty for none.
func (s Seen) asked() string {
	if s.Tree == "" {
		return ""
	}
	return s.Commit
}

// File is a file of the watched folder with the commit that changed it last. Its name is from the folder's root.
type File struct {
	Name   string
	Text   []byte
	Commit Commit
}

// Answer is what a look at a link gave.
type Answer struct {
	Seen
	Head    Commit
	Changed bool   // the folder's content differs from what was seen before
	Files   []File // when Changed: what is in it, by name
	Ref     string // of a bundle: the version that was taken
}

// Ask reads a link. It is not Changed when the folder is as in seen. A branch whose history no longer holds the
// commit seen before gives ErrRewritten, unless accept is set.
func Ask(ctx context.Context, link config.Link, access Access, seen Seen, accept bool) (Answer, error) {
	if link.Bundle() {
		return askBundle(ctx, link, access, seen)
	}
	return askGit(ctx, link, access, seen, accept)
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
