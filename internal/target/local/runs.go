package local

import (
	"context"
	"errors"
	"fmt"
	"os"
	"regexp"
	"strconv"
	"strings"
	"time"

	v1 "github.com/google/go-containerregistry/pkg/v1"

	"aditus/internal/config"
	"aditus/internal/core/declare"
	"aditus/internal/disk"
	"aditus/internal/target"
	"aditus/internal/target/local/store"
)

// runsLook is how often it is looked whether an artifact that is tried is unpacked.
const runsLook = 10 * time.Millisecond

// runs tries whether a part can be run at a site: its artifact is unpacked in a folder that goes again, and what it runs is found in it.
// What looks as if it would not listen where it should is told as a doubt.
func runs(ctx context.Context, g target.Ground, t config.Target, part declare.Part) (doubt string, err error) {
	site := Site{Options: Options{Programs: t.Programs}}
	var unpacked store.Unpacked
	if part.Artifact != "" {
		folder, err := os.MkdirTemp("", "aditus-check")
		if err != nil {
			return "", err
		}
		defer os.RemoveAll(folder)
		artifacts, err := store.Open(folder, 0, func(ctx context.Context, reference string) (v1.Image, error) { return g.Artifact(ctx, reference) }, disk.Machine)
		if err != nil {
			return "", err
		}
		for unpacked, err = artifacts.Get(part.Artifact); errors.Is(err, store.ErrWorking); unpacked, err = artifacts.Get(part.Artifact) {
			select {
			case <-ctx.Done():
				return "", ctx.Err()
			case <-time.After(runsLook):
			}
		}
		if err != nil {
			return "", err
		}
	}
	if _, err := unpacked.Command(part.Command, site.machine(part)); err != nil {
		return "", err
	}
	return doubtfulPort(part), nil
}

// doubtfulPort tells of a port that stands as a number where an instance should read what it is told.
func doubtfulPort(part declare.Part) string {
	if part.Fixed {
		return ""
	}
	texts := append([]string(nil), part.Command...)
	for _, value := range part.Environment {
		texts = append(texts, value)
	}
	for _, file := range part.Files {
		texts = append(texts, file.Text)
	}
	for name, port := range part.Ports {
		number := regexp.MustCompile(`(^|[^0-9.])` + strconv.Itoa(port) + `([^0-9]|$)`)
		if text := strings.Join(texts, "\n"); number.MatchString(text) {
			return fmt.Sprintf("the number %d stands in what it is told, and at a local site its port %s is another one for each instance: write $PORT_%s in its command, ${PORT_%s} in its files, or fixed-ports: true where it cannot be told", port, name, declare.EnvironmentName(name), declare.EnvironmentName(name))
		}
	}
	return ""
}
