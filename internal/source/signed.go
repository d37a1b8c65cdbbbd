package source

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/object"
	"github.com/google/go-containerregistry/pkg/name"
	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/google/go-containerregistry/pkg/v1/static"
	"github.com/google/go-containerregistry/pkg/v1/types"

	"aditus/internal/config"
	"aditus/internal/signature"
)

// ErrUnsigned means that what a link or a registry gives is not signed by anybody whose signature the settings ask for.
var ErrUnsigned = errors.New("it is not signed as the settings ask for")

// unsigned is an error that is an ErrUnsigned too, which its own words say already.
type unsigned struct{ error }

// Is implements errors.Is.
func (unsigned) Is(other error) bool { return other == ErrUnsigned }

// Unwrap is for errors.Is.
func (u unsigned) Unwrap() error { return u.error }

func refused(format string, args ...any) error {
	return unsigned{fmt.Errorf(format, args...)}
}

// signedHead sees that what a link watches is signed by one of the link's keys, and gives who did: the commit, or the tag that leads to
// it. The commit vouches for all that is in it, and for what it came from.
func signedHead(repository *git.Repository, link config.Link, at plumbing.Hash, head *object.Commit) (by string, err error) {
	keys, err := signature.Read(link.Signed)
	if err != nil {
		return "", fmt.Errorf("link %s: %w", link.Name, err)
	}
	if tag, err := repository.TagObject(at); err == nil {
		if by, err := signerOf(repository, keys, plumbing.TagObject, at); err == nil && tag.Name == link.Tag {
			return by, nil
		}
	}
	by, err = signerOf(repository, keys, plumbing.CommitObject, head.Hash)
	if err != nil {
		return "", refused("commit %.7s on %s, which says that it is by %s, is not taken: %w; have it signed with a key that stands under signed: of the link", head.Hash, link.Ref(), head.Author.Name, err)
	}
	return by, nil
}

// signerOf tells who signed an object of a repository.
func signerOf(repository *git.Repository, keys signature.Keys, kind plumbing.ObjectType, hash plumbing.Hash) (string, error) {
	raw, err := repository.Storer.EncodedObject(kind, hash)
	if err != nil {
		return "", err
	}
	reader, err := raw.Reader()
	if err != nil {
		return "", err
	}
	text, err := io.ReadAll(reader)
	if err = errors.Join(err, reader.Close()); err != nil {
		return "", err
	}
	return keys.Commit(text, time.Now())
}

// Bounds on the signatures of one artifact.
const (
	maxSignatures = 50
	maxSignature  = 1 << 20
)

// vouched sees that an artifact is signed by one of some keys, and gives by whom. Its signatures are manifests that refer to it, as the
// distribution specification of the OCI has it.
func (r *Registries) vouched(ctx context.Context, of name.Digest, signed []string) (by string, err error) {
	keys, err := signature.Read(signed)
	if err != nil {
		return "", err
	}
	ctx, cancel := context.WithTimeout(ctx, registryTimeout)
	defer cancel()
	options := r.options(ctx, of.RegistryStr())
	index, err := remote.Referrers(of, append(options, remote.WithFilter("artifactType", signature.ArtifactType))...)
	if err != nil {
		return "", explainRegistry(of, err)
	}
	list, err := index.IndexManifest()
	if err != nil {
		return "", explainRegistry(of, err)
	}
	why, tried := signature.ErrUnsigned, 0
	for _, m := range list.Manifests {
		if m.ArtifactType != signature.ArtifactType {
			continue
		}
		if tried++; tried > maxSignatures {
			break
		}
		by, err := r.vouch(ctx, of, m, keys)
		if err == nil {
			return by, nil
		}
		if why == signature.ErrUnsigned || errors.Is(why, signature.ErrUnknown) {
			why = err
		}
	}
	return "", refused("%s is not taken: %w; have it signed by one whose certificate the settings list", of, why)
}

// vouch looks at one signature.
func (r *Registries) vouch(ctx context.Context, of name.Digest, m v1.Descriptor, keys signature.Keys) (string, error) {
	image, err := remote.Image(of.Context().Digest(m.Digest.String()), r.options(ctx, of.RegistryStr())...)
	if err != nil {
		return "", explainRegistry(of, err)
	}
	manifest, err := image.Manifest()
	if err != nil {
		return "", explainRegistry(of, err)
	}
	layers, err := image.Layers()
	if err != nil || len(layers) != 1 || manifest.Layers[0].Size > maxSignature {
		return "", errors.New("one of its signatures is damaged")
	}
	mediaType := string(manifest.Layers[0].MediaType)
	if !slices.Contains(signature.EnvelopeTypes, mediaType) {
		return "", fmt.Errorf("one of its signatures is of the kind %q, which is not known here", mediaType)
	}
	content, err := layers[0].Compressed()
	if err != nil {
		return "", explainRegistry(of, err)
	}
	envelope, err := io.ReadAll(io.LimitReader(content, maxSignature))
	if err = errors.Join(err, content.Close()); err != nil {
		return "", explainRegistry(of, err)
	}
	return keys.Artifact(of.DigestStr(), mediaType, envelope, time.Now())
}

// Sign puts a signature of an artifact beside it. The artifact is named by its digest.
func (r *Registries) Sign(ctx context.Context, reference string, signer signature.Signer) error {
	ref, err := r.parse(reference)
	if err != nil {
		return err
	}
	got, err := remote.Get(ref, r.options(ctx, ref.Context().RegistryStr())...)
	if err != nil {
		return explainRegistry(ref, err)
	}
	envelope, mediaType, sums, err := signer.Sign(signature.Target{MediaType: string(got.MediaType), Digest: got.Digest.String(), Size: got.Size}, time.Now())
	if err != nil {
		return err
	}
	image := mutate.MediaType(empty.Image, types.OCIManifestSchema1)
	if image, err = mutate.AppendLayers(image, static.NewLayer(envelope, types.MediaType(mediaType))); err != nil {
		return fmt.Errorf("make the signature: %w", err)
	}
	image = mutate.ConfigMediaType(image, signature.ArtifactType)
	image, _ = mutate.Annotations(image, map[string]string{signature.AnnotationSums: sums, annotationCreated: time.Now().UTC().Format(time.RFC3339)}).(v1.Image)
	image, _ = mutate.Subject(image, got.Descriptor).(v1.Image)
	digest, err := image.Digest()
	if err != nil {
		return fmt.Errorf("make the signature: %w", err)
	}
	if err := remote.Write(ref.Context().Digest(digest.String()), image, r.options(ctx, ref.Context().RegistryStr())...); err != nil {
		return explainRegistry(ref, err)
	}
	return nil
}
