package source

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"time"

	"github.com/google/go-containerregistry/pkg/authn"
	"github.com/google/go-containerregistry/pkg/name"
	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/google/go-containerregistry/pkg/v1/remote/transport"
	"golang.org/x/sync/errgroup"

	"aditus/internal/config"
	"aditus/internal/core/declare"
	"aditus/internal/core/fault"
	"aditus/internal/disk"
)

// Registries find artifacts. What was found once stays pinned as long as the value lives, so that a tag that moves
// changes nothing by itself.
type Registries struct {
	known       map[string]config.Registry
	credentials func(host string) Credential
	way         http.RoundTripper

	mu      sync.Mutex
	pinned  map[string]string
	vouches map[string]bool    // of digests that are signed as the settings ask for
	files   map[string]archive // by name
}

// archive is a file as it was when it was read last.
type archive struct {
	size   int64
	at     time.Time
	digest string
}

// NewRegistries makes Registries that know hosts, and ask for their credentials; credentials may be nil.
func NewRegistries(known map[string]config.Registry, credentials func(host string) Credential) *Registries {
	r := &Registries{known: known, credentials: credentials, pinned: map[string]string{}, vouches: map[string]bool{}, files: map[string]archive{}}
	r.way = outward(func(host string) bool { _, listed := known[host]; return listed })
	return r
}

// Rebuilt tells which of some pinned references are files that are not what they were pinned to any more, and what to do; nil where
// none is. A file is read again only where its size or time changed.
func (r *Registries) Rebuilt(references []string) error {
	var told []error
	for _, reference := range references {
		name, digest, _ := strings.Cut(strings.TrimPrefix(reference, declare.FileScheme), "@sha256:")
		info, err := os.Stat(name)
		if digest == "" || err != nil || !info.Mode().IsRegular() {
			continue
		}
		r.mu.Lock()
		known := r.files[name]
		r.mu.Unlock()
		if known.digest == "" || known.size != info.Size() || !known.at.Equal(info.ModTime()) {
			now, err := pinFile(context.Background(), name)
			if err != nil {
				continue
			}
			known = archive{size: info.Size(), at: info.ModTime()}
			_, known.digest, _ = strings.Cut(now, "@sha256:")
			r.mu.Lock()
			r.files[name] = known
			r.mu.Unlock()
		}
		if known.digest != digest {
			told = append(told, fmt.Errorf("%s was built anew under the same name, and what was declared stays: declare it under another name, or as %s%s@sha256:%s (what stays is sha256:%.12s)", name, declare.FileScheme, name, known.digest, digest))
		}
	}
	return errors.Join(told...)
}

// Pin holds a reference to the digest that it names beside its tag: HOST/PATH:TAG@sha256:… is what HOST/PATH:TAG stands
// for from now on. Other references are left as they are.
func (r *Registries) Pin(reference string) {
	tagged, _, pinned := strings.Cut(reference, "@")
	if !pinned || !strings.HasPrefix(tagged, declare.FileScheme) && strings.LastIndex(tagged, ":") <= strings.LastIndex(tagged, "/") {
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.pinned[tagged] = reference
}

// Resolutions are what became of references: their pinned form, or why there is none.
type Resolutions struct {
	Pinned   map[string]string
	Problems map[string]error
}

const (
	registriesAtOnce = 8
	registryTimeout  = 10 * time.Second
)

// Resolve pins references to digests: HOST/PATH:TAG becomes HOST/PATH:TAG@sha256:….
func (r *Registries) Resolve(ctx context.Context, references []string) Resolutions {
	found := Resolutions{Pinned: map[string]string{}, Problems: map[string]error{}}
	var mu sync.Mutex
	group := errgroup.Group{}
	group.SetLimit(registriesAtOnce)
	for _, reference := range references {
		group.Go(func() error {
			pinned, err := r.pin(ctx, reference)
			mu.Lock()
			defer mu.Unlock()
			if err != nil {
				found.Problems[reference] = err
			} else {
				found.Pinned[reference] = pinned
			}
			return nil
		})
	}
	group.Wait()
	return found
}

func (r *Registries) pin(ctx context.Context, reference string) (string, error) {
	r.mu.Lock()
	pinned, ok := r.pinned[reference]
	r.mu.Unlock()
	if ok {
		return pinned, r.vouchFor(ctx, pinned)
	}
	if file, ok := strings.CutPrefix(reference, declare.FileScheme); ok {
		if pinned, err := pinFile(ctx, file); err != nil || pinned == file {
			return reference, err
		} else {
			reference = declare.FileScheme + pinned
		}
		r.mu.Lock()
		defer r.mu.Unlock()
		before, _, _ := strings.Cut(reference, "@")
		r.pinned[before] = reference
		return reference, nil
	}
	ref, err := r.parse(reference)
	if err != nil {
		return "", err
	}
	if r.registry(ref.Context().RegistryStr()).Skip {
		return reference, nil
	}
	digest, err := r.digest(ctx, ref)
	if err != nil {
		return "", explainRegistry(ref, err)
	}
	pinned = reference
	if !strings.Contains(reference, "@") {
		pinned = reference + "@" + digest
	}
	if err := r.vouchFor(ctx, pinned); err != nil {
		return "", err
	}
	r.mu.Lock()
	r.pinned[reference] = pinned
	r.mu.Unlock()
	return pinned, nil
}

// vouchFor sees that a pinned artifact is signed, where its registry's settings ask for that. One that was is not asked for again.
func (r *Registries) vouchFor(ctx context.Context, pinned string) error {
	if strings.HasPrefix(pinned, declare.FileScheme) {
		return nil
	}
	ref, err := r.parse(pinned)
	if err != nil {
		return err
	}
	of, exact := ref.(name.Digest)
	signed := r.registry(ref.Context().RegistryStr()).Signed
	if len(signed) == 0 {
		return nil
	}
	if !exact {
		return fmt.Errorf("%w: %s is named by no digest", ErrUnsigned, pinned)
	}
	r.mu.Lock()
	known := r.vouches[of.String()]
	r.mu.Unlock()
	if known {
		return nil
	}
	if _, err = r.vouched(ctx, of, signed); err == nil {
		r.mu.Lock()
		r.vouches[of.String()] = true
		r.mu.Unlock()
	}
	return err
}

// What an archive may have, and how long it may take to read it.
const (
	maxArchive  = 16 << 30
	archiveTime = 2 * time.Minute
)

// pinFile gives an archive with its digest. A layout's images have digests of their own.
func pinFile(ctx context.Context, name string) (string, error) {
	if strings.Contains(name, "@") {
		return name, nil
	}
	if info, err := os.Stat(name); err == nil && info.IsDir() {
		return name, nil
	}
	file, _, err := disk.OpenRegular(name, maxArchive)
	if errors.Is(err, fs.ErrNotExist) {
		layout := name[:max(0, strings.LastIndex(name, ":"))]
		if _, err := os.Stat(filepath.Join(layout, "oci-layout")); layout != "" && err == nil {
			return name, nil
		}
		return "", fmt.Errorf("there is no artifact %s on this machine; put it there, or name one that exists", name)
	}
	if err != nil {
		return "", fmt.Errorf("the artifact %s cannot be read: %w", name, err)
	}
	defer file.Close()
	ctx, cancel := context.WithTimeout(ctx, archiveTime)
	defer cancel()
	sum := sha256.New()
	if _, err := disk.Copy(ctx, sum, file); err != nil {
		return "", fmt.Errorf("the artifact %s cannot be read: %w", name, err)
	}
	return name + "@sha256:" + hex.EncodeToString(sum.Sum(nil)), nil
}

// Fetch gives an image for this machine, by its digest where the reference has one. Its layers are read, and held against
// their digests, when they are asked for. The error is ErrNoArtifact where there is none.
func (r *Registries) Fetch(ctx context.Context, reference string) (v1.Image, error) {
	ref, err := r.parse(reference)
	if err != nil {
		return nil, err
	}
	options := append(r.options(ctx, ref.Context().RegistryStr()), remote.WithPlatform(v1.Platform{OS: runtime.GOOS, Architecture: runtime.GOARCH}))
	image, err := remote.Image(ref, options...)
	if err != nil {
		return nil, explainRegistry(ref, err)
	}
	return image, nil
}

// ErrNoArtifact means that a registry has no such artifact.
var ErrNoArtifact = errors.New("there is no artifact")

// registry says how a host is asked: as it is listed, or as "*" says for all that are not.
func (r *Registries) registry(host string) config.Registry {
	if found, ok := r.known[host]; ok {
		return found
	}
	return r.known["*"]
}

// parse reads a reference. A tag before a digest is for people; the digest decides.
func (r *Registries) parse(reference string) (name.Reference, error) {
	plain := reference
	if before, digest, ok := strings.Cut(reference, "@"); ok {
		if at := strings.LastIndex(before, ":"); at > strings.LastIndex(before, "/") {
			before = before[:at]
		}
		plain = before + "@" + digest
	}
	host, _, _ := strings.Cut(plain, "/")
	var options []name.Option
	if r.registry(host).Plain {
		options = append(options, name.Insecure)
	}
	ref, err := name.ParseReference(plain, options...)
	if err != nil {
		return nil, fmt.Errorf("%q is no OCI reference: write HOST/PATH:TAG", reference)
	}
	return ref, nil
}

// options say how a registry is spoken to: no retries, since whoever waits wants to know.
func (r *Registries) options(ctx context.Context, host string) []remote.Option {
	options := []remote.Option{remote.WithContext(ctx), remote.WithTransport(r.way), remote.WithRetryBackoff(remote.Backoff{Steps: 1}), remote.WithRetryStatusCodes()}
	if r.credentials != nil {
		if c := r.credentials(host); c.Password != "" {
			return append(options, remote.WithAuth(authn.FromConfig(authn.AuthConfig{Username: c.User, Password: c.Password})))
		}
	}
	return append(options, remote.WithAuthFromKeychain(authn.DefaultKeychain))
}

// errLies means that a registry gave something else than what was asked for by its digest.
var errLies = errors.New("what the registry gives does not have the digest that was asked for")

// digest asks a registry for what a reference stands for.
func (r *Registries) digest(ctx context.Context, ref name.Reference) (string, error) {
	ctx, cancel := context.WithTimeout(ctx, registryTimeout)
	defer cancel()
	got, err := remote.Get(ref, r.options(ctx, ref.Context().RegistryStr())...)
	if err != nil {
		return "", err
	}
	return got.Digest.String(), nil // computed from what came, whatever the registry says of it
}

// explainRegistry says what is to be mended.
func explainRegistry(ref name.Reference, err error) error {
	var answered *transport.Error
	host := ref.Context().RegistryStr()
	switch {
	case strings.Contains(err.Error(), "manifest digest"):
		return fmt.Errorf("%s: %w; nothing of it is taken: ask who runs %s", ref, errLies, host)
	case errors.As(err, &answered) && answered.StatusCode == http.StatusNotFound:
		return fmt.Errorf("%w %s; push it, or name one that exists", ErrNoArtifact, ref)
	case errors.As(err, &answered) && (answered.StatusCode == http.StatusUnauthorized || answered.StatusCode == http.StatusForbidden):
		return fmt.Errorf("the registry %s does not let us see %s; give it a credential with: aditus link credential %s", host, ref, host)
	case errors.As(err, &answered):
		return fmt.Errorf("the registry %s answers %s with status %d; try again later", host, ref, answered.StatusCode)
	}
	if within := (*insideError)(nil); errors.As(err, &within) {
		return fmt.Errorf("%s is not asked for: %w; write registries: {%q: {}} there if it should be", ref, within, host)
	}
	return fmt.Errorf("the registry %s cannot be asked for %s (%v); check the network, or have it skipped with registries: {%s: {skip: true}} in the settings", host, ref, fault.Cause(err), host)
}
