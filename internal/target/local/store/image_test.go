package store

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"testing"

	"github.com/google/go-containerregistry/pkg/name"
	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/layout"
	"github.com/google/go-containerregistry/pkg/v1/random"
	"github.com/google/go-containerregistry/pkg/v1/tarball"

	"aditus/internal/core/declare"
)

// packed packs a folder.
func packed(t *testing.T, folder string) []byte {
	t.Helper()
	var out bytes.Buffer
	w := tar.NewWriter(&out)
	if err := w.AddFS(os.DirFS(folder)); err != nil {
		t.Fatal(err)
	}
	w.Close()
	return out.Bytes()
}

// TestImageOf finds images on this machine, in each form that they come in, and leaves nothing behind.
func TestImageOf(t *testing.T) {
	image, err := random.Image(1000, 2)
	if err != nil {
		t.Fatal(err)
	}
	folder := t.TempDir()
	at := func(name string) string { return filepath.Join(folder, name) }
	put := func(name string, text []byte) {
		t.Helper()
		if err := os.WriteFile(at(name), text, 0o600); err != nil {
			t.Fatal(err)
		}
	}
	tag, _ := name.NewTag("registry.skerry.example/web:1")
	other, _ := name.NewTag("registry.skerry.example/web:2")
	path, err := layout.Write(at("layout"), empty.Index)
	for _, err := range []error{
		err, path.AppendImage(image, layout.WithAnnotations(map[string]string{"org.opencontainers.image.ref.name": "1"})),
		tarball.WriteToFile(at("saved.tar"), tag, image), tarball.MultiWriteToFile(at("two.tar"), map[name.Tag]v1.Image{tag: image, other: func() v1.Image { i, _ := random.Image(10, 1); return i }()}),
	} {
		if err != nil {
			t.Fatal(err)
		}
	}
	saved, err := os.ReadFile(at("saved.tar"))
	if err != nil {
		t.Fatal(err)
	}
	put("layout.tar", packed(t, at("layout")))
	var zipped bytes.Buffer
	w := gzip.NewWriter(&zipped)
	w.Write(saved)
	w.Close()
	put("saved.tar.gz", zipped.Bytes())
	if err := os.CopyFS(at("damaged"), os.DirFS(at("layout"))); err != nil {
		t.Fatal(err)
	}
	layers, _ := image.Layers()
	sum, _ := layers[0].Digest()
	blob := filepath.Join("damaged", "blobs", "sha256", sum.Hex)
	content, err := os.ReadFile(at(blob))
	if err != nil {
		t.Fatal(err)
	}
	content[len(content)/2] ^= 1
	put(blob, content)
	os.Mkdir(at("program"), 0o700)
	put("program/web", []byte("#!/bin/sh\n"))
	put("program.tar", packed(t, at("program")))
	put("text", []byte("this is no tar"))
	config, err := image.ConfigName()
	if err != nil {
		t.Fatal(err)
	}
	digest, _ := image.Digest()
	pin := sha256.Sum256(saved)
	for _, test := range []struct {
		what string
		want error
	}{
		{"saved.tar", nil}, {"saved.tar.gz", nil}, {"layout", nil}, {"layout:1", nil}, {"layout.tar", nil},
		{"saved.tar@sha256:" + hex.EncodeToString(pin[:]), nil}, {"layout@" + digest.String(), nil},
		{"saved.tar@" + digest.String(), ErrBad}, {"layout@sha256:" + hex.EncodeToString(pin[:]), ErrBad}, {"layout:2", ErrNone}, {"nothing", ErrNone}, {"two.tar", ErrBad}, {"damaged", ErrBad}, {"program.tar", ErrBad}, {"text", ErrBad},
	} {
		room := t.TempDir()
		got, done, err := ImageOf(t.Context(), declare.FileScheme+at(test.what), room)
		if !errors.Is(err, test.want) {
			t.Errorf("%s: %v, want %v", test.what, err, test.want)
		}
		if err == nil {
			if own, err := got.ConfigName(); err != nil || own != config {
				t.Errorf("%s is another image: %v (%v)", test.what, own, err)
			}
			done()
		}
		var left []string
		fs.WalkDir(os.DirFS(room), ".", func(path string, _ fs.DirEntry, err error) error {
			if path != "." {
				left = append(left, path)
			}
			return err
		})
		if len(left) > 0 {
			t.Errorf("%s leaves %s", test.what, fmt.Sprint(left))
		}
	}
}
