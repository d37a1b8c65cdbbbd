package source

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/go-git/go-git/v5"
	gitconfig "github.com/go-git/go-git/v5/config"
	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/object"
	"github.com/go-git/go-git/v5/plumbing/transport"
	"github.com/go-git/go-git/v5/plumbing/transport/http"
	gitssh "github.com/go-git/go-git/v5/plumbing/transport/ssh"
	"github.com/go-git/go-git/v5/storage/memory"
	"golang.org/x/crypto/ssh/knownhosts"

	"aditus/internal/config"
	"aditus/internal/core/fault"
	"aditus/internal/dial"
)

// placed is the access with a folder for the copy, which goes with done where it has none of its own.
func (a Access) placed(link config.Link) (with Access, done func(), err error) {
	if a.Cache != "" || link.Local() != "" {
		return a, func() {}, nil
	}
	if a.Cache, err = os.MkdirTemp("", "aditus-link-"); err != nil {
		return a, nil, fmt.Errorf("look at %s: %w", link.Where(), err)
	}
	return a, func() { os.RemoveAll(a.Cache) }, nil
}

// errSpoilt means that what was fetched before cannot be read: a power cut or somebody's hand damaged it.
var errSpoilt = errors.New("the copy of the repository is damaged")

// askGit reads the folder at the head of what a link watches. A copy that is damaged is fetched anew.
func askGit(ctx context.Context, link config.Link, access Access, seen Seen, accept bool) (Answer, error) {
	access, done, err := access.placed(link)
	if err != nil {
		return Answer{}, err
	}
	defer done()
	answer, err := askCopy(ctx, link, access, seen, accept)
	if errors.Is(err, errSpoilt) && link.Local() == "" {
		if err := os.RemoveAll(access.Cache); err != nil {
			return Answer{}, fmt.Errorf("%w, and cannot be removed: %v", errSpoilt, err)
		}
		answer, err = askCopy(ctx, link, access, seen, accept)
	}
	return answer, err
}

func askCopy(ctx context.Context, link config.Link, access Access, seen Seen, accept bool) (Answer, error) {
	repository, hash, err := reach(ctx, link, access, seen.asked())
	if err != nil {
		return Answer{}, err
	}
	if hash.String() == seen.asked() {
		return Answer{Seen: seen}, nil
	}
	head, err := commitAt(repository, hash)
	if err != nil {
		return Answer{}, fmt.Errorf("%w: %s: commit %.7s: %w", ErrUnreachable, link.Repository, hash, errors.Join(errSpoilt, err))
	}
	if seen.Commit != "" && !accept && link.Branch != "" {
		if err := follows(repository, head, seen.Commit); err != nil && !errors.Is(err, ErrRewritten) && !errors.Is(err, plumbing.ErrObjectNotFound) {
			return Answer{}, fmt.Errorf("%s: %w: %v", link.Repository, errSpoilt, err)
		} else if err != nil {
			return Answer{}, fmt.Errorf("%w: %s no longer holds %.7s, which was taken from it; put that history back, or accept the new one", ErrRewritten, link.Branch, seen.Commit)
		}
	}
	by := ""
	if len(link.Signed) > 0 {
		if by, err = signedHead(repository, link, hash, head); err != nil {
			return Answer{}, err
		}
	}
	folder, err := folderOf(head, link.Folder)
	if err != nil && !errors.Is(err, object.ErrDirectoryNotFound) {
		return Answer{}, fmt.Errorf("%s: %w: %v", link.Repository, errSpoilt, err)
	} else if err != nil {
		return Answer{}, fmt.Errorf("%w: commit %.7s on %s has no folder %q; put it back, or name another in the settings", ErrNoFolder, head.Hash, link.Ref(), link.Folder)
	}
	look := Answer{Seen: Seen{Commit: head.Hash.String(), Tree: folder.Hash.String()}, Head: commitOf(head)}
	if look.Tree == seen.Tree {
		return look, nil
	}
	look.Changed = true
	look.Files, err = readTree(ctx, head, folder, link.Folder)
	for i := range look.Files {
		look.Files[i].Commit.Signed = by // which vouches for what it came from
	}
	look.Head.Signed = by
	return look, err
}

// reach gives the repository, or a copy that holds what is needed of it, and the commit that the link watches. Where
// that is the one seen before nothing is fetched.
func reach(ctx context.Context, link config.Link, access Access, seen string) (*git.Repository, plumbing.Hash, error) {
	if name := link.Local(); name != "" {
		repository, err := git.PlainOpenWithOptions(name, &git.PlainOpenOptions{EnableDotGitCommonDir: true})
		if err != nil {
			return nil, plumbing.ZeroHash, fmt.Errorf("%w: %s: %v; check that the folder is there and is a Git repository", ErrUnreachable, name, err)
		}
		refs, err := repository.References()
		if err != nil {
			return nil, plumbing.ZeroHash, fmt.Errorf("%w: %s: %v", ErrUnreachable, name, err)
		}
		defer refs.Close()
		guardObjects(repository)
		hash, err := resolve(link, func(name plumbing.ReferenceName) (plumbing.Hash, bool) {
			ref, err := repository.Reference(name, true)
			if err != nil {
				return plumbing.ZeroHash, false
			}
			return ref.Hash(), true
		})
		return repository, hash, err
	}
	known, way, err := list(ctx, link, access)
	if err != nil {
		return nil, plumbing.ZeroHash, err
	}
	hash, err := resolve(link, func(name plumbing.ReferenceName) (plumbing.Hash, bool) {
		if peeled, ok := known[name+"^{}"]; ok {
			return peeled, true
		}
		hash, ok := known[name]
		return hash, ok
	})
	if err != nil || hash.String() == seen {
		return nil, hash, err
	}
	repository, err := fetch(ctx, link, access, hash, &git.FetchOptions{RemoteURL: link.Repository, Auth: way.auth, CABundle: way.bundle, Tags: git.NoTags, Force: true})
	var network *net.OpError
	switch {
	case err == nil, errors.Is(err, ErrNoBranch), errors.Is(err, errTooLarge):
	case ctx.Err() != nil, errors.As(err, &network), errors.Is(err, io.EOF):
		err = explainGit(link, err)
	default: // it has just said what it has, so that this is rather of the copy
		err = fmt.Errorf("%w: %w", errSpoilt, explainGit(link, err))
	}
	return repository, hash, err
}

// Branches lists the branches of a link's repository with the commits that they are at. Nothing is fetched.
func Branches(ctx context.Context, link config.Link, access Access) (map[string]string, error) {
	found := map[string]string{}
	take := func(name plumbing.ReferenceName, hash plumbing.Hash) {
		if name.IsBranch() {
			found[name.Short()] = hash.String()
		}
	}
	if name := link.Local(); name != "" {
		repository, err := git.PlainOpenWithOptions(name, &git.PlainOpenOptions{EnableDotGitCommonDir: true})
		if err != nil {
			return nil, fmt.Errorf("%w: %s: %v; check that the folder is there and is a Git repository", ErrUnreachable, name, err)
		}
		refs, err := repository.Branches()
		if err != nil {
			return nil, fmt.Errorf("%w: %s: %v", ErrUnreachable, name, err)
		}
		defer refs.Close()
		err = refs.ForEach(func(ref *plumbing.Reference) error {
			take(ref.Name(), ref.Hash())
			return nil
		})
		return found, err
	}
	known, _, err := list(ctx, link, access)
	for name, hash := range known {
		take(name, hash)
	}
	return found, err
}

// way is what it takes to ask a repository far away.
type way struct {
	auth   transport.AuthMethod
	bundle []byte // certificates to trust
}

// answerWithin is how long a repository may take to say what it has; to give it may take longer.
const answerWithin = 10 * time.Second

// list asks a repository far away for all that it has.
func list(ctx context.Context, link config.Link, access Access) (known map[plumbing.ReferenceName]plumbing.Hash, w way, err error) {
	if w.auth, err = auth(link, access.Credential); err != nil {
		return nil, w, err
	}
	if link.CA != "" {
		if w.bundle, err = os.ReadFile(link.CA); err != nil {
			return nil, w, fmt.Errorf("link %s: read the certificates to trust: %w", link.Name, err)
		}
	}
	remote := git.NewRemote(memory.NewStorage(), &gitconfig.RemoteConfig{Name: git.DefaultRemoteName, URLs: []string{link.Repository}})
	ctx, cancel := context.WithTimeout(ctx, answerWithin)
	defer cancel()
	refs, err := remote.ListContext(ctx, &git.ListOptions{Auth: w.auth, CABundle: w.bundle, PeelingOption: git.AppendPeeled})
	if err != nil {
		return nil, w, explainGit(link, err)
	}
	known = map[plumbing.ReferenceName]plumbing.Hash{}
	for _, ref := range refs {
		known[ref.Name()] = ref.Hash()
	}
	return known, w, nil
}

// fetch brings what the link watches into its copy. A branch comes with its history, which tells who changed what and
// whether it was rewritten; a tag or a commit never moves, so that its one commit is enough.
func fetch(ctx context.Context, link config.Link, access Access, hash plumbing.Hash, o *git.FetchOptions) (*git.Repository, error) {
	repository, err := openCopy(access.Cache)
	if err != nil {
		return nil, fmt.Errorf("open the copy of %s in %s: %w", link.Repository, access.Cache, err)
	}
	switch {
	case link.Branch != "":
		name := plumbing.NewBranchReferenceName(link.Branch)
		o.RefSpecs = []gitconfig.RefSpec{gitconfig.RefSpec(fmt.Sprintf("+%s:%s", name, name))}
	case link.Tag != "":
		o.Depth = 1
		name := plumbing.NewTagReferenceName(link.Tag)
		o.RefSpecs = []gitconfig.RefSpec{gitconfig.RefSpec(fmt.Sprintf("+%s:%s", name, name))}
	default:
		o.Depth = 1
		o.RefSpecs = []gitconfig.RefSpec{gitconfig.RefSpec(fmt.Sprintf("%s:refs/heads/pinned", hash))}
	}
	o.RemoteName = git.DefaultRemoteName
	remote := git.NewRemote(repository.Storer, &gitconfig.RemoteConfig{Name: git.DefaultRemoteName, URLs: []string{link.Repository}})
	err = remote.FetchContext(ctx, o)
	if _, missing := repository.CommitObject(hash); link.Commit != "" && missing != nil {
		// Not every server gives a commit by its hash alone; it may be on one of the branches.
		o.Depth, o.RefSpecs = 0, []gitconfig.RefSpec{"+refs/heads/*:refs/heads/*"}
		err = remote.FetchContext(ctx, o)
		if _, missing := repository.CommitObject(hash); missing != nil && (err == nil || errors.Is(err, git.NoErrAlreadyUpToDate)) {
			err = fmt.Errorf("%w: commit %.7s is on none of its branches; push it, or name another", ErrNoBranch, hash)
		}
	}
	if errors.Is(err, git.NoErrAlreadyUpToDate) {
		err = nil
	}
	return repository, err
}

// sweep removes what a fetch that did not come to its end has left in a copy.
func sweep(cache string) error {
	var failed []error
	for _, left := range []string{"objects/pack/tmp_pack_*", "objects/pack/tmp_idx_*", "objects/tmp_obj_*", "objects/??/tmp_obj_*"} {
		names, _ := filepath.Glob(filepath.Join(cache, left)) // the pattern is right
		for _, name := range names {
			failed = append(failed, os.Remove(name))
		}
	}
	return errors.Join(failed...)
}

// resolve gives the commit that the link watches.
func resolve(l config.Link, find func(plumbing.ReferenceName) (plumbing.Hash, bool)) (plumbing.Hash, error) {
	switch {
	case l.Commit != "":
		if !plumbing.IsHash(l.Commit) {
			return plumbing.ZeroHash, fmt.Errorf("%w: %q is no whole commit hash; write all 40 characters", ErrNoBranch, l.Commit)
		}
		return plumbing.NewHash(l.Commit), nil
	case l.Tag != "":
		if hash, ok := find(plumbing.NewTagReferenceName(l.Tag)); ok {
			return hash, nil
		}
		return plumbing.ZeroHash, fmt.Errorf("%w: %s has no tag %q; push it, or name another in the settings", ErrNoBranch, l.Repository, l.Tag)
	}
	if hash, ok := find(plumbing.NewBranchReferenceName(l.Branch)); ok {
		return hash, nil
	}
	return plumbing.ZeroHash, fmt.Errorf("%w: %s has no branch %q; push it, or name another in the settings", ErrNoBranch, l.Repository, l.Branch)
}

// auth gives the way in. Without a credential ssh uses the agent and the user's own files, all else goes in unnamed.
func auth(l config.Link, c Credential) (transport.AuthMethod, error) {
	endpoint, err := transport.NewEndpoint(l.Repository)
	if err != nil {
		return nil, fmt.Errorf("%w: %q is no address of a repository: %v", ErrNotFound, l.Repository, err)
	}
	switch endpoint.Protocol {
	case "ssh":
		user := endpoint.User
		if c.User != "" {
			user = c.User
		}
		if user == "" {
			user = "git"
		}
		var files []string
		if l.KnownHosts != "" {
			files = []string{l.KnownHosts}
		}
		hosts, err := gitssh.NewKnownHostsCallback(files...)
		if err != nil {
			return nil, fmt.Errorf("%w: no file of known hosts can be read: %v; write one with ssh-keyscan, look at it, and name it in known-hosts", ErrKeyUnknown, err)
		}
		switch {
		case c.Key != "":
			keys, err := gitssh.NewPublicKeys(user, []byte(c.Key), c.Passphrase)
			if err != nil {
				return nil, fmt.Errorf("%w: the ssh key cannot be used: %v; give the key, and its passphrase if it has one, again", ErrRefused, err)
			}
			keys.HostKeyCallback = hosts
			return keys, nil
		case c.Password != "":
			return &gitssh.Password{User: user, Password: c.Password, HostKeyCallbackHelper: gitssh.HostKeyCallbackHelper{HostKeyCallback: hosts}}, nil
		}
		agent, err := gitssh.NewSSHAgentAuth(user)
		if err != nil {
			return nil, fmt.Errorf("%w: there is no key: give one with aditus link add --key FILE, or start an ssh agent", ErrRefused)
		}
		agent.HostKeyCallback = hosts
		return agent, nil
	case "http", "https":
		if c.Password == "" {
			return nil, nil
		}
		if c.User == "" {
			c.User = "token" // servers that take tokens do not look at the name, but want one
		}
		if endpoint.Protocol == "http" && !dial.Loopback(endpoint.Host) {
			return nil, fmt.Errorf("%w: a password would go over the network unencrypted; use https", ErrRefused)
		}
		return &http.BasicAuth{Username: c.User, Password: c.Password}, nil
	}
	return nil, nil
}

// explainGit turns what a transport says into what is to be mended. Addresses may hold passwords, so only the host is told.
func explainGit(l config.Link, err error) error {
	where := l.Where()
	var key *knownhosts.KeyError
	var network *net.OpError
	var dns *net.DNSError
	text := err.Error()
	switch {
	case errors.Is(err, context.Canceled):
		return err
	case errors.Is(err, transport.ErrRepositoryNotFound):
		return fmt.Errorf("%w: %s; check the address, and that these credentials may read it", ErrNotFound, where)
	case errors.Is(err, transport.ErrEmptyRemoteRepository):
		return fmt.Errorf("%w: %s has no commit yet; push one", ErrNoBranch, where)
	case errors.Is(err, transport.ErrAuthenticationRequired):
		return fmt.Errorf("%w: %s asks who you are; give a user and a token with: aditus link add", ErrRefused, where)
	case errors.Is(err, transport.ErrAuthorizationFailed), strings.Contains(text, "unable to authenticate"):
		return fmt.Errorf("%w: %s; check that the user, token or key is right and has not ended", ErrRefused, where)
	case errors.As(err, &key), strings.Contains(text, "knownhosts:"):
		if key != nil && len(key.Want) > 0 || strings.Contains(text, "key mismatch") {
			return fmt.Errorf("%w: %s shows another key than the one on record: somebody may sit in between; ask who runs it before you change the file of known hosts", ErrKeyUnknown, where)
		}
		return fmt.Errorf("%w: %s; write its key into the file of known hosts with ssh-keyscan, and compare it with the one its owner tells", ErrKeyUnknown, where)
	case strings.Contains(text, "x509:"), strings.Contains(text, "tls:"):
		return fmt.Errorf("%w: the certificate of %s is not trusted; name the one that signed it in ca (%v)", ErrUnreachable, where, fault.Cause(err))
	case errors.As(err, &dns):
		return fmt.Errorf("%w: there is no host %s; check the address", ErrUnreachable, dns.Name)
	case errors.Is(err, context.DeadlineExceeded):
		return fmt.Errorf("%w: %s took the call and says nothing; check that the server is well", ErrUnreachable, where)
	case errors.As(err, &network), errors.Is(err, io.EOF):
		return fmt.Errorf("%w: %s does not answer (%v); check the network and that the server runs", ErrUnreachable, where, fault.Cause(err))
	}
	return fmt.Errorf("%w: %s: %v", ErrUnreachable, where, fault.Cause(err))
}

// At gives the link to another branch or commit of the same repository, or another version of the same bundle.
func At(l config.Link, ref string) config.Link {
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
