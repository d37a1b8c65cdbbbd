package source

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
)

// FromFolder reads the declarations in a folder on disk with the folders in it, or a single file.
func FromFolder(name string) ([]File, error) {
	info, err := os.Stat(name)
	if err != nil {
		return nil, fmt.Errorf("read declarations: %w; give a folder of declarations or one file", err)
	}
	if !info.IsDir() {
		text, err := os.ReadFile(name)
		if err != nil {
			return nil, fmt.Errorf("read declarations: %w", err)
		}
		return []File{{Name: filepath.Base(name), Text: text}}, nil
	}
	var files []File
	size := int64(0)
	err = filepath.WalkDir(name, func(at string, entry fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		relative, err := filepath.Rel(name, at)
		if err != nil {
			return err
		}
		relative = filepath.ToSlash(relative)
		switch {
		case entry.IsDir():
			if relative != "." && filepath.ToSlash(filepath.Dir(relative)) != "." || entry.Name() == ".git" {
				return fs.SkipDir
			}
			return nil
		case !IsDeclaration(entry.Name()):
			return nil
		case entry.Type()&fs.ModeSymlink != 0:
			return fmt.Errorf("%s is a symbolic link, which is not followed; write the file out", at)
		case !entry.Type().IsRegular():
			return fmt.Errorf("%s is no ordinary file", at)
		}
		info, err := entry.Info()
		if err != nil {
			return err
		}
		if size += info.Size(); size > maxFolderSize || len(files) >= maxFiles {
			return fmt.Errorf("%s holds more than %d files or %d MB; give a smaller folder", name, maxFiles, maxFolderSize>>20)
		}
		text, err := os.ReadFile(at)
		if err != nil {
			return err
		}
		files = append(files, File{Name: relative, Text: text})
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("read declarations: %w", err)
	}
	if len(files) == 0 {
		return nil, fmt.Errorf("there are no declarations (*.yaml) in %s", name)
	}
	return files, nil
}
