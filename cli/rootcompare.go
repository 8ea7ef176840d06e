package cli

import (
	"fmt"
	"strconv"
	"strings"

	"ellwand.example/core/fact"
	"ellwand.example/core/root"
)

// compareRoots compares the packages of two roots, or of two states of one.
func (a *program) compareRoots(args []string) (bool, error) {
	var sets [][]root.Installed
	var names []string
	for _, arg := range args {
		packages, serial, err := rootPackages(arg)
		if err != nil {
			return false, err
		}
		if len(args) == 1 {
			dir, _, _ := strings.Cut(arg, "@")
			before, _, err := rootPackages(fmt.Sprintf("%s@%d", dir, max(serial-1, 0)))
			if err != nil {
				return false, err
			}
			sets, names = append(sets, before), append(names, fmt.Sprintf("%s@%d", dir, max(serial-1, 0)))
		}
		sets, names = append(sets, packages), append(names, arg)
	}
	changes := root.Difference(sets[0], sets[1])
	if a.json {
		return len(changes) > 0, a.printJSON(append([]root.Change{}, changes...))
	}
	if len(changes) == 0 {
		a.out.Printf("%s and %s have the same %s\n", names[0], names[1], fact.Count(len(sets[0]), "package", "packages"))
		return false, nil
	}
	a.out.Printf("%s → %s\n", names[0], names[1])
	a.showRootChanges(changes)
	return true, nil
}

// rootPackages reads what is installed in a root, or was after a change: DIR@SERIAL. The
// serial is that of the state.
func rootPackages(word string) (packages []root.Installed, serial int64, err error) {
	dir, text, at := strings.Cut(word, "@")
	r, err := root.Open(dir)
	if err != nil {
		return nil, 0, err
	}
	defer r.Close()
	if !at {
		history, err := r.History(1)
		if err != nil {
			return nil, 0, err
		}
		if len(history) > 0 {
			serial = history[0].Serial
		}
		s, err := r.State()
		return s.Packages, serial, err
	}
	if serial, err = strconv.ParseInt(text, 10, 64); err != nil || serial < 0 {
		return nil, 0, usageError{fmt.Errorf("%q is not a serial of the history", text)}
	}
	if serial == 0 {
		return nil, 0, nil // before the first change
	}
	e, err := r.Entry(serial)
	return e.Packages, serial, err
}
