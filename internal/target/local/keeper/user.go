package keeper

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"aditus/internal/config"
	"aditus/internal/confine"
	"aditus/internal/core/declare"
	"aditus/internal/disk"
	"aditus/internal/system"
)

// A process that runs as a user of its own has a group of the same number, and is handed what it is to have: it may write where it
// runs and into its volumes, and read its settings and secrets. The keeper gives away nothing but what is its own, or another such
// user's, and follows no links while it does: whoever tells it what to run gains nothing of the machine's by that.

// Folders in that of a process, and in that of its secrets.
const (
	workFolder     = "work"
	SettingsFolder = "settings"
	FilesFolder    = ".files" // of declared files, beside its secrets
)

// Modes of what is handed to a process's user by its group, and of what is its own.
const (
	enterable    = 0o710 // a folder that is gone through
	readable     = 0o750
	writable     = 0o770
	readableFile = 0o640
	ownFolder    = 0o700
)

// usersOf reads whom a keeper may run processes as, and sees that the system lets it.
func usersOf(text string) (config.Users, error) {
	if text == "" {
		return nil, nil
	}
	users, err := config.ReadUsers(text)
	if err == nil {
		err = confine.MayBecome()
	}
	if err != nil {
		return nil, fmt.Errorf("run processes as users of their own: %w", err)
	}
	return users, nil
}

// hand gives a process's user what it is to have, once something of it was laid anew.
func (s *site) hand(id string) error {
	s.mu.Lock()
	p := s.processes[id]
	s.mu.Unlock()
	if p == nil {
		return nil // it is handed over when it starts
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.hand()
}

// hand gives the process's user what it is to have.
func (p *process) hand() error {
	user := p.spec.User
	if user == 0 {
		return nil
	}
	if !p.site.keeper.users.Has(user) {
		return fmt.Errorf("it is to run as user %d, which this keeper may not start anything as: its --users are others", user)
	}
	home, err := openOwn(p.folder)
	if err != nil {
		return err
	}
	defer home.Close()
	err = errors.Join(pass(home, ".", user, enterable), handTree(home, workFolder, user, writable), handTree(home, SettingsFolder, user, readable))
	if p.spec.Secrets != "" {
		secrets, err2 := openOwn(p.spec.Secrets)
		if err2 == nil {
			defer secrets.Close()
			err2 = errors.Join(handTree(secrets, ".", user, readable), handTree(secrets, FilesFolder, user, writable))
		}
		err = errors.Join(err, disk.Unless(fs.ErrNotExist, err2))
	}
	for _, volume := range p.spec.Volumes {
		err = errors.Join(err, p.site.keeper.give(volume, user))
	}
	if err != nil {
		return fmt.Errorf("hand it what is its: %w", err)
	}
	return nil
}

// openOwn opens a folder that is this user's, and that nobody else may write to.
func openOwn(folder string) (*os.Root, error) {
	root, err := os.OpenRoot(folder)
	if err != nil {
		return nil, err
	}
	info, err := root.Stat(".")
	if err == nil && (system.Owner(info) != os.Geteuid() || info.Mode().Perm()&0o022 != 0) {
		err = fmt.Errorf("%s is not its keeper's alone", folder)
	}
	if err != nil {
		root.Close()
		return nil, err
	}
	return root, nil
}

// pass lets a user's group have what is this user's, in a mode.
func pass(root *os.Root, name string, user int, mode fs.FileMode) error {
	return errors.Join(root.Lchown(name, -1, user), root.Chmod(name, mode))
}

// handTree lets a user's group read, or write to, the folders of a tree, and read its files, as far as they are this user's. What the user made there
// is its own already.
func handTree(root *os.Root, from string, user int, mode fs.FileMode) error {
	return fs.WalkDir(root.FS(), from, func(name string, entry fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if entry != nil && err == nil {
			var info fs.FileInfo
			if info, err = entry.Info(); err == nil {
				return handOne(root, name, info, user, mode)
			}
		}
		if entry != nil && entry.IsDir() {
			return fs.SkipDir // of its own, and closed to all others
		}
		return disk.Unless(fs.ErrNotExist, err)
	})
}

func handOne(root *os.Root, name string, info fs.FileInfo, user int, mode fs.FileMode) error {
	switch {
	case system.Owner(info) != os.Geteuid():
		if info.IsDir() {
			return fs.SkipDir
		}
		return nil
	case info.IsDir():
		return disk.Unless(fs.ErrNotExist, pass(root, name, user, mode))
	case info.Mode().IsRegular() && mode == readable:
		return disk.Unless(fs.ErrNotExist, pass(root, name, user, readableFile))
	}
	return nil
}

// give makes a folder a user's, with all that is in it, where it is another's yet.
func (k *Keeper) give(folder string, user int) error {
	above, err := openOwn(filepath.Dir(folder))
	if err != nil {
		return err
	}
	defer above.Close()
	name := filepath.Base(folder)
	info, err := above.Lstat(name)
	if err != nil {
		return err
	}
	switch is := system.Owner(info); {
	case is == user:
		return nil
	case !info.IsDir() || is != os.Geteuid() && !k.users.Has(is):
		return fmt.Errorf("%s is not its keeper's to give away", folder)
	}
	if err := k.seize(above, name, user); err != nil {
		return err
	}
	return above.Lchown(name, user, user)
}

// seize makes a tree this user's, and all that is in it another's where that is not 0. Only what is this user's, or one's of those whom it
// may start things as, is touched.
func (k *Keeper) seize(root *os.Root, name string, user int) error {
	info, err := root.Lstat(name)
	if err != nil {
		return disk.Unless(fs.ErrNotExist, err)
	}
	own := os.Geteuid()
	if is := system.Owner(info); is != own && !k.users.Has(is) {
		return nil
	}
	if !info.IsDir() {
		if user == 0 {
			return nil // its folder's owner removes it
		}
		return root.Lchown(name, user, user)
	}
	mode := info.Mode().Perm()
	if err := errors.Join(root.Lchown(name, own, -1), root.Chmod(name, mode|ownFolder)); err != nil {
		return err
	}
	entries, err := fs.ReadDir(root.FS(), name)
	for _, entry := range entries {
		below := path.Join(name, entry.Name())
		err = errors.Join(err, k.seize(root, below, user))
		if user != 0 && entry.IsDir() {
			err = errors.Join(err, disk.Unless(fs.ErrNotExist, root.Lchown(below, user, user)))
		}
	}
	return errors.Join(err, root.Chmod(name, mode|ownFolder))
}

// GonePrefix begins the names of folders that are to be removed.
const GonePrefix = ".gone-"

// remove removes a folder that nobody wants any more, whoever wrote into it.
func (k *Keeper) remove(folder string) error {
	name := filepath.Base(folder)
	if !strings.HasPrefix(name, GonePrefix) {
		return fmt.Errorf("%s is not one that is to be removed", folder)
	}
	above, err := openOwn(filepath.Dir(folder))
	if err != nil {
		return disk.Unless(fs.ErrNotExist, err)
	}
	defer above.Close()
	if above.RemoveAll(name) == nil {
		return nil
	}
	return errors.Join(k.seize(above, name, 0), above.RemoveAll(name))
}

// lay lays the process's files, with what is in an environment filled in. Their folder is one that it may write to: nothing is laid outside
// of it.
func (p *process) lay(environment []string) error {
	if len(p.spec.Files) == 0 {
		return nil
	}
	err := os.MkdirAll(p.spec.Secrets, ownFolder)
	var secrets *os.Root
	if err == nil {
		secrets, err = openOwn(p.spec.Secrets)
	}
	if err == nil {
		err = secrets.MkdirAll(FilesFolder, ownFolder)
		secrets.Close()
	}
	var root *os.Root
	if err == nil {
		root, err = os.OpenRoot(filepath.Join(p.spec.Secrets, FilesFolder))
	}
	if err != nil {
		return fmt.Errorf("lay its files: %w", err)
	}
	defer root.Close()
	user := p.spec.User
	if c := p.spec.Container; c != nil && os.Geteuid() == 0 {
		user, _ = strconv.Atoi(c.User) // the image's own where it is left out, whose number nobody knows here
	}
	for _, file := range p.spec.Files {
		if err := file.lay(root, environment, user); err != nil {
			return fmt.Errorf("lay %s: %w", path.Base(file.At), err)
		}
	}
	return nil
}

func (f File) lay(root *os.Root, environment []string, user int) error {
	mode, err := strconv.ParseUint(f.Mode, 8, 32)
	if err != nil {
		return fmt.Errorf("its mode is %q", f.Mode)
	}
	if err := root.MkdirAll(path.Dir(f.At), ownFolder); err != nil {
		return err
	}
	text := declare.TellNames(f.Text, func(name string) (string, bool) {
		value := lookup(environment, name)
		return value, value != "" || slices.ContainsFunc(environment, func(v string) bool { return strings.HasPrefix(v, name+"=") })
	})
	if err := root.RemoveAll(f.At); err != nil { // whatever was put in its place
		return err
	}
	file, err := root.OpenFile(f.At, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	_, err = file.WriteString(text)
	if err = errors.Join(err, file.Chmod(os.FileMode(mode))); err == nil && user != 0 { // whatever the keeper's own umask is
		err = file.Chown(user, user)
	}
	return errors.Join(err, file.Close())
}
