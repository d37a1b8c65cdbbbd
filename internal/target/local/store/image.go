package store

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/tarball"

	"aditus/internal/core/declare"
	"aditus/internal/disk"
)

// ImageOf gives an artifact that lies on this machine as an image: of an OCI image layout in a folder, or of an archive, gzipped or not, as image tools
// write it, or with a layout in it. Each layer is held against its digest, and all of it against the one that it is pinned to. An archive is copied to
// a folder first, so that it stays as it was looked at; done removes the copy.
func ImageOf(ctx context.Context, reference, folder string) (image v1.Image, done func(), err error) {
	at, err := find(strings.TrimPrefix(reference, declare.FileScheme))
	if err != nil {
		return nil, nil, err
	}
	done = func() {}
	if at.folder {
		if image, err = inLayout(at.name, at.tag); err != nil {
			return nil, nil, err
		}
		digest, err := image.Digest()
		if err == nil && at.pinned != "" && digest.String() != at.pinned {
			err = fmt.Errorf("%w: the image in %s is %s, not the digest that it is pinned to", ErrBad, at.name, digest)
		}
		if err == nil {
			err = verify(image)
		}
		return image, done, err
	}
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return nil, nil, err
	}
	copied, err := os.MkdirTemp(folder, "image-")
	if err != nil {
		return nil, nil, err
	}
	if image, err = inArchive(ctx, at, copied); err != nil {
		os.RemoveAll(copied)
		return nil, nil, err
	}
	return image, func() { os.RemoveAll(copied) }, nil
}

// inArchive finds the image in an archive, which it copies into a folder.
func inArchive(ctx context.Context, at place, folder string) (v1.Image, error) {
	archive := filepath.Join(folder, "archive")
	digest, err := copyArchive(ctx, at.name, archive)
	switch {
	case err != nil:
		return nil, err
	case at.pinned != "" && digest != at.pinned:
		return nil, fmt.Errorf("%w: %s is %s, not the digest that it is pinned to", ErrBad, at.name, digest)
	}
	if manifest, err := tarball.LoadManifest(func() (io.ReadCloser, error) { return unzipped(archive) }); err == nil {
		if len(manifest) != 1 {
			return nil, fmt.Errorf("%w: there are %d images in %s, and one should be", ErrBad, len(manifest), at.name)
		}
		image, err := tarball.Image(func() (io.ReadCloser, error) { return unzipped(archive) }, nil)
		if err != nil {
			return nil, fmt.Errorf("%w: %s: %v", ErrBad, at.name, err)
		}
		return image, nil
	}
	in, err := os.Open(archive)
	if err != nil {
		return nil, err
	}
	defer in.Close()
	layout := filepath.Join(folder, "layout")
	if _, err := extract(in, layout); err != nil {
		return nil, err
	}
	if _, err := os.Stat(filepath.Join(layout, "oci-layout")); err != nil {
		return nil, fmt.Errorf("%w: there is no image in %s: a container takes one, as image tools save it, or as an OCI image layout", ErrBad, at.name)
	}
	image, err := inLayout(layout, at.tag)
	if err != nil {
		return nil, err
	}
	return image, verify(image)
}

// copyArchive copies a file and gives its digest.
func copyArchive(ctx context.Context, name, to string) (digest string, err error) {
	in, _, err := disk.OpenRegular(name, mostBytes)
	if err != nil {
		return "", err
	}
	defer in.Close()
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o600)
	if err != nil {
		return "", err
	}
	sum := sha256.New()
	_, err = disk.Copy(ctx, io.MultiWriter(out, sum), in)
	return "sha256:" + hex.EncodeToString(sum.Sum(nil)), errors.Join(err, out.Close())
}

// unzipped opens a file that may be gzipped.
func unzipped(name string) (io.ReadCloser, error) {
	file, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	in, err := unzip(file)
	if err != nil {
		file.Close()
		return nil, err
	}
	return struct {
		io.Reader
		io.Closer
	}{in, file}, nil
}
