// Package images brings artifacts to a container engine as images, each by its digest and under a name of Aditus' own: fetched with the
// site's credentials and held against their digests by Aditus, and loaded. What nobody uses goes once it is more than a size.
package images

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/go-containerregistry/pkg/name"
	v1 "github.com/google/go-containerregistry/pkg/v1"
	"github.com/google/go-containerregistry/pkg/v1/tarball"

	"aditus/internal/core/declare"
	"aditus/internal/core/say"
	"aditus/internal/target/containers/host"
	"aditus/internal/target/local/store"
)

// Repository is where images are, under tags that are their digests.
const Repository = "localhost/aditus/image"

const (
	bringTakes = 20 * time.Minute
	tryAgain   = 15 * time.Second
	atOnce     = 2 // images that are brought at a time
)

// Images are those that an engine has of a data folder's sites. Make it with Open; it is safe for concurrent use.
type Images struct {
	host  *host.Host
	most  int64
	fetch store.Fetch
	room  string // a folder for what lies on this machine while it is brought
	slots chan struct{}

	mu    sync.Mutex
	jobs  map[string]*job // by reference
	users map[string]func() []string
	ready []func()
}

type job struct {
	image   string // as the engine has it; empty while it does not
	working bool
	sent    int64
	err     error
	again   time.Time
}

// Open gives the images of an engine, of which those that nobody uses may take so many bytes.
func Open(h *host.Host, most int64, room string, fetch store.Fetch) *Images {
	return &Images{host: h, most: most, room: room, fetch: fetch, slots: make(chan struct{}, atOnce), jobs: map[string]*job{}, users: map[string]func() []string{}}
}

// Use has the images keep what a user names for as long as it names it, and tell it when something that it asked for is there or failed.
func (i *Images) Use(user string, references func() []string, ready func()) {
	i.mu.Lock()
	defer i.mu.Unlock()
	i.users[user] = references
	i.ready = append(i.ready, ready)
}

// Get gives the name by which the engine has an artifact, and otherwise begins to bring it: store.ErrWorking, with how far it is, or why it
// failed.
func (i *Images) Get(reference string) (image string, err error) {
	i.mu.Lock()
	defer i.mu.Unlock()
	j := i.jobs[reference]
	switch {
	case j == nil:
		j = &job{}
		i.jobs[reference] = j
	case j.image != "":
		return j.image, nil
	case j.working && j.sent > 0:
		return "", fmt.Errorf("%w: %s brought to the container engine", store.ErrWorking, say.Bytes(j.sent))
	case j.working:
		return "", store.ErrWorking
	case j.err != nil && (store.Final(j.err) || time.Now().Before(j.again)):
		return "", j.err
	}
	j.working = true
	go i.work(reference, j)
	return "", cmp.Or(j.err, store.ErrWorking)
}

// Gone notes that the engine has not an image any more that it had, so that it is brought anew.
func (i *Images) Gone(reference string) {
	i.mu.Lock()
	defer i.mu.Unlock()
	if j := i.jobs[reference]; j != nil && j.image != "" {
		delete(i.jobs, reference)
	}
}

// work brings an image.
func (i *Images) work(reference string, j *job) {
	i.slots <- struct{}{}
	ctx, cancel := context.WithTimeout(context.Background(), bringTakes)
	image, brought, err := i.bring(ctx, reference, j)
	cancel()
	<-i.slots
	i.mu.Lock()
	j.working, j.image, j.err, j.again, j.sent = false, image, err, time.Now().Add(tryAgain), 0
	ready := slices.Clone(i.ready)
	i.mu.Unlock()
	if brought {
		i.clean(context.Background())
	}
	for _, tell := range ready {
		tell()
		if err != nil && !store.Final(err) { // whoever still asks for it asks again then
			time.AfterFunc(tryAgain, tell)
		}
	}
}

// find finds an artifact: in a registry, or on this machine.
func (i *Images) find(ctx context.Context, reference string) (image v1.Image, done func(), err error) {
	if strings.HasPrefix(reference, declare.FileScheme) {
		return store.ImageOf(ctx, reference, i.room)
	}
	image, err = i.fetch(ctx, reference)
	return image, func() {}, err
}

// bring sees to it that the engine has an artifact, and gives its name there.
func (i *Images) bring(ctx context.Context, reference string, j *job) (tag string, brought bool, err error) {
	image, done, err := i.find(ctx, reference)
	if err != nil {
		return "", false, err
	}
	defer done()
	digest, err := image.Digest()
	if err != nil {
		return "", false, err
	}
	config, err := image.ConfigName()
	if err != nil {
		return "", false, err
	}
	to, err := name.NewTag(Repository + ":" + digest.Hex)
	if err != nil {
		return "", false, err
	}
	if has, err := i.host.Image(ctx, to.String()); err == nil && same(has.ID, config) {
		return to.String(), false, nil
	} else if err != nil && !errors.Is(err, host.ErrNotFound) {
		return "", false, err
	}
	out, in := io.Pipe()
	go func() { in.CloseWithError(tarball.Write(to, image, &counted{in, i, j})) }()
	err = i.host.Load(ctx, out)
	out.CloseWithError(cmp.Or(err, io.ErrClosedPipe)) // whoever writes on is not waited for
	if err != nil && strings.Contains(err.Error(), noSpace) {
		err = fmt.Errorf("its disk is full, %s: free some space there", noSpace)
	}
	if err != nil {
		return "", false, fmt.Errorf("bring %s to the container engine: %w; it is tried again", reference, err)
	}
	has, err := i.host.Image(ctx, to.String())
	switch {
	case err != nil:
		return "", true, err
	case !same(has.ID, config):
		return "", true, fmt.Errorf("%w: the container engine has another image under %s", store.ErrBad, to)
	}
	return to.String(), true, nil
}

// noSpace is what engines say, within more, where their disk is full.
const noSpace = "no space left on device"

// same tells whether an engine's image is the one of a configuration.
func same(id string, config v1.Hash) bool { return strings.TrimPrefix(id, "sha256:") == config.Hex }

// counted notes how much of an image was brought.
type counted struct {
	io.Writer
	images *Images
	job    *job
}

func (c *counted) Write(text []byte) (int, error) {
	n, err := c.Writer.Write(text)
	c.images.mu.Lock()
	c.job.sent += int64(n)
	c.images.mu.Unlock()
	return n, err
}

// clean removes images that nobody uses, the oldest first, until they are not more than what may stay.
func (i *Images) clean(ctx context.Context) {
	i.mu.Lock()
	used := map[string]bool{}
	for _, references := range i.users {
		for _, reference := range references() {
			if j := i.jobs[reference]; j != nil {
				used[j.image] = true
			}
		}
	}
	i.mu.Unlock()
	all, err := i.host.Images(ctx, Repository)
	if err != nil {
		return // the next one that is brought cleans
	}
	var unused []host.Image
	size := int64(0)
	for _, image := range all {
		if !slices.ContainsFunc(image.Tags, func(tag string) bool { return used[tag] || !strings.HasPrefix(tag, Repository+":") }) {
			unused = append(unused, image)
			size += image.Size
		}
	}
	slices.SortFunc(unused, func(a, b host.Image) int { return cmp.Compare(made(a), made(b)) })
	for _, image := range unused {
		if size <= i.most {
			return
		}
		for _, tag := range image.Tags {
			if i.host.RemoveImage(ctx, tag) == nil {
				i.dropped(tag)
			}
		}
		size -= image.Size
	}
}

func made(image host.Image) (at int64) {
	_ = json.Unmarshal(image.Created, &at) // where it is not known it is old
	return at
}

// dropped forgets that the engine has an image.
func (i *Images) dropped(tag string) {
	i.mu.Lock()
	defer i.mu.Unlock()
	for reference, j := range i.jobs {
		if j.image == tag {
			delete(i.jobs, reference)
		}
	}
}
