package trial

import (
	"context"
	"fmt"
	"path"
	"strings"

	"ellwand.example/core/staging"
)

// units checks that the service units and desktop entries of the package start programs
// that are there (systemd.service(5); Desktop Entry Specification 1.5).
func (c *Checker) units(_ context.Context, s Subject) ([]Check, error) {
	var out []Check
	for _, e := range s.Layout {
		if e.Type != staging.File {
			continue
		}
		dir, name := path.Dir(e.Path), path.Base(e.Path)
		switch {
		case strings.HasSuffix(name, ".service") && strings.HasSuffix(dir, "/systemd/system"), strings.HasSuffix(name, ".service") && strings.HasSuffix(dir, "/systemd/user"):
			out = append(out, c.starts(Check{Name: Unit, Subject: e.Path}, c.read(s.At(e.Path)), "ExecStart=", "ExecStartPre=", "ExecStartPost=", "ExecReload=", "ExecStop="))
		case strings.HasSuffix(name, ".desktop") && dir == "/usr/share/applications":
			out = append(out, c.starts(Check{Name: Desktop, Subject: e.Path}, c.read(s.At(e.Path)), "Exec=", "TryExec="))
		}
	}
	return out, nil
}

// starts checks the programs that lines of a file begin with.
func (c *Checker) starts(check Check, text []byte, keys ...string) Check {
	check.State = Passed
	for line := range strings.Lines(string(text)) {
		for _, key := range keys {
			rest, ok := strings.CutPrefix(strings.TrimSpace(line), key)
			if !ok {
				continue
			}
			program, _, _ := strings.Cut(strings.TrimLeft(rest, "-@+!:|"), " ")
			if program = strings.Trim(program, `"'`); program == "" || strings.ContainsAny(program, "%$") {
				continue
			}
			if strings.HasPrefix(program, "/") && !c.has(program) || !strings.Contains(program, "/") && !c.hasCommand(program) {
				check.State = Failed
				check.Message = fmt.Sprintf("it starts %s, which is not there", program)
				check.Remedy = "correct the path, or declare the package that has the program"
				return check
			}
		}
	}
	return check
}

// accounts checks that the accounts of the package exist in the root.
func (c *Checker) accounts(_ context.Context, s Subject) ([]Check, error) {
	var out []Check
	for name := range s.Facts.Accounts {
		check := Check{Name: Account, Subject: name, State: Passed}
		for _, file := range []string{"/etc/passwd", "/etc/group"} {
			if !strings.Contains("\n"+string(c.read(file)), "\n"+name+":") {
				check.State, check.Message = Failed, "it is not in "+file
			}
		}
		out = append(out, check)
	}
	return out, nil
}
