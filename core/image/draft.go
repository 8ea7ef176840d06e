package image

import (
	"fmt"
	"path"
	"strings"
)

// Draft is what a first description is made of.
type Draft struct {
	Name, Summary string
	Packages      []string
	System        string // none if it is empty
	Program       string // a path in the image; empty for none
	User          string // an account of the packages; empty for none
}

// Text is the description.
func (d Draft) Text() string {
	var b strings.Builder
	line := func(format string, arguments ...any) { fmt.Fprintf(&b, format+"\n", arguments...) }
	line("# The image %s.", d.Name)
	line("format = 1")
	if d.Summary != "" {
		line("summary = %s", quoted(d.Summary))
	}
	var packages []string
	for _, p := range d.Packages {
		packages = append(packages, quoted(p))
	}
	line("packages = [%s]", strings.Join(packages, ", "))
	if d.System != "" {
		line("system = %s", quoted(d.System))
	} else {
		line("")
		line("# What is below the packages: a directory, an archive of a root, an OCI layout. Without it,")
		line("# the image consists of the packages alone.")
		line("# system = \"saltmarsh-7.tar.zst\"")
	}
	line("")
	line("[run]")
	if d.Program != "" {
		line("command = [%s]", quoted(d.Program))
	} else {
		line("# command = [\"/usr/bin/…\"]")
	}
	if d.User != "" {
		line("user = %s", quoted(d.User))
	}
	line("")
	line("# What has to work in the image.")
	line("[trial]")
	if d.Program != "" {
		line("run = %s", quoted(path.Base(d.Program)+" --version"))
	} else {
		line("run = \"true\"")
	}
	return b.String()
}

// quoted is a basic string of TOML.
func quoted(s string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, r := range s {
		switch {
		case r == '"' || r == '\\':
			b.WriteByte('\\')
			b.WriteRune(r)
		case r < ' ' || r == 0x7f:
			fmt.Fprintf(&b, "\\u%04X", r)
		default:
			b.WriteRune(r)
		}
	}
	b.WriteByte('"')
	return b.String()
}
