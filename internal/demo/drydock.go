package demo

import (
	"archive/tar"
	"bytes"
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/empty"
	"github.com/google/go-containerregistry/pkg/v1/mutate"
	"github.com/google/go-containerregistry/pkg/v1/tarball"

	"aditus/internal/config"
	"aditus/internal/disk"
	"aditus/internal/source"
	"aditus/internal/target/local"
	"aditus/internal/target/local/store"
	"aditus/internal/target/sim"
)

// drydock is the one site that is no stand-in where the story is told on a screen: processes on this machine, with real
// traffic through a router.
const drydock = "drydock"

// storeSize is how much of artifacts that nobody uses stays.
const storeSize = 64 << 20

// openDrydock opens the site. Its artifacts are made as they are asked for: images with one small file, which this
// program interprets.
func (w *World) openDrydock(model sim.Behaviour, opener *source.Opener, speed float64) error {
	own, err := os.Executable()
	if err != nil {
		return fmt.Errorf("find this program, for the demo's services: %w", err)
	}
	artifacts, err := store.Open(filepath.Join(w.Folder, "store"), storeSize, func(_ context.Context, reference string) (v1.Image, error) {
		name, _, _ := strings.Cut(reference, "@")
		behaves, ok := model.Artifacts[name]
		if !ok {
			_, short, _ := strings.Cut(name, "/") // without its registry, which all have in common
			return nil, fmt.Errorf("%w: %s", store.ErrNone, short)
		}
		return image(own, behaves, speed)
	}, disk.Machine)
	if err != nil {
		return err
	}
	ports, err := local.Ports(w.target())
	if err != nil {
		return err
	}
	real, story := time.Now(), w.clock.Now()
	as := func(at time.Time) time.Time { // the story's time runs faster
		return story.Add(time.Duration(float64(at.Sub(real)) * speed))
	}
	w.keeper = local.NewClient(w.Folder, own, "keep", "--data", w.Folder)
	w.dock, err = local.Open(local.Options{Name: drydock, Folder: w.Folder, Listen: w.kept.Listen, Ports: ports, Store: artifacts, Keeper: w.keeper, Open: opener.Open, As: as})
	return err
}

// target is what drydock runs on.
func (w *World) target() config.Target {
	if w.kept.Listen == "" {
		return config.Target{Kind: sim.Kind.Name}
	}
	return config.Target{Kind: local.Kind.Name, Listen: w.kept.Listen}
}

// Ports among which one is looked for on which traffic can come in: none that the system gives to connections, which might have it by the
// time that it is listened to.
const firstPort, lastPort = 18000, 18999

// freeAddress is one on which traffic can come in.
func freeAddress() (address string, err error) {
	for range 100 {
		var listener net.Listener
		if listener, err = net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", firstPort+rand.IntN(lastPort-firstPort+1))); err == nil {
			defer listener.Close()
			return listener.Addr().String(), nil
		}
	}
	return "", fmt.Errorf("find an address for the demo's traffic: %w", err)
}

// image makes an artifact: one layer with one file.
func image(program string, behaves sim.Artifact, speed float64) (v1.Image, error) {
	text, err := ServiceFile(program, behaves, speed)
	if err != nil {
		return nil, err
	}
	var content bytes.Buffer
	archive := tar.NewWriter(&content)
	err = archive.WriteHeader(&tar.Header{Name: "service", Mode: 0o755, Size: int64(len(text)), Typeflag: tar.TypeReg})
	if err == nil {
		_, err = archive.Write(text)
	}
	if err == nil {
		err = archive.Close()
	}
	if err != nil {
		return nil, err
	}
	layer, err := tarball.LayerFromOpener(func() (io.ReadCloser, error) { return io.NopCloser(bytes.NewReader(content.Bytes())), nil })
	if err != nil {
		return nil, err
	}
	made, err := mutate.AppendLayers(empty.Image, layer)
	if err != nil {
		return nil, err
	}
	return mutate.Config(made, v1.Config{Cmd: []string{"/service"}})
}

// Traffic at drydock: so many travellers for each workload, one request each after the other with a rest between.
const (
	travellers = 3
	restFor    = 120 * time.Millisecond
)

// travel sends traffic through drydock's router until ctx ends. What comes of it is for the guards to say.
func (w *World) travel(ctx context.Context) {
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 64}, Timeout: 10 * time.Second}
	defer client.CloseIdleConnections()
	var group sync.WaitGroup
	for workload := range routed {
		for range travellers {
			group.Go(func() {
				for ctx.Err() == nil {
					request, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+w.kept.Listen+"/v1/"+workload, nil)
					if err == nil {
						request.Host = workload + ".skerry.example"
						if response, err := client.Do(request); err == nil {
							io.Copy(io.Discard, response.Body)
							response.Body.Close()
						}
					}
					select {
					case <-ctx.Done():
					case <-time.After(restFor):
					}
				}
			})
		}
	}
	group.Wait()
}

// routed are the workloads that traffic is led to at drydock.
var routed = map[string]bool{"accounts": true, "boarding": true, "crewing": true, "fares": true, "lookout": true, "piers": true, "tides": true}
