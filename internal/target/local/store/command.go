package store

import (
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
)

// hostPath is where programs of the machine itself are found, such as an interpreter that an artifact's files need.
var hostPath = []string{"/usr/local/bin", "/usr/bin", "/bin"}

// Machine are the programs of a machine that may be run.
type Machine struct {
	Folders []string // in which they are found by their whole path, beside those where every machine has its own
	Path    string   // what is declared as PATH: where they are found by name
}

// Command gives the executable with its arguments: what is declared, else the image's own, else the one executable of an
// archive. A name is looked for in the artifact first, then among the machine's programs. No shell is ever used.
func (u Unpacked) Command(declared []string, machine Machine) ([]string, error) {
	args := slices.Clone(declared)
	if len(args) == 0 {
		args = append(slices.Clone(u.Config.Entrypoint), u.Config.Cmd...)
	}
	if len(args) == 0 && u.Alone != "" {
		args = []string{u.Alone}
	}
	if len(args) == 0 {
		return nil, fmt.Errorf("%w: it does not say what to run: write command: in the declaration, or put one executable at its top", ErrBad)
	}
	found, err := u.find(args[0], machine)
	if err != nil {
		return nil, err
	}
	args[0] = found
	return args, nil
}

func (u Unpacked) find(name string, machine Machine) (string, error) {
	found, err := u.own(name, machine.Path)
	if err != nil || found != "" {
		return found, err
	}
	if !strings.Contains(name, "/") {
		for _, folder := range slices.Concat(filepath.SplitList(machine.Path), hostPath) {
			if place := filepath.Join(folder, name); machine.allows(folder) && executable(place) {
				return place, nil
			}
		}
		return "", fmt.Errorf("%w: there is no executable %q in it, and no program of that name in %s", ErrProgram, name, strings.Join(append(slices.Clone(hostPath), machine.Folders...), ", "))
	}
	place := filepath.Clean(name)
	switch {
	case !filepath.IsAbs(name):
		return "", fmt.Errorf("%w: there is no executable %q in it", ErrProgram, name)
	case !executable(place):
		return "", fmt.Errorf("%w: there is no executable %q, neither in it nor on this machine", ErrProgram, name)
	case !machine.allows(filepath.Dir(place)):
		return "", fmt.Errorf("%w: %s is one of this machine that the site does not allow: add its folder with programs: [%s] to the target in the settings", ErrProgram, name, filepath.Dir(place))
	}
	return place, nil
}

// own finds an executable in the artifact; empty where there is none.
func (u Unpacked) own(name, declared string) (string, error) {
	if u.Root == "" {
		return "", nil
	}
	root, err := os.OpenRoot(u.Root)
	if err != nil {
		return "", err
	}
	defer root.Close()
	places := []string{path.Join(u.Config.WorkingDir, name), name}
	if !strings.Contains(name, "/") {
		lists := []string{declared}
		for _, variable := range u.Config.Env {
			if list, ok := strings.CutPrefix(variable, "PATH="); ok {
				lists = append(lists, list)
			}
		}
		for _, list := range lists {
			for _, folder := range filepath.SplitList(list) {
				places = append(places, path.Join(folder, name))
			}
		}
		places = append(places, path.Join("bin", name), path.Join("usr/bin", name), path.Join("usr/local/bin", name))
	}
	for _, place := range places {
		place = strings.TrimPrefix(path.Clean(place), "/")
		if info, err := root.Stat(place); err == nil && info.Mode().IsRegular() && info.Mode()&0o100 != 0 {
			return filepath.Join(u.Root, place), nil
		}
	}
	return "", nil
}

// allows tells whether programs of a folder may be run.
func (m Machine) allows(folder string) bool {
	for _, allowed := range slices.Concat(hostPath, m.Folders) {
		if within, err := filepath.Rel(allowed, folder); err == nil && within != ".." && !strings.HasPrefix(within, "../") {
			return true
		}
	}
	return false
}

func executable(place string) bool {
	info, err := os.Stat(place)
	return err == nil && info.Mode().IsRegular() && info.Mode()&0o111 != 0
}

// Folder is where the process would run within the artifact.
func (u Unpacked) Folder() string {
	return filepath.Join(u.Root, filepath.FromSlash(path.Clean("/"+u.Config.WorkingDir)))
}
