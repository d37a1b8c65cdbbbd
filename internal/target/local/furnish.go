package local

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"aditus/internal/core/declare"
	"aditus/internal/target/asked"
	"aditus/internal/target/local/keeper"
	"aditus/internal/target/local/store"
)

// Folders: of sites in the data folder, of instances in a site's, and what an instance's holds beside what the keeper
// has there.
const (
	sitesFolder     = "local"
	instancesFolder = "instances"
	workFolder      = "work"
	settingsFolder  = "settings"
	secretsFolder   = "secrets"
	volumesFolder   = "volumes"
)

// memoryFolder is a folder of the user's own on a file system in memory, the data folder where there is none.
func memoryFolder(otherwise string) string {
	if folder := os.Getenv("XDG_RUNTIME_DIR"); folder != "" {
		if info, err := os.Stat(folder); err == nil && info.IsDir() {
			return folder
		}
	}
	if info, err := os.Stat("/dev/shm"); err == nil && info.IsDir() {
		return "/dev/shm"
	}
	return otherwise
}

// volume is the folder of a volume. It belongs to the workload at the site, whatever its revision.
func (s *Site) volume(workload, part string) string {
	return filepath.Join(s.folder, volumesFolder, workload, part)
}

// furnish makes an instance's folder ready and gives its environment, but for the ports: its settings and secrets as files
// and variables, what its artifact holds, and its volumes. What is there already is made as it should be.
func (s *Site) furnish(workload string, c *asked.Cohort, in asked.Instance, unpacked store.Unpacked) ([]string, error) {
	folder := filepath.Join(s.folder, instancesFolder, in.ID)
	work := filepath.Join(folder, workFolder)
	if err := os.MkdirAll(work, 0o700); err != nil {
		return nil, err
	}
	part := c.Parts[in.Part]
	variables := map[string]string{}
	for _, text := range unpacked.Config.Env {
		name, value, _ := strings.Cut(text, "=")
		variables[name] = value
	}
	hidden := filepath.Join(s.secrets, in.ID)
	for name, other := range c.Parts {
		var err error
		switch other.Kind {
		case declare.Settings:
			err = lay(filepath.Join(folder, settingsFolder, name), other.Values, variables)
		case declare.Secret:
			err = s.layOpened(filepath.Join(hidden, name), name, other, variables)
		}
		if err != nil {
			return nil, err
		}
	}
	maps.Copy(variables, part.Environment)
	for name, at := range part.Volumes {
		real := s.volume(workload, name)
		if err := os.MkdirAll(real, 0o700); err != nil {
			return nil, err
		}
		seen := filepath.Join(work, filepath.FromSlash(path.Clean("/"+at)))
		if err := os.MkdirAll(filepath.Dir(seen), 0o700); err != nil {
			return nil, err
		}
		if err := link(real, seen); err != nil {
			return nil, err
		}
		variables["VOLUME_"+keeper.Variable(name)] = real
	}
	entries, err := os.ReadDir(unpacked.Folder())
	if err != nil {
		return nil, err
	}
	for _, entry := range entries { // so that it finds its own files where it runs, and writes nothing into the artifact
		if err := link(filepath.Join(unpacked.Folder(), entry.Name()), filepath.Join(work, entry.Name())); err != nil {
			return nil, err
		}
	}
	variables["INSTANCE"], variables["WORKLOAD"], variables["SITE"] = in.ID, workload, s.Name
	variables["SETTINGS"], variables["SECRETS"] = filepath.Join(folder, settingsFolder), hidden
	environment := make([]string, 0, len(variables))
	for _, name := range slices.Sorted(maps.Keys(variables)) {
		environment = append(environment, name+"="+variables[name])
	}
	return environment, nil
}

// link makes a symbolic link, in the place of another one.
func link(to, name string) error {
	if was, err := os.Readlink(name); err == nil {
		if was == to {
			return nil
		}
		if err := os.Remove(name); err != nil {
			return err
		}
	}
	if err := os.Symlink(to, name); err != nil && !errors.Is(err, fs.ErrExist) { // what the instance made itself stays
		return err
	}
	return nil
}

// lay writes values as files that are the owner's alone, and as variables.
func lay(folder string, values, variables map[string]string) error {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return err
	}
	wanted := map[string]bool{}
	for key, value := range values {
		name := fileName(key)
		wanted[name] = true
		variables[keeper.Variable(key)] = value
		at := filepath.Join(folder, name)
		if now, err := os.ReadFile(at); err == nil && string(now) == value {
			continue
		}
		if err := os.WriteFile(at+".new", []byte(value), 0o600); err != nil {
			return err
		}
		if err := os.Rename(at+".new", at); err != nil {
			return err
		}
	}
	entries, err := os.ReadDir(folder)
	for _, entry := range entries {
		if !wanted[entry.Name()] {
			err = errors.Join(err, os.Remove(filepath.Join(folder, entry.Name())))
		}
	}
	return err
}

// layOpened writes a secret's values, opened just for that.
func (s *Site) layOpened(folder, name string, part declare.Part, variables map[string]string) error {
	opened := map[string]string{}
	for key, sealed := range part.Sealed {
		if s.Open == nil {
			return fmt.Errorf("the secret %s of %s cannot be opened: there is no key", key, name)
		}
		plain, err := s.Options.Open(sealed)
		if err != nil {
			return fmt.Errorf("the secret %s of %s: %w", key, name, err)
		}
		opened[key] = plain
	}
	return lay(folder, opened, variables)
}

// fileName is a key as the name of a file.
func fileName(key string) string {
	name := url.PathEscape(key)
	if strings.HasPrefix(name, ".") {
		name = "%2E" + name[1:]
	}
	return name
}
