package local

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"

	"aditus/internal/config"
	"aditus/internal/core/declare"
	"aditus/internal/disk"
	"aditus/internal/system"
	"aditus/internal/target/local/keeper"
)

// Users are those whom the workloads of a machine's sites run as: each at each site as one of its own. A nil *Users gives nobody one.
type Users struct {
	config.Instances
	file string
	free config.UserRange // those to be given

	mu    sync.Mutex
	given map[string]int // by site and workload
	sites map[string]*Site
}

// usersFile has who was given which number, in the data folder.
const usersFile = "users.json"

// OpenUsers reads who was given which number in a data folder, and sees that all users may come as far as the folder of their instances, but where
// it is only looked at, by whomever.
func OpenUsers(folder string, i config.Instances, readOnly bool) (*Users, error) {
	of, err := config.ReadUsers(i.Users)
	if err != nil {
		return nil, fmt.Errorf("instances: users: %w", err)
	}
	u := &Users{Instances: i, file: filepath.Join(folder, usersFile), free: of[0], given: map[string]int{}, sites: map[string]*Site{}}
	text, err := os.ReadFile(u.file)
	if err == nil {
		err = json.Unmarshal(text, &u.given)
	}
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("read who has which user %s: %w; volumes belong to those users: write it anew from whose they are, or remove it where there are none", u.file, err)
	}
	if readOnly {
		return u, nil
	}
	return u, enterable(i.Folder)
}

// enterable makes a folder that all users may enter, and sees that they may enter those that it lies in too.
func enterable(folder string) error {
	_, err := os.Stat(folder)
	if errors.Is(err, fs.ErrNotExist) {
		if err = os.Mkdir(folder, passable); err == nil {
			err = os.Chmod(folder, passable)
		}
	}
	if err != nil {
		return fmt.Errorf("instances: folder: %w; make it, and give it to the user that Aditus runs as", err)
	}
	info, err := os.Stat(folder)
	if err == nil && (info.Mode().Perm()&0o022 != 0 || !isOwn(info)) {
		return fmt.Errorf("instances: folder: %s is not this user's alone to write to (%s): chown it to the user that Aditus runs as, and chmod 711 it", folder, info.Mode())
	}
	return errors.Join(err, mayEnter(folder))
}

// mayEnter tells why others may not come as far as a folder.
func mayEnter(folder string) error {
	for at := folder; ; at = filepath.Dir(at) {
		info, err := os.Stat(at)
		if err != nil {
			return err
		}
		if info.Mode().Perm()&0o001 == 0 {
			return fmt.Errorf("instances: folder: the users that workloads run as cannot enter %s (%s): choose one that all may enter, such as /srv/aditus, or chmod o+x it", at, info.Mode())
		}
		if at == filepath.Dir(at) {
			return nil
		}
	}
}

// places is the folder of a site's instances and volumes.
func (u *Users) places(site string) string { return filepath.Join(u.Folder, sitesFolder, site) }

// use has a site asked what it has, before a number is given anew that was another's.
func (u *Users) use(s *Site) {
	u.mu.Lock()
	defer u.mu.Unlock()
	u.sites[s.Name] = s
}

// of is the user that a part of a workload runs as: one that it asks for and may have, or else the workload's own.
func (u *Users) of(s *Site, workload string, part declare.Part) (int, error) {
	if u == nil {
		return 0, nil
	}
	if part.User != nil && declare.Matches(u.Allow[*part.User], workload) {
		return *part.User, nil
	}
	u.mu.Lock()
	defer u.mu.Unlock()
	key := s.Name + "/" + workload
	if number, ok := u.given[key]; ok && number >= u.free.First && number <= u.free.Last {
		return number, nil
	}
	number, err := u.next()
	if err != nil {
		return 0, err
	}
	given := maps.Clone(u.given)
	maps.DeleteFunc(given, func(_ string, other int) bool { return other == number })
	given[key] = number
	text, err := json.MarshalIndent(given, "", "\t")
	if err == nil {
		err = disk.Keep(disk.Machine, u.file, text, 0o600) // before anything is its
	}
	if err != nil {
		return 0, fmt.Errorf("keep who has which user: %w", err)
	}
	u.given = given
	return number, nil
}

// next is a number that nobody has, or whose owner has nothing any more. It is called with the lock held.
func (u *Users) next() (int, error) {
	taken := map[int]bool{}
	for _, number := range u.given {
		taken[number] = true
	}
	for number := u.free.First; number <= u.free.Last; number++ {
		if !taken[number] {
			return number, nil
		}
	}
	for _, key := range slices.Sorted(maps.Keys(u.given)) {
		site, workload, _ := strings.Cut(key, "/")
		if s := u.sites[site]; s != nil && !s.has(workload) {
			return u.given[key], nil
		}
	}
	return 0, fmt.Errorf("each of the %d users %s is a workload's: give instances: users: in the settings more of them", u.free.Last-u.free.First+1, u.Instances.Users)
}

// has tells whether a workload has anything at the site.
func (s *Site) has(workload string) bool {
	volumes, _ := os.ReadDir(filepath.Join(s.places, volumesFolder, workload)) // where there is none it has none
	return len(volumes) > 0 || slices.Contains(s.book.Workloads(), workload)
}

// owns tells whether something in a workload's volumes is whose it should be.
func (s *Site) owns(workload string, user int) bool {
	if user == os.Getuid() {
		return true // until it is handed to its user with the next start
	}
	if s.Users == nil {
		return false
	}
	s.Users.mu.Lock()
	defer s.Users.mu.Unlock()
	return s.Users.given[s.Name+"/"+workload] == user || declare.Matches(s.Users.Allow[user], workload)
}

// passable is the mode of folders that all users may go through.
const passable = 0o711

// makeFolder makes a folder of the site's own, and those that it lies in; where workloads run as users of their own, they may go through it.
func (s *Site) makeFolder(folder string) error {
	if s.Users == nil {
		return os.MkdirAll(folder, 0o700)
	}
	if isFolder(folder) {
		return nil
	}
	if err := s.makeFolder(filepath.Dir(folder)); err != nil {
		return err
	}
	if err := os.Mkdir(folder, passable); err != nil && !errors.Is(err, fs.ErrExist) {
		return err
	}
	return os.Chmod(folder, passable) // whatever the umask is
}

// remove removes a folder of the site's at once. What a user has in it that this program may not remove, the keeper does.
func (s *Site) remove(folder string) error {
	gone := filepath.Join(filepath.Dir(folder), fmt.Sprintf("%s%s-%08x", keeper.GonePrefix, filepath.Base(folder), rand.Uint32()))
	if err := os.Rename(folder, gone); err != nil {
		return disk.Unless(fs.ErrNotExist, err)
	}
	if err := os.RemoveAll(gone); err != nil && s.Users == nil {
		return err
	}
	return nil
}

// gone are folders that the keeper is to remove.
func (s *Site) gone() (all []string) {
	if s.Users == nil {
		return nil
	}
	for _, pattern := range []string{filepath.Join(s.places, instancesFolder), s.room(), s.secrets, filepath.Join(s.places, volumesFolder, "*")} {
		found, _ := filepath.Glob(filepath.Join(pattern, keeper.GonePrefix+"*")) // the pattern is right
		all = append(all, found...)
	}
	return all
}

// placesFile says where a site's instances and volumes are, once that was not the data folder.
const placesFile = "places"

// placesOf is where a site's instances and volumes were the last time: in the data folder, or where each workload had a user of its own.
func placesOf(data, site string) (string, error) {
	folder := filepath.Join(data, sitesFolder, site)
	text, err := os.ReadFile(filepath.Join(folder, placesFile))
	if errors.Is(err, fs.ErrNotExist) {
		return folder, nil
	}
	return string(text), err
}

// settle brings volumes to where they are to be, where that is another folder than the last time. What runs there has to be ended before.
func (s *Site) settle() error {
	before, err := placesOf(s.Folder, s.Name)
	if err != nil || before == s.places {
		return err
	}
	if len(keeper.Running([]string{filepath.Join(before, instancesFolder)})) > 0 {
		return fmt.Errorf("its instances run in %s, and are to be in %s by the settings (instances:): end them with aditus keep --end, and start again", before, s.places)
	}
	from, to := filepath.Join(before, volumesFolder), filepath.Join(s.places, volumesFolder)
	if isFolder(from) {
		if err := s.makeFolder(s.places); err != nil {
			return err
		}
		if err := os.Rename(from, to); err != nil {
			return fmt.Errorf("bring its volumes to where they are to be by the settings (instances:): %w; move %s to %s by hand, and start again", err, from, to)
		}
	}
	mode := fs.FileMode(0o700)
	if s.Users != nil {
		mode = passable
	}
	workloads, err := filepath.Glob(filepath.Join(to, "*"))
	if isFolder(to) {
		workloads = append(workloads, to)
	}
	for _, folder := range workloads {
		err = errors.Join(err, os.Chmod(folder, mode))
	}
	return errors.Join(err, os.RemoveAll(filepath.Join(before, instancesFolder)), disk.Keep(disk.Machine, filepath.Join(s.folder, placesFile), []byte(s.places), 0o600))
}

func isOwn(info fs.FileInfo) bool { return system.Owner(info) == os.Geteuid() }
