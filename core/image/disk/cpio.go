package disk

import (
	"context"
	"fmt"
	"io"
	"strings"

	"ellwand.example/core/cancel"
	"ellwand.example/core/image"
)

// Cpio writes entries in the form in which a kernel takes its first file system: cpio(5), "New
// ASCII Format". Extended attributes are lost in it.
func Cpio(ctx context.Context, w io.Writer, each func(context.Context, func(image.Entry, io.Reader) error) error, links map[string]int) error {
	c := &cpioWriter{w: w, links: links, inodes: map[string]int{}}
	err := each(ctx, func(e image.Entry, r io.Reader) error {
		if r != nil {
			r = cancel.Reader(ctx, r)
		}
		return c.entry(e, r)
	})
	if err != nil {
		return err
	}
	return c.header("TRAILER!!!", 0, 0, image.Entry{}, 1)
}

// HardLinks counts the hard links of each file.
func HardLinks(ctx context.Context, each func(context.Context, func(image.Entry, io.Reader) error) error) (map[string]int, error) {
	links := map[string]int{}
	return links, each(ctx, func(e image.Entry, _ io.Reader) error {
		if e.Type == image.Hardlink {
			links[e.Link]++
		}
		return nil
	})
}

type cpioWriter struct {
	w      io.Writer
	inode  int
	links  map[string]int // of files
	inodes map[string]int // of files with hard links
	bytes  int64
}

// Types in the mode of a file (stat(2)).
const (
	modeDirectory = 0o040000
	modeFile      = 0o100000
	modeSymlink   = 0o120000
)

func (c *cpioWriter) entry(e image.Entry, r io.Reader) error {
	name := strings.TrimPrefix(e.Path, "/")
	c.inode++
	switch e.Type {
	case image.Directory:
		return c.header(name, modeDirectory, c.inode, e, 2)
	case image.Symlink:
		one := e
		one.Size = int64(len(e.Link))
		if err := c.header(name, modeSymlink, c.inode, one, 1); err != nil {
			return err
		}
		return c.data(strings.NewReader(e.Link), one.Size)
	case image.Hardlink:
		return c.header(name, modeFile, c.inodes[e.Link], e, c.links[e.Link]+1)
	case image.File:
		if e.Size >= 1<<32 {
			return fmt.Errorf("%s is larger than 4 GiB", e.Path)
		}
		if c.links[e.Path] > 0 {
			c.inodes[e.Path] = c.inode
		}
		if err := c.header(name, modeFile, c.inode, e, c.links[e.Path]+1); err != nil {
			return err
		}
		return c.data(r, e.Size)
	}
	return nil
}

func (c *cpioWriter) header(name string, kind int64, inode int, e image.Entry, links int) error {
	n, err := fmt.Fprintf(c.w, "070701%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%08X%s\x00", inode, kind|e.Mode, e.UID, e.GID, links, max(0, e.Modified.Unix()), e.Size, 0, 0, 0, 0, len(name)+1, 0, name)
	c.bytes += int64(n)
	if err != nil {
		return err
	}
	return c.pad()
}

func (c *cpioWriter) data(r io.Reader, size int64) error {
	n, err := io.Copy(c.w, r)
	c.bytes += n
	if err == nil && n != size {
		err = fmt.Errorf("a file has %d bytes where %d were expected", n, size)
	}
	if err != nil {
		return err
	}
	return c.pad()
}

func (c *cpioWriter) pad() error {
	n, err := c.w.Write(make([]byte, (4-c.bytes%4)%4))
	c.bytes += int64(n)
	return err
}
