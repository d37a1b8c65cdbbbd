package local

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"aditus/internal/confine"
	"aditus/internal/core/declare"
	"aditus/internal/disk"
	"aditus/internal/system"
	"aditus/internal/target/local/keeper"
	"aditus/internal/target/local/store"
)

// reach is what an instance may reach of the machine's files: what every program needs, its artifact, the programs that the site
// allows, its own folders, and what the settings let it beside; nil for all of it. What the site keeps of others, and Aditus itself,
// are not among it.
func (s *Site) reach(workload, id string, part declare.Part, unpacked store.Unpacked) *confine.Rules {
	if slices.Contains(s.Reach, "/") {
		return nil
	}
	r := confine.Machine()
	r.Read = append(r.Read, s.Programs...)
	if own, err := os.Executable(); err == nil { // which can stand in for a service
		r.Read = append(r.Read, own)
	}
	if unpacked.Root != "" {
		r.Read = append(r.Read, unpacked.Root)
	}
	home, secrets := s.home(id), filepath.Join(s.secrets, id)
	r.Read = append(r.Read, filepath.Join(home, settingsFolder), secrets)
	r.Write = append(r.Write, filepath.Join(home, workFolder), filepath.Join(secrets, filesFolder))
	r.Write = append(r.Write, keeper.Pipes(home)...)
	for name := range part.Volumes {
		r.Write = append(r.Write, s.volume(workload, name))
	}
	for _, shared := range sharedFolders {
		if !s.keepsIn(shared) {
			r.Write = append(r.Write, shared)
		}
	}
	r.Write = append(r.Write, s.Reach...)
	return &r
}

// sharedFolders are those that all programs of a machine share.
var sharedFolders = []string{"/tmp", "/var/tmp", "/dev/shm"}

// keepsIn tells whether something lies in a folder that no instance is to reach.
func (s *Site) keepsIn(folder string) bool {
	within := func(name string) bool {
		if real, err := filepath.EvalSymlinks(name); err == nil {
			name = real
		}
		return strings.HasPrefix(name+"/", folder+"/")
	}
	return within(s.Folder) || within(s.places) || within(filepath.Dir(s.secrets))
}

// needsTemporary tells whether an instance needs a folder of its own for what it needs for a while, as it cannot have the machine's.
func (s *Site) needsTemporary() bool {
	return !slices.Contains(s.Reach, "/") && !slices.Contains(s.Reach, "/tmp") && s.keepsIn("/tmp")
}

const temporaryFolder = ".tmp"

// ownFolder makes a folder that is this user's alone, and refuses one that somebody else made, or may read. forAll is one that all users of the
// machine may go through.
func ownFolder(name string, forAll bool) error {
	err := os.MkdirAll(filepath.Dir(name), 0o700)
	if err == nil {
		err = os.Mkdir(name, 0o700)
	}
	if err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	if err == nil && forAll {
		err = os.Chmod(name, passable)
	}
	return errors.Join(disk.Unless(fs.ErrExist, err), ownedFolder(name, forAll))
}

// ownedFolder tells why something is not a folder that is this user's alone.
func ownedFolder(name string, forAll bool) error {
	others := fs.FileMode(0o077)
	if forAll {
		others &^= passable
	}
	info, err := os.Lstat(name)
	if err != nil {
		return err
	}
	owner := system.Owner(info)
	if !info.IsDir() || info.Mode().Perm()&others != 0 || owner >= 0 && owner != os.Geteuid() {
		return fmt.Errorf("%s is for secrets, and is not a folder that is yours alone (%s): find out who made it, and remove it", name, info.Mode())
	}
	return nil
}
