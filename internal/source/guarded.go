package source

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"os"

	"github.com/go-git/go-billy/v5/osfs"
	"github.com/go-git/go-git/v5"
	"github.com/go-git/go-git/v5/plumbing"
	"github.com/go-git/go-git/v5/plumbing/cache"
	"github.com/go-git/go-git/v5/plumbing/format/packfile"
	"github.com/go-git/go-git/v5/storage/filesystem"
)

// Bounds on what of a repository is read into memory. A few bytes of a pack may stand for a great many.
const (
	maxObject = 64 << 20 // of an object that is read: a commit, a folder, a tag
	maxPack   = 8 << 30  // of all that is fetched at once, as it comes
)

// maxReceived bounds an object that is fetched along with the others, such as a file that nobody reads.
var maxReceived int64 = 512 << 20

// errTooLarge means that an object of a repository is not read.
var errTooLarge = errors.New("it is too large to be read")

// guarded is the storage of a repository of which each object is asked for its size before it is read, and what is fetched before it is
// unpacked.
type guarded struct {
	*filesystem.Storage
}

// guardObjects has what is read of a repository guarded.
func guardObjects(repository *git.Repository) *git.Repository {
	if s, ok := repository.Storer.(*filesystem.Storage); ok {
		repository.Storer = guarded{s}
	}
	return repository
}

// EncodedObject implements storer.EncodedObjectStorer.
func (g guarded) EncodedObject(t plumbing.ObjectType, h plumbing.Hash) (plumbing.EncodedObject, error) {
	size, err := g.EncodedObjectSize(h)
	if err == nil && size > maxObject {
		return nil, fmt.Errorf("the object %.7s has %d MB, and %d are read at most: %w", h, size>>20, maxObject>>20, errTooLarge)
	}
	return g.Storage.EncodedObject(t, h)
}

// PackfileWriter implements storer.PackfileWriter: what comes is looked through before it is kept.
func (g guarded) PackfileWriter() (io.WriteCloser, error) {
	file, err := os.CreateTemp(g.Filesystem().Root(), "received-")
	if err != nil {
		return nil, err
	}
	os.Remove(file.Name()) // it lives as long as it is open
	return &received{file: file, keep: g.Storage.PackfileWriter}, nil
}

// received is a pack that comes.
type received struct {
	file *os.File
	size int64
	keep func() (io.WriteCloser, error)
}

// Write implements io.Writer.
func (r *received) Write(p []byte) (int, error) {
	if r.size += int64(len(p)); r.size > maxPack {
		return 0, fmt.Errorf("the repository gives more than %d GB at once: %w", maxPack>>30, errTooLarge)
	}
	return r.file.Write(p)
}

// Close keeps what came, where all of it is within bounds.
func (r *received) Close() error {
	defer r.file.Close()
	if r.size == 0 {
		return nil
	}
	if _, err := r.file.Seek(0, io.SeekStart); err != nil {
		return err
	}
	if err := lookThrough(bufio.NewReader(r.file)); err != nil {
		return err
	}
	if _, err := r.file.Seek(0, io.SeekStart); err != nil {
		return err
	}
	w, err := r.keep()
	if err != nil {
		return err
	}
	_, err = io.Copy(w, r.file)
	return errors.Join(err, w.Close())
}

// lookThrough sees that no object of a pack is too large, without having any of them in memory.
func lookThrough(in io.Reader) error {
	pack := packfile.NewScanner(in)
	_, objects, err := pack.Header()
	if err != nil {
		return err
	}
	for range objects {
		header, err := pack.NextObjectHeader()
		if err != nil {
			return err
		}
		size := header.Length
		var begins beginning
		if size <= maxReceived {
			if _, _, err := pack.NextObject(&begins); err != nil {
				return err
			}
		}
		if header.Type.IsDelta() {
			size = max(size, begins.target())
		}
		if size > maxReceived {
			return fmt.Errorf("an object of the repository has %d MB, and %d are taken at most: %w; have what is large elsewhere than in its history", size>>20, maxReceived>>20, errTooLarge)
		}
	}
	return nil
}

// beginning keeps what a text begins with.
type beginning []byte

// Write implements io.Writer.
func (b *beginning) Write(p []byte) (int, error) {
	*b = append(*b, p[:min(len(p), 2*binary.MaxVarintLen64-len(*b))]...)
	return len(p), nil
}

// target is the size of what a delta makes: the second number in it, after that of what it is made from.
func (b beginning) target() int64 {
	_, n := binary.Uvarint(b)
	if n <= 0 {
		return 0
	}
	size, n := binary.Uvarint(b[n:])
	if n <= 0 || size > 1<<62 {
		return 1 << 62
	}
	return int64(size)
}

// openCopy opens the copy of a repository in a folder, and makes it where there is none, or none that can be read.
func openCopy(folder string) (*git.Repository, error) {
	repository, err := git.PlainOpen(folder)
	if err == nil {
		return guardObjects(repository), sweep(folder)
	}
	if err = os.RemoveAll(folder); err != nil {
		return nil, err
	}
	storage := filesystem.NewStorage(osfs.New(folder), cache.NewObjectLRUDefault())
	if repository, err = git.Init(storage, nil); err != nil {
		return nil, err
	}
	return guardObjects(repository), nil
}
