package demo

import (
	"context"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"strings"
	"time"

	"github.com/google/go-containerregistry/pkg/registry"
	"go.yaml.in/yaml/v4"

	"aditus/internal/config"
	"aditus/internal/source"
)

const (
	bundleLink = "shore-base"
	bundlePath = "line/notices"
	bundleWish = "^2.7"
)

// bundles are the versions of the bundle, by the version of the artifact that each declares.
var bundles = []struct {
	version, artifact, title string
	ago                      time.Duration
}{
	{"2.6.4", "2.6.9", "Notices by voice", 40 * day},
	{"2.7.0", "2.7.9", "Quiet hours at night", 15 * day},
}

// openRegistry serves the registry that the line takes a bundle from: a stand-in in memory, made anew with the same
// content at each start. Beside it its metrics store answers.
func (w *World) openRegistry(start time.Time) error {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return fmt.Errorf("serve the demo's registry: %w", err)
	}
	mux := http.NewServeMux()
	mux.Handle("/", registry.New(registry.Logger(log.New(io.Discard, "", 0))))
	mux.Handle("/"+harbour+"/", http.StripPrefix("/"+harbour, w.harbourHandler()))
	w.registry = &http.Server{Handler: mux, ReadHeaderTimeout: 5 * time.Second}
	go w.registry.Serve(listener)
	w.bundle = "oci://" + listener.Addr().String() + "/" + bundlePath
	w.harbour = "http://" + listener.Addr().String() + "/" + harbour
	r := source.NewRegistries(map[string]config.Registry{listener.Addr().String(): {Plain: true}}, nil)
	for _, b := range bundles {
		text, err := setVersion(notices, b.artifact)
		if err != nil {
			return err
		}
		bundle := source.Bundle{Version: b.version, Title: b.title, Author: "Maren Oake", Created: start.Add(-b.ago), Files: []source.File{{Name: "notices.yaml", Text: text}}}
		if _, err := r.Push(context.Background(), w.bundle, bundle); err != nil {
			return fmt.Errorf("fill the demo's registry: %w", err)
		}
	}
	return nil
}

// moveBundle writes the addresses that the registry and the metrics store have this time into the settings.
func (w *World) moveBundle() (config.Settings, error) {
	return config.Edit(w.Folder, w.firstSettings(), func(root *yaml.Node) error {
		var move func(n *yaml.Node)
		move = func(n *yaml.Node) {
			if n.Kind == yaml.ScalarNode && strings.HasPrefix(n.Value, "oci://127.0.0.1:") && strings.HasSuffix(n.Value, "/"+bundlePath) {
				n.Value = w.bundle
			}
			if n.Kind == yaml.ScalarNode && strings.HasPrefix(n.Value, "http://127.0.0.1:") && strings.HasSuffix(n.Value, "/"+harbour) {
				n.Value = w.harbour
			}
			for _, below := range n.Content {
				move(below)
			}
		}
		move(root)
		return nil
	})
}
