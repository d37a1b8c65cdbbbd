package keeper

import (
	"bufio"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"time"

	"aditus/internal/system"

	"gopkg.in/natefinch/lumberjack.v2"
)

// What is kept of what a process writes.
const (
	LogFolder = "log"
	LogFile   = "current.log" // and older ones beside it, the time they end in their names
	logSize   = 4             // megabytes, before the next file
	logFiles  = 4             // older ones
	longest   = 16 << 10      // bytes of a line; longer ones are cut in pieces
)

// journal takes what a process writes to its two streams, line by line with the time, into files that take turns. The
// streams are named pipes that the process itself holds open both ways: it can write on when the keeper is killed, up to
// what a pipe holds, and the next keeper reads on where this one ended.
type journal struct {
	folder string
	out    *lumberjack.Logger
	pumps  sync.WaitGroup
	pipes  []*os.File

	mu   sync.Mutex
	last string // the last line on the second stream
}

var streams = []string{"out", "err"}

func newJournal(folder string) *journal {
	return &journal{folder: folder, out: &lumberjack.Logger{Filename: filepath.Join(folder, LogFolder, LogFile), MaxSize: logSize, MaxBackups: logFiles}}
}

func (j *journal) pipe(stream string) string { return filepath.Join(j.folder, stream+pipeEnd) }

const pipeEnd = ".pipe"

// Pipes are what an instance in a folder writes to, which it may open anew under the names that the system has for it (/dev/stdout).
func Pipes(folder string) (all []string) {
	for _, stream := range streams {
		all = append(all, filepath.Join(folder, stream+pipeEnd))
	}
	return all
}

// open makes new pipes and gives the ends that a process writes to, as a user of its own where it is not 0.
func (j *journal) open(user int) (ends []*os.File, err error) {
	for _, stream := range streams {
		name := j.pipe(stream)
		if err := os.Remove(name); err != nil && !errors.Is(err, os.ErrNotExist) {
			return ends, err
		}
		if err := system.Pipe(name, 0o600); err != nil {
			return ends, fmt.Errorf("make the pipe %s: %w", name, err)
		}
		if user != 0 {
			err := errors.Join(os.Lchown(name, -1, user), os.Chmod(name, 0o660))
			if err != nil {
				return ends, fmt.Errorf("make the pipe %s: %w", name, err)
			}
		}
		end, err := os.OpenFile(name, os.O_RDWR, 0)
		if err != nil {
			return ends, err
		}
		ends = append(ends, end)
	}
	return ends, j.read()
}

// read begins to take what comes through the pipes, which somebody must have open for writing.
func (j *journal) read() error {
	for _, stream := range streams {
		pipe, err := os.OpenFile(j.pipe(stream), os.O_RDONLY|system.NoWait, 0)
		if err != nil {
			return err
		}
		j.pipes = append(j.pipes, pipe)
		j.pumps.Go(func() { j.pump(pipe, stream) })
	}
	return nil
}

func (j *journal) pump(pipe *os.File, stream string) {
	defer pipe.Close()
	in := bufio.NewReaderSize(pipe, longest)
	line := make([]byte, 0, longest)
	for {
		text, err := in.ReadSlice('\n')
		if len(text) > 0 {
			end := len(text)
			if text[end-1] == '\n' {
				end--
			}
			line = time.Now().UTC().AppendFormat(line[:0], time.RFC3339Nano)
			line = append(append(append(line, ' '), stream...), ' ')
			line = append(append(line, text[:end]...), '\n')
			j.out.Write(line) // with a full disk lines are lost, and the process goes on
			if stream == "err" && end > 0 {
				j.mu.Lock()
				j.last = string(text[:min(end, 200)])
				j.mu.Unlock()
			}
		}
		if err != nil && !errors.Is(err, bufio.ErrBufferFull) {
			return
		}
	}
}

// lastWords is how long what a process has written is still read after its end, where others hold its pipes open.
const lastWords = 500 * time.Millisecond

// end reads what is left after the process ended, and gives the last line of its second stream.
func (j *journal) end() string {
	for _, pipe := range j.pipes {
		pipe.SetReadDeadline(time.Now().Add(lastWords))
	}
	j.pumps.Wait()
	j.pipes = nil
	j.mu.Lock()
	defer j.mu.Unlock()
	return j.last
}

func (j *journal) forget() {
	j.mu.Lock()
	defer j.mu.Unlock()
	j.last = ""
}
