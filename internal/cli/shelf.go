package cli

import (
	"encoding/json"
	"maps"
	"os"
	"path/filepath"
	"sync"
	"time"

	"aditus/internal/disk"
)

// shelf keeps what the screens of one Aditus leave for their next start, in a file of the person's own. What cannot be read or written there is left:
// it is for convenience alone.
type shelf struct {
	file string
	of   string // whose screens these are: a data folder, or a server's address

	mu      sync.Mutex
	own     map[string]json.RawMessage
	writing sync.Mutex // held while the file is read and written
	pending sync.WaitGroup
}

// shelfFile is where it lies in the state folder.
const shelfFile = "screens.json"

// openShelf reads what was left.
func openShelf(of string) (*shelf, error) {
	folder, err := stateFolder()
	if err != nil {
		return nil, err
	}
	s := &shelf{file: filepath.Join(folder, shelfFile), of: of}
	if s.own = s.read()[of]; s.own == nil {
		s.own = map[string]json.RawMessage{}
	}
	return s, nil
}

// read gives what is left of all.
func (s *shelf) read() map[string]map[string]json.RawMessage {
	all := map[string]map[string]json.RawMessage{}
	text, err := os.ReadFile(s.file)
	if err != nil || json.Unmarshal(text, &all) != nil || all == nil {
		return map[string]map[string]json.RawMessage{} // none yet, or damaged
	}
	return all
}

// Recall implements screen.Memory.
func (s *shelf) Recall(name string, into any) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if text := s.own[name]; text != nil {
		json.Unmarshal(text, into) // what another version left may be otherwise
	}
}

// Remember implements screen.Memory. It does not wait for the disk.
func (s *shelf) Remember(name string, what any) {
	text, err := json.Marshal(what)
	if err != nil {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.own[name] = text; what == nil {
		delete(s.own, name)
	}
	s.pending.Go(s.write)
}

func (s *shelf) write() {
	s.writing.Lock()
	defer s.writing.Unlock()
	all := s.read() // others may have left something since
	s.mu.Lock()
	if all[s.of] = maps.Clone(s.own); len(s.own) == 0 {
		delete(all, s.of)
	}
	s.mu.Unlock()
	text, err := json.MarshalIndent(all, "", "  ")
	if err == nil && os.MkdirAll(filepath.Dir(s.file), 0o700) == nil {
		disk.Keep(disk.Machine, s.file, text, 0o600)
	}
}

// closeWait is how long a disk that hangs is waited for.
const closeWait = time.Second

// Close returns once all of it is written, or the disk has not taken it in time.
func (s *shelf) Close() {
	written := make(chan struct{})
	go func() {
		s.pending.Wait()
		close(written)
	}()
	select {
	case <-written:
	case <-time.After(closeWait):
	}
}
