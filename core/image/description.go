// Package image describes images, and turns a root into the files and layers of one.
//
// A description, images/NAME.toml in a workspace, lists the packages of an image and what is
// added to them. A lock, images/NAME.lock beside it, has the very packages, by their digests.
// docs/images.md is the reference of both.
package image

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/recipe/document"
)

// Format is the number of the format of descriptions and locks.
const Format = 1

// Dir is where the descriptions of a workspace are.
const Dir = "images"

// Extensions of the two files of an image.
const (
	DescriptionExtension = ".toml"
	LockExtension        = ".lock"
)

// Forms of an image.
const (
	FormOCI     = "oci"     // a layout directory of the OCI Image Format Specification
	FormArchive = "archive" // a tar archive of all files
	FormDisk    = "disk"    // a disk that boots
	FormISO     = "iso"     // an ISO image that boots
)

// Forms lists them.
var Forms = []string{FormOCI, FormArchive, FormDisk, FormISO}

// SystemNone is the system of an image that is made of packages alone.
const SystemNone = "none"

// Description is what images/NAME.toml says.
type Description struct {
	Format       int         `toml:"format"`
	Summary      string      `toml:"summary"`
	Packages     []need.Need `toml:"packages"`
	Manifest     string      `toml:"manifest"` // a JSON file beside the description that lists further packages
	Targets      []string    `toml:"targets"`  // the workspace's target if it is empty
	System       string      `toml:"system" shape:"\"none\", a directory, an archive, an OCI layout or a registry's reference"`
	Repositories []string    `toml:"repositories" shape:"names of [repository] tables, paths or URLs"`
	Channel      string      `toml:"channel"`
	Without      []string    `toml:"without"`
	Suggestions  bool        `toml:"suggestions"` // install what the packages suggest, too
	Forms        []string    `toml:"forms"`

	Environment map[string]string  `toml:"environment"`
	Labels      map[string]string  `toml:"labels"`
	Run         Run                `toml:"run"`
	Files       []AddedFile        `toml:"file"`
	Directories []AddedDirectory   `toml:"directory"`
	Links       []AddedLink        `toml:"link"`
	Accounts    map[string]Account `toml:"account"`
	OCI         OCI                `toml:"oci"`
	Archive     Archive            `toml:"archive"`
	Boot        Boot               `toml:"boot"`
	Disk        Disk               `toml:"disk"`
	Trial       Trial              `toml:"trial"`

	Name string             `toml:"-"` // of the image
	Dir  string             `toml:"-"` // that the description is in
	Doc  *document.Document `toml:"-"`
}

// Run is what a container of the image runs.
type Run struct {
	Command   []string `toml:"command"`
	Arguments []string `toml:"arguments"` // that whoever starts the image may replace
	User      string   `toml:"user"`
	Directory string   `toml:"directory"`
	Ports     []string `toml:"ports" shape:"such as \"8080\" or \"53/udp\""`
	Volumes   []string `toml:"volumes" shape:"absolute paths"`
	Stop      string   `toml:"stop" shape:"the name of a signal"`
}

// AddedFile is a file to add: the contents of one beside the description, or a text.
type AddedFile struct {
	Path  string `toml:"path"`
	From  string `toml:"from"`
	Text  string `toml:"text"`
	Mode  string `toml:"mode"`
	Owner string `toml:"owner"`
	Group string `toml:"group"`
}

// AddedDirectory is a directory to add.
type AddedDirectory struct {
	Path  string `toml:"path"`
	Mode  string `toml:"mode"`
	Owner string `toml:"owner"`
	Group string `toml:"group"`
}

// AddedLink is a symbolic link to add.
type AddedLink struct {
	Path   string `toml:"path"`
	Target string `toml:"target"`
}

// Account is a system account to create.
type Account struct {
	Home    string `toml:"home"`
	Summary string `toml:"summary"`
}

// OCI is the table [oci].
type OCI struct {
	Compression string `toml:"compression"`
	// Archive also writes the layout as one tar file.
	Archive bool `toml:"archive"`
	// Reference is what the image is called in the layout and in a registry.
	Reference string `toml:"reference"`
}

// Archive is the table [archive].
type Archive struct {
	Compression string `toml:"compression"`
}

// Boot is the table [boot]: of forms that boot.
type Boot struct {
	Command string `toml:"command"` // for the kernel's command line
	Memory  string `toml:"memory" shape:"an amount such as \"1 GiB\""`
}

// Disk is the table [disk].
type Disk struct {
	Size       string `toml:"size" shape:"an amount such as \"4 GiB\""` // of the root file system
	Filesystem string `toml:"filesystem"`
	Format     string `toml:"format"`
}

// Root file systems, and formats of disks.
const (
	Ext4     = "ext4"
	Squashfs = "squashfs"
	Raw      = "raw"
	Qcow2    = "qcow2"
)

// Trial is the table [trial].
type Trial struct {
	Run  string `toml:"run"`
	Time string `toml:"time" shape:"a time such as \"2m\""`
}

// Compressions of layers and archives.
const (
	Gzip = "gzip"
	Zstd = "zstd"
	None = "none" // of archives
)

// NotFoundError is an image that the workspace does not describe.
type NotFoundError struct {
	Name string
	Near string // a similar name that there is; may be empty
	All  []string
}

func (e *NotFoundError) Error() string {
	message := "there is no image " + strconv.Quote(e.Name)
	switch {
	case e.Near != "":
		message += "; did you mean " + strconv.Quote(e.Near) + "?"
	case len(e.All) > 0:
		message += "; there are " + strings.Join(e.All, ", ")
	default:
		message += ": the workspace describes none in " + Dir + "/"
	}
	return message
}

// Status is that of bad input.
func (e *NotFoundError) Status() fact.Status { return fact.StatusInput }

// Names lists the images that are described below a workspace's directory.
func Names(workspace string) ([]string, error) {
	entries, err := os.ReadDir(filepath.Join(workspace, Dir))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	var names []string
	for _, e := range entries {
		if name, ok := strings.CutSuffix(e.Name(), DescriptionExtension); ok && e.Type().IsRegular() && need.ValidPackageName(name) {
			names = append(names, name)
		}
	}
	return names, nil
}

// Load reads the description of an image below a workspace's directory. Mistakes in it are
// document.Problems; shown is how messages call the file.
func Load(workspace, name, shown string) (*Description, error) {
	names, err := Names(workspace)
	if err != nil {
		return nil, err
	}
	if !slices.Contains(names, name) {
		return nil, &NotFoundError{name, fact.Nearest(name, names), names}
	}
	dir := filepath.Join(workspace, Dir)
	doc, err := document.ReadFile(filepath.Join(dir, name+DescriptionExtension), shown)
	if err != nil {
		return nil, err
	}
	return parse(doc, name, dir)
}

// Parse reads a description from its text.
func Parse(file string, text []byte, name, dir string) (*Description, error) {
	return parse(document.Parse(file, text), name, dir)
}

func parse(doc *document.Document, name, dir string) (*Description, error) {
	d := &Description{Name: name, Dir: dir, Doc: doc}
	doc.Decode(d)
	d.check()
	doc.Sort()
	return d, doc.Err()
}
