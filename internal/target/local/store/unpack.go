package store

import (
	"archive/tar"
	"bufio"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"strings"

	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/cache"
	"github.com/google/go-containerregistry/pkg/v1/layout"
	"github.com/google/go-containerregistry/pkg/v1/mutate"

	"aditus/internal/core/declare"
	"aditus/internal/disk"
)

// Limits on what is unpacked.
const (
	mostBytes   = 16 << 30
	mostEntries = 500_000
)

// artifact is one that was found, and how it is unpacked.
type artifact struct {
	digest string
	unpack func(root string) (Unpacked, error)
}

// source finds an artifact: an archive or an image layout in a file, or an image in a registry.
func (s *Store) source(ctx context.Context, reference string) (artifact, error) {
	file, ok := strings.CutPrefix(reference, declare.FileScheme)
	if !ok {
		image, err := s.fetch(ctx, reference)
		if err != nil {
			return artifact{}, err
		}
		return fromImage(image, reference)
	}
	at, err := find(file)
	if err != nil {
		return artifact{}, err
	}
	if at.folder {
		image, err := inLayout(at.name, at.tag)
		if err != nil {
			return artifact{}, err
		}
		return fromImage(image, reference)
	}
	return fromArchive(ctx, at.name, at.pinned)
}

// place is where a reference to what lies on this machine leads.
type place struct {
	name, tag, pinned string
	folder            bool // an OCI image layout; else an archive
}

// find finds what is meant by a path, with a tag and a digest or without.
func find(file string) (p place, err error) {
	file, p.pinned, _ = strings.Cut(file, "@")
	p.name = file
	info, err := os.Stat(file)
	if errors.Is(err, fs.ErrNotExist) {
		if at := strings.LastIndex(file, ":"); at > strings.LastIndex(file, "/") {
			p.name, p.tag = file[:at], file[at+1:]
			info, err = os.Stat(p.name)
		}
	}
	if errors.Is(err, fs.ErrNotExist) {
		return p, fmt.Errorf("%w: there is no file %s on this machine", ErrNone, file)
	}
	if err == nil {
		p.folder = info.IsDir()
	}
	return p, err
}

// fromImage is an image, every layer of which is held against its digest.
func fromImage(image v1.Image, reference string) (artifact, error) {
	digest, err := image.Digest()
	if err != nil {
		return artifact{}, err
	}
	return artifact{digest.String(), func(root string) (Unpacked, error) {
		blobs := root + ".blobs" // each is read from afar once
		defer os.RemoveAll(blobs)
		image := cache.Image(image, cache.NewFilesystemCache(blobs))
		if err := verify(image); err != nil {
			return Unpacked{}, fmt.Errorf("%s: %w", short(reference), err)
		}
		config, err := image.ConfigFile()
		if err != nil {
			return Unpacked{}, fmt.Errorf("%w: %v", ErrBad, err)
		}
		content := mutate.Extract(image)
		defer content.Close()
		size, err := extract(content, root)
		return Unpacked{Config: config.Config, Size: size}, err
	}}, nil
}

// verify reads an image's configuration and layers, and holds each against its digest. What was cut short on its way is
// not bad, and is tried again.
func verify(image v1.Image) error {
	config, err := image.RawConfigFile()
	if err != nil {
		return err
	}
	manifest, err := image.Manifest()
	if err != nil {
		return err
	}
	if sum := sha256.Sum256(config); manifest.Config.Digest.Hex != hex.EncodeToString(sum[:]) {
		return fmt.Errorf("%w: its configuration is not what its digest says", ErrBad)
	}
	layers, err := image.Layers()
	if err != nil {
		return err
	}
	for i, layer := range layers {
		if err := verifyLayer(layer, manifest.Layers[i]); err != nil {
			return err
		}
	}
	return nil
}

func verifyLayer(layer v1.Layer, said v1.Descriptor) error {
	in, err := layer.Compressed()
	if err != nil {
		return err
	}
	defer in.Close()
	sum := sha256.New()
	size, err := io.Copy(sum, in)
	whole := size >= said.Size && said.Size > 0
	if err != nil && !whole {
		return fmt.Errorf("only %d of %d bytes of a layer came: %w; it is tried again", size, said.Size, err)
	}
	if got := hex.EncodeToString(sum.Sum(nil)); got != said.Digest.Hex || size != said.Size {
		if size < said.Size {
			return fmt.Errorf("only %d of %d bytes of a layer came; it is tried again", size, said.Size)
		}
		return fmt.Errorf("%w: a layer is not what its digest says", ErrBad)
	}
	return err
}

// inLayout finds an image in an OCI image layout: by its tag, the annotation org.opencontainers.image.ref.name, or the
// only one there is.
func inLayout(folder, tag string) (v1.Image, error) {
	index, err := layout.ImageIndexFromPath(folder)
	if err != nil {
		return nil, fmt.Errorf("%w: %s is no OCI image layout: %v", ErrBad, folder, err)
	}
	return inIndex(index, tag, folder)
}

func inIndex(index v1.ImageIndex, tag, where string) (v1.Image, error) {
	manifest, err := index.IndexManifest()
	if err != nil {
		return nil, fmt.Errorf("%w: %v", ErrBad, err)
	}
	var found []v1.Descriptor
	for _, d := range manifest.Manifests {
		fits := d.Platform == nil || d.Platform.OS == runtime.GOOS && d.Platform.Architecture == runtime.GOARCH
		if fits && (tag == "" || d.Annotations["org.opencontainers.image.ref.name"] == tag) {
			found = append(found, d)
		}
	}
	if len(found) != 1 {
		return nil, fmt.Errorf("%w: %d images in %s are meant by %q for %s/%s, and one should be", ErrNone, len(found), where, tag, runtime.GOOS, runtime.GOARCH)
	}
	if found[0].MediaType.IsIndex() {
		inner, err := index.ImageIndex(found[0].Digest)
		if err != nil {
			return nil, fmt.Errorf("%w: %v", ErrBad, err)
		}
		return inIndex(inner, "", where)
	}
	image, err := index.Image(found[0].Digest)
	if err != nil {
		return nil, fmt.Errorf("%w: %v", ErrBad, err)
	}
	if digest, err := image.Digest(); err != nil || digest != found[0].Digest {
		return nil, fmt.Errorf("%w: the manifest in %s is not %s", ErrBad, where, found[0].Digest)
	}
	return image, nil
}

// fromArchive is a tar, gzipped or not, with an executable, or with an image layout.
func fromArchive(ctx context.Context, file, pinned string) (artifact, error) {
	in, _, err := disk.OpenRegular(file, mostBytes)
	if err != nil {
		return artifact{}, err
	}
	defer in.Close()
	sum := sha256.New()
	if _, err := disk.Copy(ctx, sum, in); err != nil {
		return artifact{}, err
	}
	digest := "sha256:" + hex.EncodeToString(sum.Sum(nil))
	if pinned != "" && pinned != digest {
		return artifact{}, fmt.Errorf("%w: %s is %s, not the digest that it is pinned to", ErrBad, file, digest)
	}
	return artifact{digest, func(root string) (Unpacked, error) {
		in, _, err := disk.OpenRegular(file, mostBytes)
		if err != nil {
			return Unpacked{}, err
		}
		defer in.Close()
		again := sha256.New()
		read := &noting{Reader: in}
		size, err := extract(io.TeeReader(read, again), root)
		_, rest := io.Copy(again, read)
		switch {
		case read.err != nil: // of the disk it is on, which says nothing of what is in it
			err = read.err
		case rest == nil && "sha256:"+hex.EncodeToString(again.Sum(nil)) != digest:
			err = fmt.Errorf("%s changed while it was read; it is tried again", file)
		}
		if err != nil {
			return Unpacked{}, err
		}
		if _, err := os.Stat(filepath.Join(root, "oci-layout")); err == nil {
			return fromInner(root)
		}
		return Unpacked{Size: size, Alone: alone(root)}, nil
	}}, nil
}

// noting is a reader that remembers what went wrong.
type noting struct {
	io.Reader
	err error
}

func (n *noting) Read(p []byte) (int, error) {
	read, err := n.Reader.Read(p)
	if err != nil && !errors.Is(err, io.EOF) {
		n.err = err
	}
	return read, err
}

// fromInner unpacks an image layout that came in an archive, in its own place.
func fromInner(root string) (Unpacked, error) {
	inner := root + ".layout"
	if err := os.Rename(root, inner); err != nil {
		return Unpacked{}, err
	}
	defer os.RemoveAll(inner)
	image, err := inLayout(inner, "")
	if err != nil {
		return Unpacked{}, err
	}
	a, err := fromImage(image, filepath.Base(inner))
	if err != nil {
		return Unpacked{}, err
	}
	return a.unpack(root)
}

// alone gives the one executable file at the top of a folder; empty where there is none or several.
func alone(root string) (name string) {
	entries, _ := os.ReadDir(root)
	for _, entry := range entries {
		info, err := entry.Info()
		if err != nil || !info.Mode().IsRegular() || info.Mode()&0o100 == 0 {
			continue
		}
		if name != "" {
			return ""
		}
		name = entry.Name()
	}
	return name
}

// unzip reads what may be gzipped.
func unzip(in io.Reader) (io.Reader, error) {
	buffered := bufio.NewReaderSize(in, 64<<10)
	if head, _ := buffered.Peek(2); !bytes.Equal(head, []byte{0x1f, 0x8b}) {
		return buffered, nil
	}
	unzipped, err := gzip.NewReader(buffered)
	if err != nil {
		return nil, fmt.Errorf("%w: %v", ErrBad, err)
	}
	return unzipped, nil
}

// extract writes a tar's files into a folder and gives their size. Everything is opened beneath the folder by the
// system itself (os.Root), so that neither a name nor a link can lead out of it.
func extract(in io.Reader, folder string) (size int64, err error) {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return 0, err
	}
	root, err := os.OpenRoot(folder)
	if err != nil {
		return 0, err
	}
	defer root.Close()
	if in, err = unzip(in); err != nil {
		return 0, err
	}
	archive := tar.NewReader(in)
	for entries := 0; ; entries++ {
		header, err := archive.Next()
		if errors.Is(err, io.EOF) {
			if entries == 0 {
				return size, fmt.Errorf("%w: there is nothing in it", ErrBad)
			}
			return size, nil
		}
		if err != nil {
			return size, fmt.Errorf("%w: it is no tar: %v", ErrBad, err)
		}
		if size += header.Size; size > mostBytes || entries > mostEntries {
			return size, fmt.Errorf("%w: it holds more than %d bytes or %d files", ErrBad, int64(mostBytes), mostEntries)
		}
		if err := write(root, header, archive); err != nil {
			return size, err
		}
	}
}

// write writes one entry. Owners and special bits are not taken over.
func write(root *os.Root, header *tar.Header, content io.Reader) error {
	name := path.Clean(header.Name)
	name = strings.TrimPrefix(name, "/")
	if name == "." || name == "" {
		return nil
	}
	if !filepath.IsLocal(name) {
		return fmt.Errorf("%w: %q leads out of its folder", ErrBad, header.Name)
	}
	outside := func(err error) error {
		if err != nil && strings.Contains(err.Error(), "path escapes") {
			return fmt.Errorf("%w: %q leads out of its folder", ErrBad, header.Name)
		}
		return err
	}
	if header.Typeflag == tar.TypeDir {
		return outside(root.MkdirAll(name, 0o755))
	}
	if err := root.MkdirAll(path.Dir(name), 0o755); err != nil {
		return outside(err)
	}
	switch header.Typeflag {
	case tar.TypeReg:
		root.Remove(name) // a later entry takes the place of an earlier one
		file, err := root.OpenFile(name, os.O_CREATE|os.O_WRONLY|os.O_EXCL, fs.FileMode(header.Mode)&0o755|0o400)
		if err != nil {
			return outside(err)
		}
		_, err = io.Copy(file, content)
		return errors.Join(err, file.Close())
	case tar.TypeSymlink:
		target := header.Linkname
		if path.IsAbs(target) { // within an image it means its own root
			up := strings.Repeat("../", strings.Count(name, "/"))
			target = up + strings.TrimPrefix(path.Clean(target), "/")
		}
		if !filepath.IsLocal(path.Join(path.Dir(name), target)) {
			return fmt.Errorf("%w: the link %q leads out of its folder", ErrBad, header.Name)
		}
		root.Remove(name)
		return outside(root.Symlink(target, name))
	case tar.TypeLink:
		target := strings.TrimPrefix(path.Clean(header.Linkname), "/")
		if !filepath.IsLocal(target) {
			return fmt.Errorf("%w: the link %q leads out of its folder", ErrBad, header.Name)
		}
		root.Remove(name)
		return outside(root.Link(target, name))
	}
	return nil // devices and pipes are none of an artifact's business
}
