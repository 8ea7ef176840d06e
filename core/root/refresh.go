package root

import (
	"context"
	"path"
	"slices"
	"strings"

	"ellwand.example/core/fact"
	"github.com/bmatcuk/doublestar/v4"
)

// refresher brings a database of a root up to date with the files in it. It runs once
// for all that a transaction changed, if the root has the program.
type refresher struct {
	program string
	paths   []string // patterns of what it reads
	script  string
	// own means that a program of the system below does not count: it would work
	// through all of the system.
	own bool
}

var refreshers = []refresher{
	{"ldconfig", []string{"/usr/lib*/**/*.so*", "/lib*/**/*.so*", "/usr/local/lib/**/*.so*", "/etc/ld.so.conf.d/*"}, "ldconfig", false},
	{"update-mime-database", []string{"/usr/share/mime/packages/*"}, "update-mime-database /usr/share/mime", false},
	{"update-desktop-database", []string{"/usr/share/applications/**"}, "update-desktop-database -q /usr/share/applications", false},
	{"gtk-update-icon-cache", []string{"/usr/share/icons/*/**"}, `for d in /usr/share/icons/*/; do
	if [ -e "$d/index.theme" ]; then gtk-update-icon-cache -q -t -f "$d"; fi
done`, false},
	{"fc-cache", []string{"/usr/share/fonts/**"}, "fc-cache -s", false},
	{"glib-compile-schemas", []string{"/usr/share/glib-2.0/schemas/*"}, "glib-compile-schemas /usr/share/glib-2.0/schemas", false},
	{"mandb", []string{"/usr/share/man/**"}, "mandb -q", true},
}

// scriptRefresh is the name of a refresher among the scripts.
const scriptRefresh = "refresh"

// planRefresh lists what has to be refreshed after all scripts, and the service units
// that change.
func (t *Transaction) planRefresh(_ context.Context, p *Plan, _ Request) error {
	var changed []string
	for _, i := range p.items {
		if i.write {
			changed = append(changed, i.real)
		}
	}
	for _, r := range p.removals {
		changed = append(changed, r.Path)
	}
	for _, r := range refreshers {
		if !matchesAny(r.paths, changed) || !t.hasProgram(r) {
			continue
		}
		p.Refresh = append(p.Refresh, r.program)
		p.Scripts = append(p.Scripts, ScriptCall{Package: r.program, Script: scriptRefresh, Text: r.script, State: scriptWaiting})
	}
	t.planOwnRefresh(p, changed)
	for _, c := range changed {
		if matchesAny([]string{"/{usr/lib,lib,etc}/systemd/system/*.{service,socket,timer,path}"}, []string{c}) {
			p.Units = append(p.Units, path.Base(c))
		}
	}
	return nil
}

// planOwnRefresh lists the refreshers that packages declare. One runs if paths changed that
// it reads, and always when its package is new: what it reads may be there already.
func (t *Transaction) planOwnRefresh(p *Plan, changed []string) {
	fresh := map[string]bool{}
	for _, one := range p.parts {
		fresh[one.change.Name] = one.change.From == nil
	}
	for _, i := range t.after(p) {
		var run []string
		for _, r := range i.Refresh {
			// The record may have been written by others.
			patterns := slices.DeleteFunc(slices.Clone(r.Paths), func(p string) bool { return !fact.IsPathPattern(p) })
			if fresh[i.Name] || matchesAny(patterns, changed) {
				run = append(run, "(\n"+r.Run+"\n)")
			}
		}
		if len(run) == 0 {
			continue
		}
		p.Refresh = append(p.Refresh, i.Name)
		p.Scripts = append(p.Scripts, ScriptCall{Package: i.Name, Script: scriptRefresh, New: i.Full().String(), Text: strings.Join(run, "\n"), State: scriptWaiting})
	}
}

func matchesAny(patterns, paths []string) bool {
	for _, pattern := range patterns {
		for _, p := range paths {
			if doublestar.MatchUnvalidated(pattern, p) {
				return true
			}
		}
	}
	return false
}

// hasProgram reports whether the root, or the system that it is based on, has the program
// of a refresher.
func (t *Transaction) hasProgram(r refresher) bool {
	for _, dir := range []string{"usr/bin", "usr/sbin", "bin", "sbin"} {
		at := path.Join(dir, r.program)
		if _, err := t.root.tree.Lstat(at); err == nil {
			return true
		}
		if t.root.system != nil && !r.own {
			if _, err := t.root.system.Lstat(at); err == nil {
				return true
			}
		}
	}
	return false
}

// missingRefreshers lists the programs that installed files would need to be refreshed
// by, and that are not there.
func (r *Root) missingRefreshers(all []owned, has func(string) bool) []string {
	var out []string
	for _, f := range refreshers {
		if has(f.program) {
			continue
		}
		for _, o := range all {
			if !o.dir && strings.HasPrefix(o.path, "/") && matchesAny(f.paths, []string{o.path}) {
				out = append(out, f.program)
				break
			}
		}
	}
	return out
}
