package login

import (
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"

	"github.com/zalando/go-keyring"

	"aditus/internal/disk"
)

// Store keeps logins by server: in the keyring of the system, or in a file where there is none.
type Store struct {
	File string
	Disk disk.Disk
}

// service is under which the keyring has them.
const service = "aditus"

// Get gives the login at a server; ErrNone where there is none.
func (s Store) Get(server string) (l Login, err error) {
	text, err := keyring.Get(service, server)
	if err == nil {
		return l, json.Unmarshal([]byte(text), &l)
	}
	all, err := s.read()
	if err != nil {
		return l, err
	}
	l, ok := all[server]
	if !ok {
		return l, ErrNone
	}
	return l, nil
}

// Put keeps the login at a server.
func (s Store) Put(server string, l Login) error {
	text, err := json.Marshal(l)
	if err != nil {
		return err
	}
	if keyring.Set(service, server, string(text)) == nil {
		return s.change(func(all map[string]Login) { delete(all, server) })
	}
	return s.change(func(all map[string]Login) { all[server] = l })
}

// Remove forgets the login at a server.
func (s Store) Remove(server string) error {
	gone := keyring.Delete(service, server)
	all, err := s.read()
	if _, ok := all[server]; err == nil && !ok && gone != nil {
		return ErrNone
	}
	return errors.Join(err, s.change(func(all map[string]Login) { delete(all, server) }))
}

func (s Store) read() (map[string]Login, error) {
	all := map[string]Login{}
	info, err := os.Stat(s.File)
	if errors.Is(err, fs.ErrNotExist) {
		return all, nil
	}
	if err != nil {
		return nil, err
	}
	if info.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("the logins in %s can be read by others: chmod 600 it, and log in again", s.File)
	}
	text, err := os.ReadFile(s.File)
	if err == nil {
		err = json.Unmarshal(text, &all)
	}
	if err != nil {
		return nil, fmt.Errorf("read the logins %s: %w; remove it, and log in again", s.File, err)
	}
	return all, nil
}

func (s Store) change(do func(map[string]Login)) error {
	all, err := s.read()
	if err != nil {
		return err
	}
	before := len(all)
	if do(all); len(all) == 0 && before == 0 {
		return nil
	}
	text, err := json.MarshalIndent(all, "", "  ")
	if err != nil {
		return err
	}
	return disk.Keep(s.Disk, s.File, append(text, '\n'), 0o600)
}
