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

// Command gives the executable with its arguments: what is declared, else the image's own, else the one executable of an
// archive. A name is looked for in the artifact first, then among the machine's programs. No shell is ever used.
func (u Unpacked) Command(declared []string) ([]string, error) {
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
	found, err := u.find(args[0])
	if err != nil {
		return nil, err
	}
	args[0] = found
	return args, nil
}

func (u Unpacked) find(name string) (string, error) {
	root, err := os.OpenRoot(u.Root)
	if err != nil {
		return "", err
	}
	defer root.Close()
	var places []string
	if strings.Contains(name, "/") {
		places = []string{path.Join(u.Config.WorkingDir, name), name}
	} else {
		places = append(places, path.Join(u.Config.WorkingDir, name), name)
		for _, variable := range u.Config.Env {
			if list, ok := strings.CutPrefix(variable, "PATH="); ok {
				for _, folder := range filepath.SplitList(list) {
					places = append(places, path.Join(folder, name))
				}
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
	if !strings.Contains(name, "/") {
		for _, folder := range hostPath {
			place := filepath.Join(folder, name)
			if info, err := os.Stat(place); err == nil && info.Mode().IsRegular() && info.Mode()&0o111 != 0 {
				return place, nil
			}
		}
	}
	return "", fmt.Errorf("%w: there is no executable %q in it, and no program of that name on this machine", ErrBad, name)
}

// Folder is where the process would run within the artifact.
func (u Unpacked) Folder() string {
	return filepath.Join(u.Root, filepath.FromSlash(path.Clean("/"+u.Config.WorkingDir)))
}
