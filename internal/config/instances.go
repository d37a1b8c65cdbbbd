package config

import (
	"errors"
	"fmt"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
)

// Instances say as whom the instances of local sites run.
type Instances struct {
	Users  string           `yaml:"users" jsonschema:"required" jsonschema_description:"The numbers of system users, such as 700000-700999, that nobody else of the machine has: each workload at each local site runs as one of them, and has a group of the same number. none has all run as the user that Aditus runs as."`
	Folder string           `yaml:"folder,omitempty" jsonschema_description:"Where artifacts, instances and volumes are then, as the data folder is Aditus's alone: one that all users of the machine may enter, such as /srv/aditus."`
	Allow  map[int][]string `yaml:"allow,omitempty" jsonschema_description:"By the number of another user, such as 999, the workloads that may ask for it with user:; * stands for any letters. Never 0."`
}

// NoUsers is what users: says where all run as the user that Aditus runs as.
const NoUsers = "none"

// Apart tells whether instances run as users of their own.
func (i Instances) Apart() bool { return i.Users != "" && i.Users != NoUsers }

// Users are numbers of system users.
type Users []UserRange

// UserRange are the numbers from the first to the last.
type UserRange struct{ First, Last int }

// leastUser is the first number that may be in a range: those before it are the system's own.
const leastUser = 1000

// mostUser is the last number that the systems of all have.
const mostUser = 1<<31 - 2

// nobody are numbers with a meaning to the system.
var nobody = []int{65534, 65535}

// ReadUsers reads numbers and ranges of them, such as 700000-700999,999.
func ReadUsers(text string) (all Users, err error) {
	for _, one := range strings.Split(text, ",") {
		first, last, isRange := strings.Cut(strings.TrimSpace(one), "-")
		var r UserRange
		var err2 error
		r.First, err = strconv.Atoi(strings.TrimSpace(first))
		if r.Last = r.First; isRange {
			r.Last, err2 = strconv.Atoi(strings.TrimSpace(last))
		}
		if errors.Join(err, err2) != nil || r.First < 1 || isRange && r.First < leastUser || r.Last > mostUser || r.First > r.Last || slices.ContainsFunc(nobody, r.has) {
			return nil, fmt.Errorf("%q are no numbers of users from %d on, without %d and %d; write them like 700000-700999", one, leastUser, nobody[0], nobody[1])
		}
		all = append(all, r)
	}
	return all, nil
}

func (r UserRange) has(number int) bool { return number >= r.First && number <= r.Last }

// Has tells whether a number is among them.
func (u Users) Has(number int) bool {
	return slices.ContainsFunc(u, func(r UserRange) bool { return r.has(number) })
}

// All are the numbers that may be given and those that may be asked for, as ReadUsers reads them; empty where nothing is said.
func (i Instances) All() string {
	if !i.Apart() {
		return ""
	}
	text := i.Users
	for _, number := range slices.Sorted(maps.Keys(i.Allow)) {
		text += "," + strconv.Itoa(number)
	}
	return text
}

func (i Instances) check() error {
	if !i.Apart() {
		if i.Folder != "" || len(i.Allow) > 0 {
			return errors.New("folder: and allow: say nothing without users:, such as 700000-700999")
		}
		return nil
	}
	given, err := ReadUsers(i.Users)
	if err != nil {
		return fmt.Errorf("users: %w", err)
	}
	if len(given) != 1 || given[0].First == given[0].Last {
		return fmt.Errorf("users: %q is no range; write it like 700000-700999", i.Users)
	}
	for number, workloads := range i.Allow {
		for _, pattern := range workloads {
			if _, err := path.Match(pattern, ""); err != nil {
				return fmt.Errorf("allow: %d: %q is no pattern: %w", number, pattern, err)
			}
		}
		if number < 1 || number > mostUser || given.Has(number) || slices.Contains(nobody, number) {
			return fmt.Errorf("allow: %d is no number of a user beside %s, and root is none that may be asked for", number, i.Users)
		}
	}
	if !filepath.IsAbs(i.Folder) || filepath.Clean(i.Folder) == "/" {
		return fmt.Errorf("folder: %q is no folder by its whole path; write it like /srv/aditus", i.Folder)
	}
	return nil
}
