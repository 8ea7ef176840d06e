// Package storage keeps the files of a repository: in a directory, behind a web
// server, or in a bucket.
package storage

import (
	"context"
	"errors"
	"io"
	"time"
)

// Storage holds a repository's files. Names are slash-separated.
type Storage interface {
	// Open returns a file's contents; the error is fs.ErrNotExist for one
	// that is not there.
	Open(ctx context.Context, name string) (io.ReadCloser, error)
	// Put stores a file. It appears whole or not at all, also in the place of
	// an older one.
	Put(ctx context.Context, name string, r io.Reader) error
	// Current reads the file that changes, with a mark that is another one
	// after each change. The error is fs.ErrNotExist if it is not there.
	Current(ctx context.Context, name string) (data []byte, mark string, err error)
	// Replace stores the file that changes, after everything that was put
	// before is safe. The error is ErrChanged where it no longer has the mark;
	// an empty mark stands for a file that is not there.
	Replace(ctx context.Context, name string, data []byte, mark string) error
	// List calls a function for every file whose name begins with a prefix that
	// ends in a slash, or for all.
	List(ctx context.Context, prefix string, each func(Stored) error) error
	// Remove takes away a file. One that is not there is no error.
	Remove(ctx context.Context, name string) error
	// Lock keeps other publishers out until unlock is called, as far as the
	// storage can, and clears away what an interrupted one left.
	Lock(ctx context.Context) (unlock func(), err error)
	// Where tells a person where the repository is.
	Where() string
	// LocalPath returns the directory that the files are in; ok is false if they
	// are not in one of this machine.
	LocalPath() (dir string, ok bool)
	// Address returns the path or URL at which a file can be read without this
	// program; empty if there is none, as in a bucket.
	Address(name string) string
}

// Stored is a file in a storage.
type Stored struct {
	Name     string
	Size     int64 // bytes
	Modified time.Time
}

// ErrChanged says that somebody else changed the repository in between.
var ErrChanged = errors.New("the repository was changed by somebody else at the same moment")

// PointerFile is the one file of a repository that changes.
const PointerFile = "repository.json"

// MaxPointer bounds the size of that file in bytes.
const MaxPointer = 16 << 20

// Incoming is the directory in which files are written before they are renamed.
const Incoming = ".incoming"

// SeenFile remembers which package files an index was made from. The lock's
// clearing of interrupted writes leaves it.
const SeenFile = Incoming + "/seen.json"
