package config

import (
	"errors"
	"fmt"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/go-git/go-git/v5/plumbing/transport"

	"aditus/internal/signature"
)

// Registry says how a registry is asked.
type Registry struct {
	Skip  bool `yaml:"skip,omitempty" jsonschema:"default=false" jsonschema_description:"Do not ask it; its artifacts are taken as they are named."`
	Plain bool `yaml:"plain,omitempty" jsonschema:"default=false" jsonschema_description:"It speaks http."`

	Signed []string `yaml:"signed,omitempty" jsonschema_description:"Only what is signed by one of these is taken from it: files of X.509 certificates in PEM, or these themselves. A signature is one by the Notary Project's specification, beside the artifact."`
}

// Local gives the path of a repository on this machine; empty where it is elsewhere.
func (l Link) Local() string {
	if rest, ok := strings.CutPrefix(l.Repository, "file://"); ok {
		return rest
	}
	if strings.Contains(l.Repository, "://") || scpForm(l.Repository) {
		return ""
	}
	return l.Repository
}

// Where is the repository's address without what is secret in it.
func (l Link) Where() string {
	if l.Local() != "" || l.Bundle() {
		return l.Repository
	}
	endpoint, err := transport.NewEndpoint(l.Repository)
	if err != nil {
		return "the repository"
	}
	endpoint.Password = ""
	if endpoint.Protocol != "ssh" {
		endpoint.User = ""
	}
	return endpoint.String()
}

// Link is a connection to a repository: what to watch of it. Repository is a local path, a URL with https, http, ssh,
// git or file, USER@HOST:PATH, or oci://HOST/PATH for a bundle.
type Link struct {
	Name       string            `yaml:"name" jsonschema:"required,pattern=^[^ /]+$"`
	Repository string            `yaml:"repository" jsonschema:"required,minLength=1" jsonschema_description:"A local path; an address with https, http, ssh, git or file; USER@HOST:PATH; oci://HOST/PATH."`
	Branch     string            `yaml:"branch,omitempty" jsonschema:"minLength=1" jsonschema_description:"One of branch, tag and commit; none of them for a bundle."`
	Tag        string            `yaml:"tag,omitempty" jsonschema:"minLength=1"`
	Commit     string            `yaml:"commit,omitempty" jsonschema:"pattern=^[0-9a-f]{40}$"`
	Version    string            `yaml:"version,omitempty" jsonschema:"minLength=1" jsonschema_description:"Of a bundle: a version, a range such as ^1.4, or a digest."`
	Folder     string            `yaml:"folder,omitempty"`
	Workload   string            `yaml:"workload,omitempty" jsonschema:"pattern=^[a-z][a-z0-9]*(-[a-z0-9]+)*$" jsonschema_description:"Of a folder that has only objects of a cluster's API: which workload they are."`
	Sites      []string          `yaml:"sites,omitempty" jsonschema_description:"Of such a folder: where they run."`
	Every      time.Duration     `yaml:"every" jsonschema:"required" jsonschema_description:"Between two looks."`
	Variables  map[string]string `yaml:"variables,omitempty" jsonschema_description:"Set over those declared, as on the command line."`
	KnownHosts string            `yaml:"known-hosts,omitempty" jsonschema_description:"A file of the keys of ssh hosts; left out for the user's own."`
	CA         string            `yaml:"ca,omitempty" jsonschema_description:"A file of further certificates to trust."`
	Plain      bool              `yaml:"plain,omitempty" jsonschema:"default=false" jsonschema_description:"Of a bundle: the registry speaks http."`
	May        *May              `yaml:"may,omitempty" jsonschema_description:"What those who may push there may declare: everything, or what is listed. Where it is left out it is everything for the only link that there is, and nothing as soon as there are several."`
	Must       string            `yaml:"must,omitempty" jsonschema:"pattern=^/" jsonschema_description:"A file of this machine, by its whole path, that says what holds whatever is declared there: least guards, soaks, sign-offs, and rules."`
	Signed     []string          `yaml:"signed,omitempty" jsonschema_description:"Only what is signed by one of these is taken: files of keys by their whole path, or the keys themselves. Of a repository public keys of SSH, lists of allowed signers, and armoured keys of OpenPGP; of a bundle X.509 certificates in PEM."`
	Off        bool              `yaml:"off,omitempty" jsonschema:"default=false" jsonschema_description:"It is not read any more; what it declared stays declared."`
	Push       bool              `yaml:"push,omitempty" jsonschema:"default=false" jsonschema_description:"Branches with offered changes may be written to it; never the one that is watched."`
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

// SSH tells whether the repository is reached by ssh.
func (l Link) SSH() bool {
	return strings.HasPrefix(l.Repository, "ssh://") || !strings.Contains(l.Repository, "://") && scpForm(l.Repository)
}

// Bundle tells whether the link is to a bundle in a registry.
func (l Link) Bundle() bool { return strings.HasPrefix(l.Repository, BundleScheme) }

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
	case (l.Workload == "") != (len(l.Sites) == 0):
		return fmt.Errorf("link %s: workload: and sites: go together, for a folder that has only objects of a cluster's API", l.Name)
	case l.May != nil && l.May.check() != nil:
		return fmt.Errorf("link %s: may: %w", l.Name, l.May.check())
	case l.Must != "" && !filepath.IsAbs(l.Must):
		return fmt.Errorf("link %s: must: %q is no file by its whole path", l.Name, l.Must)
	case l.signed() != nil:
		return fmt.Errorf("link %s: signed: %w", l.Name, l.signed())
	case l.Every < time.Second:
		return fmt.Errorf("link %s: it is polled every %s; 1s is the least", l.Name, l.Every)
	}
	return nil
}

// signed tells what is wrong with the keys whose signatures it asks for.
func (l Link) signed() error { return checkKeys(l.Signed) }

// checkKeys tells what is wrong with keys that are written out. Files of some are read when they are needed.
func checkKeys(signed []string) error {
	_, err := signature.Read(slices.DeleteFunc(slices.Clone(signed), filepath.IsAbs))
	return err
}

// scpForm tells whether a repository is written USER@HOST:PATH.
func scpForm(repository string) bool {
	host, _, ok := strings.Cut(repository, ":")
	return ok && strings.Contains(host, "@") && !strings.ContainsAny(host, "/\\")
}

// BundleScheme is that of bundles in a registry.
const BundleScheme = "oci://"
