package local

import (
	"errors"
	"fmt"
	"io"
	"maps"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"aditus/internal/core/declare"
	"aditus/internal/disk"
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

// putBack makes the settings and secrets of instances that were created already what their revision says.
func (s *Site) putBack(c *wanted.Cohort) error {
	for _, in := range c.Instances {
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
	}
	return nil
}

// live are a settings part's values as they lie in the folders of a cohort's instances: those of the first instance in
// which they are not as declared, so that a change in any of them is seen.
func (s *Site) live(c *wanted.Cohort, name string, part declare.Part) declare.Part {
	for _, in := range c.Instances {
		values, err := read(filepath.Join(s.home(in.ID), settingsFolder, name))
		if err == nil && !maps.Equal(values, part.Values) {
			part.Values = values
			return part
		}
	}
	return part
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
