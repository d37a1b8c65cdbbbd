package local

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"aditus/internal/core/compare"
	"aditus/internal/core/declare"
	"aditus/internal/disk"
	"aditus/internal/system"
	"aditus/internal/target/local/keeper"
	"aditus/internal/target/wanted"
)

// Settings and secrets are folders of files, a folder for each part of each instance and a file for each key. They are
// laid once, when the instance is created: what a person changes in them is seen as drift, and is put back when the
// revision is laid again, not by the way.

// values are a part's settings or opened secrets, and the folder of an instance that they belong in; empty for what has
// neither.
func (s *Site) values(id, name string, part declare.Part) (values map[string]string, folder string, err error) {
	switch part.Kind {
	case declare.Settings:
		return part.Values, filepath.Join(s.home(id), settingsFolder, name), nil
	case declare.Secret:
		values, err = s.opened(name, part)
		return values, filepath.Join(s.secrets, id, name), err
	}
	return nil, "", nil
}

// opened are the values of a secret, opened just to be laid.
func (s *Site) opened(name string, part declare.Part) (map[string]string, error) {
	opened := map[string]string{}
	for key, sealed := range part.Sealed {
		if s.Open == nil {
			return nil, fmt.Errorf("the secret %s of %s cannot be opened: there is no key", key, name)
		}
		plain, err := s.Options.Open(sealed)
		if err != nil {
			return nil, fmt.Errorf("the secret %s of %s: %w", key, name, err)
		}
		opened[key] = plain
	}
	return opened, nil
}

// lay makes a folder of values, whole or not at all. One that is there stays as it is.
func lay(folder string, values map[string]string) error {
	if _, err := os.Stat(folder); err == nil {
		return nil
	}
	made := folder + ".new" // no part has such a name
	if err := os.RemoveAll(made); err != nil {
		return err
	}
	if err := write(made, values); err != nil {
		return err
	}
	if err := disk.Machine.Rename(made, folder); err != nil {
		return err
	}
	return disk.Machine.Flush(filepath.Dir(folder))
}

// write makes the files of a folder what the values say, each at once, readable by their owner alone.
func write(folder string, values map[string]string) error {
	if err := disk.MakeFolder(disk.Machine, folder, 0o700); err != nil {
		return err
	}
	wanted := map[string]bool{}
	for key, value := range values {
		name := fileName(key)
		wanted[name] = true
		if err := disk.Keep(disk.Machine, filepath.Join(folder, name), []byte(value), 0o600); err != nil {
			return err
		}
	}
	entries, err := os.ReadDir(folder)
	for _, entry := range entries {
		if !wanted[entry.Name()] {
			err = errors.Join(err, os.RemoveAll(filepath.Join(folder, entry.Name())))
		}
	}
	return err
}

// putBack makes volumes, artifacts, and the settings and secrets of instances that were created already what their revision says, and has processes
// that somebody changed start anew.
func (s *Site) putBack(ctx context.Context, workload string, c *wanted.Cohort) error {
	for name, part := range c.Parts {
		if s.contained() {
			continue // its engine keeps the rest
		}
		if part.Kind == declare.Volume {
			if err := s.putBackVolume(workload, name); err != nil {
				return fmt.Errorf("put back the volume %s: %w", name, err)
			}
		}
		if part.Artifact != "" {
			s.Store.Renew(part.Artifact)
		}
	}
	status, _ := s.status(ctx) // where the keeper does not answer, whoever asks it next is told
	for _, in := range c.Instances {
		if len(status.Processes[in.ID].ByHand) > 0 {
			if err := s.book.Restart(workload, in.ID, time.Now()); err != nil {
				return fmt.Errorf("start %s anew, which was changed by hand: %w", in.ID, err)
			}
		}
		for name, part := range c.Parts {
			values, folder, err := s.values(in.ID, name, part)
			if err != nil {
				return err
			}
			if _, err := os.Stat(folder); folder == "" || err != nil {
				continue // it comes when the instance is prepared
			}
			if err := write(folder, values); err != nil {
				return fmt.Errorf("put back %s of %s: %w", name, in.ID, err)
			}
		}
		if s.Users != nil && isFolder(s.home(in.ID)) {
			if err := s.Keeper.hand(ctx, s.Name, in.ID); err != nil {
				return fmt.Errorf("give %s what was put back: %w", in.ID, err)
			}
		}
	}
	return nil
}

// live is a part as it is, which is as it was asked for but for what somebody changed where it lies: the values of settings, secrets by
// their fingerprints, what is unpacked of an artifact, and who may do what in a volume. Nothing else of a local site can change behind its back.
func (s *Site) live(workload string, c *wanted.Cohort, name string, part declare.Part, processes map[string]keeper.State) map[string]any {
	switch part.Kind {
	case declare.Settings:
		part.Values = changed(c, part.Values, func(in wanted.Instance) string { return filepath.Join(s.home(in.ID), settingsFolder, name) }, func(_, text string) string { return text })
	case declare.Secret:
		if s.Mark == nil {
			break
		}
		part.Values = changed(c, part.Values, func(in wanted.Instance) string { return filepath.Join(s.secrets, in.ID, name) }, func(key, text string) string {
			if mark := s.Mark(text); strings.HasPrefix(part.Values[key], markedBy(mark)) {
				return mark
			}
			return part.Values[key] // it was declared where no key was at hand, so it cannot be told
		})
	case declare.Volume:
		if !s.contained() {
			return s.liveVolume(workload, name, part)
		}
	case declare.Service, declare.Task:
		if part.Artifact != "" && !s.contained() && s.Store.Spoilt(part.Artifact) {
			part.Artifact = declare.Tag(part.Artifact) + byHand
		}
		fields := compare.Show(part)
		for _, in := range c.Instances {
			if what := processes[in.ID].ByHand; in.Part == name && len(what) > 0 {
				fields["process"] = strings.Join(what, ", ")
			}
		}
		return fields
	}
	return compare.Show(part)
}

// byHand is behind an artifact that is not what was unpacked.
const byHand = ", changed where it is unpacked"

// markedBy is the word before a fingerprint.
func markedBy(mark string) string {
	word, _, _ := strings.Cut(mark, " ")
	return word + " "
}

// changed are the values of a part in the first instance in which they are not as declared, so that a change in any of them is seen.
func changed(c *wanted.Cohort, declared map[string]string, folder func(wanted.Instance) string, show func(key, text string) string) map[string]string {
	for _, in := range c.Instances {
		values, err := read(folder(in))
		if err != nil {
			continue
		}
		for key, text := range values {
			values[key] = show(key, text)
		}
		if !maps.Equal(values, declared) {
			return values
		}
	}
	return declared
}

// openBits are what the mode of a volume's folder gives to those whom it is not for. Its workload may give its group a look.
const openBits = 0o027

// liveVolume is a volume with its owner, and its mode, where they are others than it was made with.
func (s *Site) liveVolume(workload, name string, part declare.Part) map[string]any {
	fields := compare.Show(part)
	info, err := os.Stat(s.volume(workload, name))
	if err != nil {
		return fields // it comes with the first instance that uses it
	}
	if mode := info.Mode().Perm(); mode&openBits != 0 {
		fields["mode"] = fmt.Sprintf("%04o", mode)
	}
	if own := system.Owner(info); own >= 0 && !s.owns(workload, own) {
		fields["owner"] = fmt.Sprintf("user %d", own)
	}
	return fields
}

// putBackVolume makes a volume's folder what it was made as.
func (s *Site) putBackVolume(workload, name string) error {
	at := s.volume(workload, name)
	info, err := os.Stat(at)
	if err != nil {
		return nil // it is made for the first instance that uses it
	}
	if own := system.Owner(info); own >= 0 && !s.owns(workload, own) {
		err = os.Chown(at, os.Getuid(), os.Getgid()) // its user gets it with the next start
	}
	if mode := info.Mode().Perm(); err == nil && mode&openBits != 0 {
		err = os.Chmod(at, mode&^openBits|0o700)
	}
	return err
}

// longestValue is how much is read of a file that holds a value.
const longestValue = 64 << 10

// read reads a folder of values.
func read(folder string) (map[string]string, error) {
	entries, err := os.ReadDir(folder)
	if err != nil {
		return nil, err
	}
	values := map[string]string{}
	for _, entry := range entries {
		key, err := url.PathUnescape(entry.Name())
		if err != nil || !entry.Type().IsRegular() || strings.HasPrefix(entry.Name(), hidden) {
			continue // no key has such a name
		}
		file, err := os.Open(filepath.Join(folder, entry.Name()))
		if err != nil {
			continue // it has just gone, or is another's
		}
		text, err := io.ReadAll(io.LimitReader(file, longestValue))
		file.Close()
		if err == nil {
			values[key] = string(text)
		}
	}
	return values, nil
}

// hidden begins the names of files that are no keys.
const hidden = "."

// fileName is a key as the name of a file.
func fileName(key string) string {
	name := url.PathEscape(key)
	if strings.HasPrefix(name, hidden) {
		name = "%2E" + name[1:]
	}
	return name
}
