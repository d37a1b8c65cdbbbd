package local

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"aditus/internal/config"
	"aditus/internal/confine"
)

// Numbers of users that are chosen where the settings say nothing: each data folder has many of its own, at a place that its path makes.
const (
	firstUser   = 700_000
	usersOfEach = 1000
	userPlaces  = 1000
)

// FirstInstances chooses as whom instances run at a data folder in which no local site was opened yet, where this process may run them as others;
// ok is false where it may not, or something runs as its own user already.
func FirstInstances(data string) (i config.Instances, ok bool) {
	if os.Geteuid() != 0 || confine.MayBecome() != nil {
		return i, false
	}
	if sites, err := os.ReadDir(filepath.Join(data, sitesFolder)); err != nil && !os.IsNotExist(err) || len(sites) > 0 {
		return i, false
	}
	data, err := filepath.Abs(data)
	if err != nil {
		return i, false
	}
	read := func(name string) string {
		text, _ := os.ReadFile(name) // where there is none it says nothing
		return string(text)
	}
	sum := sha256.Sum256([]byte(data))
	i.Users, ok = usersFree(int(binary.BigEndian.Uint16(sum[:]))%userPlaces, read("/etc/passwd"), read("/etc/subuid"), read("/proc/self/uid_map"))
	i.Folder = data + "-instances"
	if info, err := os.Stat(filepath.Dir(data)); err != nil || info.Mode().Perm()&0o022 != 0 || mayEnter(filepath.Dir(data)) != nil { // that others may write to is no place for it
		i.Folder = filepath.Join("/var/lib", "aditus-instances-"+hex.EncodeToString(sum[:4]))
	}
	return i, ok && enterable(i.Folder) == nil
}

// usersFree gives numbers from a place on of which nobody has one by passwd(5) or subuid(5), and that this process's user namespace has.
func usersFree(place int, passwd, subuid, mapped string) (string, bool) {
	taken := func(first int) bool {
		last := first + usersOfEach - 1
		for line := range strings.Lines(passwd) {
			if f := strings.Split(line, ":"); len(f) > 2 && overlap(f[2], "1", first, last) {
				return true
			}
		}
		for line := range strings.Lines(subuid) {
			if f := strings.Split(strings.TrimSpace(line), ":"); len(f) == 3 && overlap(f[1], f[2], first, last) {
				return true
			}
		}
		for line := range strings.Lines(mapped) {
			if f := strings.Fields(line); len(f) == 3 && overlap(f[0], f[2], first, first) && overlap(f[0], f[2], last, last) {
				return false
			}
		}
		return true
	}
	for n := range userPlaces {
		if first := firstUser + (place+n)%userPlaces*usersOfEach; !taken(first) {
			return fmt.Sprintf("%d-%d", first, first+usersOfEach-1), true
		}
	}
	return "", false
}

// overlap tells whether so many numbers from one on have any from first to last.
func overlap(from, count string, first, last int) bool {
	at, err := strconv.Atoi(from)
	n, err2 := strconv.Atoi(count)
	return err == nil && err2 == nil && at <= last && at+n > first
}
