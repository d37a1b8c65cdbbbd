package source

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/Masterminds/semver/v3"
	"github.com/google/go-containerregistry/pkg/name"
	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/remote"
	"github.com/google/go-containerregistry/pkg/v1/static"
	"github.com/google/go-containerregistry/pkg/v1/types"

	"aditus/internal/config"
)

const (
	// BundleType is the media type of a bundle's one layer: a folder of declarations as a gzipped tar.
	BundleType   types.MediaType = "application/vnd.aditus.declarations.v1.tar+gzip"
	bundleConfig types.MediaType = "application/vnd.aditus.declarations.config.v1+json"
)

// Annotations of a bundle, by the names of the OCI image specification.
const (
	annotationCreated = "org.opencontainers.image.created"
	annotationVersion = "org.opencontainers.image.version"
	annotationAuthors = "org.opencontainers.image.authors"
	annotationTitle   = "org.opencontainers.image.title"
)

// Bundle is a folder of declarations as a versioned artifact.
type Bundle struct {
	Version string
	Digest  string
	Title   string // what it brings, in a few words
	Author  string
	Created time.Time
	Signed  string // by whom, where that is asked for
	Files   []File
}

// bundleRepository gives the name of a repository in a registry.
func bundleRepository(repository string, plain bool) (name.Repository, error) {
	var options []name.Option
	if plain {
		options = append(options, name.Insecure)
	}
	found, err := name.NewRepository(strings.TrimPrefix(repository, config.BundleScheme), options...)
	if err != nil {
		return found, fmt.Errorf("%q is no place in a registry; write oci://HOST/PATH", repository)
	}
	return found, nil
}

// Push makes a bundle of files and puts it into a registry under its version. A version that is there already with
// another content is refused.
func (r *Registries) Push(ctx context.Context, repository string, b Bundle) (digest string, err error) {
	if _, err := semver.StrictNewVersion(b.Version); err != nil {
		return "", fmt.Errorf("%q is no version; write it like 1.4.2", b.Version)
	}
	layer, err := pack(b.Files)
	if err != nil {
		return "", err
	}
	image := mutate.MediaType(empty.Image, types.OCIManifestSchema1)
	image = mutate.ConfigMediaType(image, bundleConfig)
	if image, err = mutate.AppendLayers(image, static.NewLayer(layer, BundleType)); err != nil {
		return "", fmt.Errorf("make the bundle: %w", err)
	}
	annotations := map[string]string{annotationCreated: b.Created.UTC().Format(time.RFC3339), annotationVersion: b.Version, annotationAuthors: b.Author, annotationTitle: b.Title}
	image, _ = mutate.Annotations(image, annotations).(v1.Image)
	place, err := bundleRepository(repository, r.plain(repository))
	if err != nil {
		return "", err
	}
	tag := place.Tag(b.Version)
	if there, err := r.Pull(ctx, repository, b.Version); err == nil {
		if old, err := pack(there.Files); err == nil && bytes.Equal(old, layer) {
			return there.Digest, nil
		}
		return "", fmt.Errorf("%s is there already with another content; a version never changes: give this one a new number", tag)
	}
	if err := remote.Write(tag, image, r.options(ctx, place.RegistryStr())...); err != nil {
		return "", explainRegistry(tag, err)
	}
	hash, err := image.Digest()
	return hash.String(), err
}

func (r *Registries) plain(repository string) bool {
	host, _, _ := strings.Cut(strings.TrimPrefix(repository, config.BundleScheme), "/")
	return r.registry(host).Plain
}

// Versions lists the versions of a bundle, newest first.
func (r *Registries) Versions(ctx context.Context, repository string) ([]string, error) {
	place, err := bundleRepository(repository, r.plain(repository))
	if err != nil {
		return nil, err
	}
	tags, err := remote.List(place, r.options(ctx, place.RegistryStr())...)
	if err != nil {
		return nil, explainRegistry(place.Tag("latest"), err)
	}
	var versions []*semver.Version
	for _, tag := range tags {
		if v, err := semver.StrictNewVersion(tag); err == nil {
			versions = append(versions, v)
		}
	}
	slices.SortFunc(versions, func(a, b *semver.Version) int { return b.Compare(a) })
	var names []string
	for _, v := range versions {
		names = append(names, v.Original())
	}
	return names, nil
}

// Choose gives the version that a wish stands for: itself where it is exact, the newest one where it is a range. A
// pre-release is chosen only by a range that names one.
func Choose(wish string, versions []string) (string, error) {
	if slices.Contains(versions, wish) {
		return wish, nil
	}
	if _, err := semver.StrictNewVersion(wish); err == nil {
		return "", fmt.Errorf("%w: there is no %s; there are %s", ErrNoVersion, wish, few(versions))
	}
	fits, err := semver.NewConstraint(wish)
	if err != nil {
		return "", fmt.Errorf("%w: %q is no version and no range; write 1.4.2, ^1.4, ~1.4.2 or >=1.4, <2", ErrNoVersion, wish)
	}
	for _, name := range versions {
		if v, err := semver.StrictNewVersion(name); err == nil && fits.Check(v) {
			return name, nil
		}
	}
	return "", fmt.Errorf("%w %s; there are %s", ErrNoVersion, wish, few(versions))
}

func few(versions []string) string {
	if len(versions) == 0 {
		return "none"
	}
	return strings.Join(versions[:min(6, len(versions))], ", ")
}

// Pull fetches a bundle by an exact version or a digest.
func (r *Registries) Pull(ctx context.Context, repository, version string) (Bundle, error) {
	place, err := bundleRepository(repository, r.plain(repository))
	if err != nil {
		return Bundle{}, err
	}
	var ref name.Reference = place.Tag(version)
	if strings.HasPrefix(version, "sha256:") {
		ref = place.Digest(version)
	}
	image, err := remote.Image(ref, r.options(ctx, place.RegistryStr())...)
	if err != nil {
		return Bundle{}, explainRegistry(ref, err)
	}
	digest, err1 := image.Digest()
	manifest, err2 := image.Manifest()
	layers, err3 := image.Layers()
	if err := errors.Join(err1, err2, err3); err != nil {
		return Bundle{}, explainRegistry(ref, err)
	}
	b := Bundle{Digest: digest.String(), Version: manifest.Annotations[annotationVersion], Title: manifest.Annotations[annotationTitle], Author: manifest.Annotations[annotationAuthors]}
	b.Created, _ = time.Parse(time.RFC3339, manifest.Annotations[annotationCreated])
	if len(layers) != 1 || manifest.Layers[0].MediaType != BundleType {
		return b, fmt.Errorf("%s is no bundle of declarations; push one with: aditus bundle push", ref)
	}
	if manifest.Layers[0].Size > maxFolderSize {
		return b, fmt.Errorf("%s has %d MB; %d are accepted", ref, manifest.Layers[0].Size>>20, maxFolderSize>>20)
	}
	packed, err := layers[0].Compressed() // its digest is checked while it is read
	if err != nil {
		return b, explainRegistry(ref, err)
	}
	defer packed.Close()
	text, err := io.ReadAll(io.LimitReader(packed, maxFolderSize+1))
	if err != nil {
		return b, fmt.Errorf("%s: %w; nothing of it is taken (%v)", ref, errLies, err)
	}
	b.Files, err = unpack(text)
	if err != nil {
		return b, fmt.Errorf("%s: %w", ref, err)
	}
	for i := range b.Files {
		b.Files[i].Commit = b.commit()
	}
	return b, nil
}

// commit is where the declarations of a bundle come from.
func (b Bundle) commit() Commit {
	return Commit{Hash: strings.TrimPrefix(b.Digest, "sha256:"), Subject: b.Title, Author: b.Author, At: b.Created, Signed: b.Signed}
}

// askBundle reads the newest version of a bundle that fits.
func askBundle(ctx context.Context, link config.Link, access Access, seen Seen) (Answer, error) {
	host, _, _ := strings.Cut(strings.TrimPrefix(link.Repository, config.BundleScheme), "/")
	r := NewRegistries(map[string]config.Registry{host: {Plain: link.Plain}}, func(string) Credential { return access.Credential })
	version := link.Version
	if !strings.HasPrefix(version, "sha256:") {
		versions, err := r.Versions(ctx, link.Repository)
		if err != nil {
			return Answer{}, fmt.Errorf("%w: %w", ErrUnreachable, err)
		}
		if version, err = Choose(version, versions); err != nil {
			return Answer{}, fmt.Errorf("%s: %w", link.Repository, err)
		}
	}
	place, err := bundleRepository(link.Repository, link.Plain)
	if err != nil {
		return Answer{}, err
	}
	var ref name.Reference = place.Tag(version)
	if strings.HasPrefix(version, "sha256:") {
		ref = place.Digest(version)
	}
	digest, err := r.digest(ctx, ref)
	if err != nil {
		return Answer{}, fmt.Errorf("%w: %w", ErrUnreachable, explainRegistry(ref, err))
	}
	if hash := strings.TrimPrefix(digest, "sha256:"); hash == seen.asked() {
		return Answer{Seen: seen, Ref: version}, nil
	}
	b, err := r.Pull(ctx, link.Repository, digest)
	if err != nil {
		return Answer{}, fmt.Errorf("%w: %w", ErrUnreachable, err)
	}
	if len(link.Signed) > 0 {
		if b.Signed, err = r.vouched(ctx, place.Digest(digest), link.Signed); err != nil {
			return Answer{}, fmt.Errorf("version %s: %w", version, err)
		}
		for i := range b.Files {
			b.Files[i].Commit.Signed = b.Signed
		}
	}
	look := Answer{Seen: Seen{Commit: b.commit().Hash, Tree: b.Digest}, Head: b.commit(), Changed: true, Ref: version}
	if look.Files = within(b.Files, link.Folder); len(look.Files) == 0 {
		return Answer{}, fmt.Errorf("%w: version %s of %s has no declarations in %q", ErrNoFolder, version, link.Repository, link.Folder)
	}
	return look, nil
}

// within gives the files of a folder, named from there.
func within(files []File, folder string) []File {
	if folder == "" || folder == "." {
		return files
	}
	var found []File
	for _, f := range files {
		if rest, ok := strings.CutPrefix(f.Name, path.Clean(folder)+"/"); ok {
			f.Name = rest
			found = append(found, f)
		}
	}
	return found
}

// pack makes a gzipped tar of files, the same bytes for the same files.
func pack(files []File) ([]byte, error) {
	files = slices.Clone(files)
	slices.SortFunc(files, func(a, b File) int { return strings.Compare(a.Name, b.Name) })
	var out bytes.Buffer
	zip := gzip.NewWriter(&out)
	w := tar.NewWriter(zip)
	for _, f := range files {
		if !filepath.IsLocal(f.Name) {
			return nil, fmt.Errorf("%s leads out of the folder", f.Name)
		}
		if err := w.WriteHeader(&tar.Header{Name: f.Name, Mode: 0o644, Size: int64(len(f.Text)), Format: tar.FormatUSTAR}); err != nil {
			return nil, fmt.Errorf("make the bundle: %s: %w", f.Name, err)
		}
		if _, err := w.Write(f.Text); err != nil {
			return nil, fmt.Errorf("make the bundle: %w", err)
		}
	}
	if err := errors.Join(w.Close(), zip.Close()); err != nil {
		return nil, fmt.Errorf("make the bundle: %w", err)
	}
	return out.Bytes(), nil
}

// unpack reads a gzipped tar of declarations. Names that lead out of it, and anything that is no plain file, are
// refused.
func unpack(packed []byte) ([]File, error) {
	zip, err := gzip.NewReader(bytes.NewReader(packed))
	if err != nil {
		return nil, fmt.Errorf("the bundle is damaged: %w", err)
	}
	var files []File
	left := int64(maxFolderSize)
	for r := tar.NewReader(io.LimitReader(zip, maxFolderSize+1<<20)); ; {
		header, err := r.Next()
		if errors.Is(err, io.EOF) {
			slices.SortFunc(files, func(a, b File) int { return strings.Compare(a.Name, b.Name) })
			return files, nil
		}
		switch {
		case err != nil:
			return nil, fmt.Errorf("the bundle is damaged: %w", err)
		case header.Typeflag == tar.TypeDir:
			continue
		case !filepath.IsLocal(header.Name) || strings.Contains(header.Name, "\\"):
			return nil, fmt.Errorf("the bundle holds %q, which leads out of it; nothing of it is taken", header.Name)
		case header.Typeflag != tar.TypeReg:
			return nil, fmt.Errorf("the bundle holds %q, which is no plain file; nothing of it is taken", header.Name)
		case len(files) >= maxFiles:
			return nil, fmt.Errorf("the bundle holds more than %d files", maxFiles)
		}
		if left -= header.Size; left < 0 {
			return nil, fmt.Errorf("the bundle unpacks to more than %d MB", maxFolderSize>>20)
		}
		text, err := io.ReadAll(r)
		if err != nil {
			return nil, fmt.Errorf("the bundle is damaged: %w", err)
		}
		if IsDeclaration(header.Name) {
			files = append(files, File{Name: path.Clean(header.Name), Text: text})
		}
	}
}
