package local

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"aditus/internal/core/declare"
	"aditus/internal/disk"
	"aditus/internal/system"
	"aditus/internal/target/local/keeper"
	"aditus/internal/target/local/store"
	"aditus/internal/target/wanted"
)

// Folders: of sites in the data folder, of instances in a site's, and what an instance's holds beside what the keeper
// has there.
const (
	sitesFolder     = "local"
	instancesFolder = "instances"
	workFolder      = "work"
	settingsFolder  = keeper.SettingsFolder
	secretsFolder   = "secrets"
	volumesFolder   = "volumes"
	filesFolder     = keeper.FilesFolder
)

// memoryFolder is a folder on a file system in memory, another one where there is none: of the user's own, or one that all users may enter.
func memoryFolder(otherwise string, forAll bool) string {
	folders := []string{os.Getenv("XDG_RUNTIME_DIR"), "/dev/shm"}
	if forAll {
		folders = folders[1:]
	}
	if os.Geteuid() == 0 && system.Memory("/run") { // which programs do not share
		folders = []string{"/run", "/dev/shm"}
	}
	for _, folder := range folders {
		if folder != "" && isFolder(folder) {
			return folder
		}
	}
	return otherwise
}

// volume is the folder of a volume. It belongs to the workload at the site, whatever its revision.
func (s *Site) volume(workload, part string) string {
	return filepath.Join(s.places, volumesFolder, workload, part)
}

// room is where instances are made when the disk is full, on a file system in memory: what goes back must not wait for it.
func (s *Site) room() string { return filepath.Join(s.secrets, roomFolder) }

const roomFolder = ".instances"

// countsFolder is where the router keeps what it counts, on the same file system: it need not outlive the machine.
const countsFolder = ".counts"

// secretsOf is where the secrets of a site's instances are, on a file system in memory where there is one. places is where the instances are.
func secretsOf(data, site, places string) string {
	own := filepath.Join(data, sitesFolder, site)
	forAll := places != own
	sum := sha256.Sum256([]byte(own))
	name := "aditus-" + hex.EncodeToString(sum[:8])
	if before := filepath.Join("/dev/shm", name); ownedFolder(before, forAll) == nil {
		return before // where earlier versions had them, and what runs has them
	}
	return filepath.Join(memoryFolder(filepath.Dir(filepath.Dir(places)), forAll), name)
}

// roomOf is the room of a site of a data folder.
func roomOf(data, site, places string) string {
	return filepath.Join(secretsOf(data, site, places), roomFolder)
}

// home is an instance's folder.
func (s *Site) home(id string) string {
	at := filepath.Join(s.places, instancesFolder, id)
	if _, err := os.Stat(at); err != nil {
		if room := filepath.Join(s.room(), id); isFolder(room) {
			return room
		}
	}
	return at
}

func isFolder(name string) bool {
	info, err := os.Stat(name)
	return err == nil && info.IsDir()
}

// ready is prepare where there is room for it: on the disk, or else in memory, for an instance that does not run yet.
func (s *Site) ready(workload string, c *wanted.Cohort, in wanted.Instance, unpacked store.Unpacked) ([]string, error) {
	at := s.home(in.ID)
	_, ran := os.Stat(filepath.Join(at, keeper.RecordFile))
	environment, err := s.prepare(at, workload, c, in, unpacked)
	if room := filepath.Join(s.room(), in.ID); errors.Is(err, syscall.ENOSPC) && ran != nil && at != room {
		os.RemoveAll(at)
		if err := s.makeFolder(s.room()); err != nil {
			return nil, err
		}
		environment, err = s.prepare(room, workload, c, in, unpacked)
	}
	return environment, err
}

// prepare makes an instance's folder ready and gives its environment, but for the ports: its settings and secrets as files
// and variables, what its artifact holds, and its volumes. What is missing there is made; what is there stays.
func (s *Site) prepare(folder, workload string, c *wanted.Cohort, in wanted.Instance, unpacked store.Unpacked) ([]string, error) {
	work := filepath.Join(folder, workFolder)
	if err := os.MkdirAll(work, 0o700); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(filepath.Join(folder, keeper.LogFolder), 0o700); err != nil { // so that there is room for all that the keeper needs
		return nil, err
	}
	part := c.Parts[in.Part]
	variables := map[string]string{}
	for _, text := range unpacked.Config.Env {
		name, value, _ := strings.Cut(text, "=")
		variables[name] = value
	}
	if err := s.layValues(in.ID, c, variables); err != nil {
		return nil, err
	}
	told := s.address(workload, in.Part, c)
	for name, value := range part.Environment {
		variables[name] = declare.Tell(value, told)
	}
	if err := s.furnish(work, workload, in.ID, part, unpacked); err != nil {
		return nil, err
	}
	for name := range part.Volumes {
		variables["VOLUME_"+declare.EnvironmentName(name)] = s.volume(workload, name)
	}
	if s.needsTemporary() && variables["TMPDIR"] == "" {
		variables["TMPDIR"] = filepath.Join(work, temporaryFolder)
	}
	variables["INSTANCE"], variables["WORKLOAD"], variables["SITE"] = in.ID, workload, s.Name
	variables["SETTINGS"], variables["SECRETS"] = filepath.Join(folder, settingsFolder), filepath.Join(s.secrets, in.ID)
	return listed(variables), nil
}

// layValues lays the settings and secrets of a cohort for an instance, and puts them among its variables.
func (s *Site) layValues(id string, c *wanted.Cohort, variables map[string]string) error {
	for name, part := range c.Parts {
		values, at, err := s.values(id, name, part)
		if err == nil && at != "" {
			err = lay(at, values)
		}
		if err != nil {
			return err
		}
		for key, value := range values {
			variables[declare.EnvironmentName(key)] = value
		}
	}
	return nil
}

// listed are variables as an environment, in the order of their names.
func listed(variables map[string]string) []string {
	environment := make([]string, 0, len(variables))
	for _, name := range slices.Sorted(maps.Keys(variables)) {
		environment = append(environment, name+"="+variables[name])
	}
	return environment
}

// furnish puts into the folder that an instance runs in what it is to find there: volumes, files, and what its artifact holds. It may
// have written there what it likes, links too: nothing is made outside of the folder.
func (s *Site) furnish(folder, workload, id string, part declare.Part, unpacked store.Unpacked) error {
	root, err := os.OpenRoot(folder)
	if err != nil {
		return err
	}
	defer root.Close()
	own := map[string]bool{} // what is not the artifact's: true for folders in which there is more than what it has there
	put := func(real, at string) error {
		seen := within(at)
		own[seen] = false
		if err := makeFolders(root, path.Dir(seen), own); err != nil {
			return err
		}
		return link(root, real, seen)
	}
	for name, at := range part.Volumes {
		real := s.volume(workload, name)
		err := s.makeFolder(filepath.Dir(real))
		if err == nil {
			err = disk.MakeFolder(disk.Machine, real, 0o700)
		}
		if err != nil {
			return err
		}
		if err := put(real, at); err != nil {
			return err
		}
	}
	if err := makeFolders(root, within(part.Folder), own); err != nil { // it runs there, and writes nothing into the artifact
		return err
	}
	for name := range part.Files {
		if volume, below := volumeAt(part.Volumes, name); volume != "" {
			err = s.linkInVolume(workload, volume, s.laid(id, name), below)
		} else {
			err = put(s.laid(id, name), name)
		}
		if err != nil {
			return err
		}
	}
	if s.needsTemporary() {
		if err := makeFolders(root, temporaryFolder, own); err != nil {
			return err
		}
	}
	if unpacked.Root == "" {
		return nil
	}
	return linkAll(root, unpacked.Folder(), ".", own)
}

// volumeAt is the volume that a declared path lies in, and the path within it; empty where it lies in none.
func volumeAt(volumes map[string]string, at string) (volume, below string) {
	for name, mount := range volumes {
		if rest, is := strings.CutPrefix(within(at), within(mount)+"/"); is {
			return name, rest
		}
	}
	return "", ""
}

// linkInVolume lets a file be found in a volume.
func (s *Site) linkInVolume(workload, volume, real, below string) error {
	root, err := os.OpenRoot(s.volume(workload, volume))
	if err != nil && s.Users != nil && errors.Is(err, fs.ErrPermission) {
		return fmt.Errorf("a file cannot be declared within the volume %s, which is its user's alone: declare it beside", volume)
	}
	if err != nil {
		return err
	}
	defer root.Close()
	if err := root.MkdirAll(path.Dir(below), 0o700); err != nil {
		return err
	}
	return link(root, real, below)
}

// within is a declared path as one within a folder.
func within(at string) string { return path.Join(".", path.Clean("/"+at)) }

// makeFolders makes a folder within another one, and notes it and those that it lies in.
func makeFolders(root *os.Root, at string, own map[string]bool) error {
	for up := at; up != "."; up = path.Dir(up) {
		if _, is := own[up]; !is {
			own[up] = true
		}
	}
	return root.MkdirAll(at, 0o700)
}

// linkAll links what a folder has into another one, so that an instance finds its own files where it runs, and writes nothing
// into the artifact. What is its own there stays.
func linkAll(root *os.Root, from, to string, own map[string]bool) error {
	entries, err := os.ReadDir(from)
	if err != nil {
		return err
	}
	for _, entry := range entries {
		real, seen := filepath.Join(from, entry.Name()), path.Join(to, entry.Name())
		switch folder, is := own[seen]; {
		case folder && entry.IsDir():
			err = linkAll(root, real, seen, own)
		case !is:
			err = link(root, real, seen)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// link makes a symbolic link, in the place of another one.
func link(root *os.Root, to, name string) error {
	if was, err := root.Readlink(name); err == nil {
		if was == to {
			return nil
		}
		if err := root.Remove(name); err != nil {
			return err
		}
	}
	if err := root.Symlink(to, name); err != nil && !errors.Is(err, fs.ErrExist) { // what the instance made itself stays
		return err
	}
	return nil
}
