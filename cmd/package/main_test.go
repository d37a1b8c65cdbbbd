package main

import (
	"archive/tar"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/google/go-containerregistry/pkg/v1/layout"
)

// TestImage makes an image of two architectures twice, and reads it as an engine would.
func TestImage(t *testing.T) {
	folder := t.TempDir()
	program, made := filepath.Join(folder, "program"), time.Date(2026, 3, 12, 9, 0, 0, 0, time.UTC)
	if err := os.WriteFile(program, []byte("a program"), 0o755); err != nil {
		t.Fatal(err)
	}
	var texts []string
	for i := range 2 {
		name := filepath.Join(folder, fmt.Sprintf("%d.tar", i))
		if err := writeImages(name, "1.2.3", []string{"amd64=" + program, "arm64=" + program}, made); err != nil {
			t.Fatal(err)
		}
		text, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		texts = append(texts, string(text))
	}
	if texts[0] != texts[1] {
		t.Error("the same program makes another image")
	}
	unpacked := filepath.Join(folder, "image")
	file, err := os.Open(filepath.Join(folder, "0.tar"))
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	for in := tar.NewReader(file); ; {
		h, err := in.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			t.Fatal(err)
		}
		at := filepath.Join(unpacked, h.Name)
		if err := os.MkdirAll(filepath.Dir(at), 0o755); err != nil {
			t.Fatal(err)
		}
		if text, _ := io.ReadAll(in); h.Typeflag == tar.TypeReg {
			err = os.WriteFile(at, text, 0o644)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	all, err := layout.ImageIndexFromPath(unpacked)
	if err != nil {
		t.Fatal(err)
	}
	outer, err := all.IndexManifest()
	if err != nil || len(outer.Manifests) != 1 {
		t.Fatalf("the layout has %v, %v", outer, err)
	}
	index, err := all.ImageIndex(outer.Manifests[0].Digest)
	if err != nil {
		t.Fatal(err)
	}
	inner, err := index.IndexManifest()
	if err != nil || len(inner.Manifests) != 2 {
		t.Fatalf("the index has %v, %v", inner, err)
	}
	for i, architecture := range []string{"amd64", "arm64"} {
		image, err := index.Image(inner.Manifests[i].Digest)
		if err != nil {
			t.Fatal(err)
		}
		c, err := image.ConfigFile()
		if err != nil || c.Architecture != architecture || c.Config.User != "65532:65532" || len(c.RootFS.DiffIDs) != 1 {
			t.Errorf("its image is %+v, %v", c, err)
		}
		layers, err := image.Layers()
		if err != nil || len(layers) != 1 {
			t.Fatalf("it has the layers %v, %v", layers, err)
		}
		files, err := layers[0].Uncompressed()
		if err != nil {
			t.Fatal(err)
		}
		found := map[string]string{}
		for in := tar.NewReader(files); ; {
			h, err := in.Next()
			if err != nil {
				break
			}
			text, _ := io.ReadAll(in)
			found[h.Name] = fmt.Sprintf("%o %d %s", h.Mode, h.Uid, text)
		}
		for name, want := range map[string]string{"aditus": "755 0 a program", "var/lib/aditus/": "700 65532 ", "tmp/": "1777 0 "} {
			if found[name] != want {
				t.Errorf("%s is %q, want %q", name, found[name], want)
			}
		}
	}
}
