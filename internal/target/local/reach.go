package local

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"

	"aditus/internal/confine"
	"aditus/internal/core/declare"
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
	return within(s.Folder) || within(filepath.Dir(s.secrets))
}

// temporary is the folder for what an instance needs for a while, where it cannot have the machine's; empty where it can.
func (s *Site) temporary(work string) string {
	if slices.Contains(s.Reach, "/") || slices.Contains(s.Reach, "/tmp") || !s.keepsIn("/tmp") {
		return ""
	}
	return filepath.Join(work, temporaryFolder)
}

const temporaryFolder = ".tmp"

// isMemory tells whether a folder is on a file system in memory.
func isMemory(folder string) bool {
	var info unix.Statfs_t
	return unix.Statfs(folder, &info) == nil && info.Type == unix.TMPFS_MAGIC
}

// ownFolder makes a folder that is this user's alone, and refuses one that somebody else made, or may read.
func ownFolder(name string) error {
	err := os.MkdirAll(filepath.Dir(name), 0o700)
	if err == nil {
		err = os.Mkdir(name, 0o700)
	}
	if err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	return ownedFolder(name)
}

// ownedFolder tells why something is not a folder that is this user's alone.
func ownedFolder(name string) error {
	info, err := os.Lstat(name)
	if err != nil {
		return err
	}
	owner, known := info.Sys().(*syscall.Stat_t)
	if !info.IsDir() || info.Mode().Perm()&0o077 != 0 || known && int(owner.Uid) != os.Geteuid() {
		return fmt.Errorf("%s is for secrets, and is not a folder that is yours alone (%s): find out who made it, and remove it", name, info.Mode())
	}
	return nil
}
