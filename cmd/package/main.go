// Command package makes what goes into packages beside the program: manual pages and completions, and an image of the server for each
// architecture, with no container engine.
//
//	package manual FOLDER
//	package image FILE.tar VERSION ARCHITECTURE=PROGRAM...
package main

import (
	"archive/tar"
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/layout"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/tarball"
	"github.com/google/go-containerregistry/pkg/v1/types"

	"aditus/internal/cli"
)

func main() {
	if err := run(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, "package:", err)
		os.Exit(1)
	}
}

func run(args []string) error {
	seconds, err := strconv.ParseInt(cmp.Or(os.Getenv("SOURCE_DATE_EPOCH"), "0"), 10, 64)
	if err != nil {
		return fmt.Errorf("SOURCE_DATE_EPOCH: %w", err)
	}
	made := time.Unix(seconds, 0).UTC()
	switch {
	case len(args) == 2 && args[0] == "manual":
		return cli.Manual(args[1], made)
	case len(args) > 3 && args[0] == "image":
		return writeImages(args[1], args[2], args[3:], made)
	}
	return errors.New("write package manual FOLDER, or package image FILE.tar VERSION ARCHITECTURE=PROGRAM, several of these")
}

// The server runs as this user, which owns the data folder.
const (
	user = 65532
	data = "/var/lib/aditus"
)

// writeImages writes an image index of all architectures as an OCI image layout, in a tar file.
func writeImages(name, version string, programs []string, made time.Time) error {
	index := mutate.IndexMediaType(empty.Index, types.OCIImageIndex)
	for _, one := range programs {
		architecture, program, ok := strings.Cut(one, "=")
		if !ok {
			return fmt.Errorf("%q is not ARCHITECTURE=PROGRAM", one)
		}
		image, err := makeImage(architecture, program, version, made)
		if err != nil {
			return err
		}
		index = mutate.AppendManifests(index, mutate.IndexAddendum{Add: image, Descriptor: v1.Descriptor{Platform: &v1.Platform{OS: "linux", Architecture: architecture}}})
	}
	folder, err := os.MkdirTemp("", "image")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	at, err := layout.Write(folder, empty.Index)
	if err == nil {
		err = at.AppendIndex(index, layout.WithAnnotations(map[string]string{"org.opencontainers.image.ref.name": version}))
	}
	if err != nil {
		return err
	}
	file, err := os.Create(name)
	if err != nil {
		return err
	}
	defer file.Close()
	if err := writeTar(file, os.DirFS(folder), made); err != nil {
		return err
	}
	return file.Close()
}

// makeImage makes the image of a program: nothing else is in it but folders to write into.
func makeImage(architecture, program, version string, made time.Time) (v1.Image, error) {
	text, err := os.ReadFile(program)
	if err != nil {
		return nil, err
	}
	var files bytes.Buffer
	out := tar.NewWriter(&files)
	for _, h := range []tar.Header{
		{Name: "tmp/", Typeflag: tar.TypeDir, Mode: 0o1777},
		{Name: strings.TrimPrefix(data, "/") + "/", Typeflag: tar.TypeDir, Mode: 0o700, Uid: user, Gid: user},
		{Name: "aditus", Typeflag: tar.TypeReg, Mode: 0o755, Size: int64(len(text))},
	} {
		h.ModTime, h.Format = made, tar.FormatPAX
		if err := out.WriteHeader(&h); err != nil {
			return nil, err
		}
		if h.Typeflag == tar.TypeReg {
			out.Write(text) // into memory
		}
	}
	if err := out.Close(); err != nil {
		return nil, err
	}
	layer, err := tarball.LayerFromOpener(func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(files.Bytes())), nil }, tarball.WithMediaType(types.OCILayer))
	if err != nil {
		return nil, err
	}
	image, err := mutate.AppendLayers(mutate.ConfigMediaType(mutate.MediaType(empty.Image, types.OCIManifestSchema1), types.OCIConfigJSON), layer)
	if err != nil {
		return nil, err
	}
	return mutate.ConfigFile(image, &v1.ConfigFile{
		OS: "linux", Architecture: architecture, Created: v1.Time{Time: made}, RootFS: rootFS(image),
		Config: v1.Config{
			User: fmt.Sprintf("%d:%d", user, user), Entrypoint: []string{"/aditus"}, Cmd: []string{"serve"}, WorkingDir: data,
			Env: []string{"ADITUS_DATA=" + data, "HOME=" + data}, Volumes: map[string]struct{}{data: {}}, ExposedPorts: map[string]struct{}{"8791/tcp": {}},
			Labels: map[string]string{"org.opencontainers.image.title": "aditus", "org.opencontainers.image.version": version},
		},
	})
}

// rootFS is what an image's layers unpack to.
func rootFS(image v1.Image) v1.RootFS {
	c, err := image.ConfigFile()
	if err != nil {
		return v1.RootFS{}
	}
	return c.RootFS
}

// writeTar writes a folder as a tar file, the same each time.
func writeTar(w io.Writer, folder fs.FS, made time.Time) error {
	out := tar.NewWriter(w)
	err := fs.WalkDir(folder, ".", func(name string, entry fs.DirEntry, err error) error {
		if err != nil || name == "." {
			return err
		}
		if entry.IsDir() {
			return out.WriteHeader(&tar.Header{Name: path.Clean(filepath.ToSlash(name)) + "/", Typeflag: tar.TypeDir, Mode: 0o755, ModTime: made})
		}
		text, err := fs.ReadFile(folder, name)
		if err != nil {
			return err
		}
		if err := out.WriteHeader(&tar.Header{Name: filepath.ToSlash(name), Typeflag: tar.TypeReg, Mode: 0o644, Size: int64(len(text)), ModTime: made}); err != nil {
			return err
		}
		_, err = out.Write(text)
		return err
	})
	if err != nil {
		return err
	}
	return out.Close()
}
