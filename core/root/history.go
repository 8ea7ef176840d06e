package root

import (
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strconv"
	"strings"
	"time"

	"ellwand.example/core/fact"
)

// Entry is a transaction in the history of a root: history/SERIAL.json.
type Entry struct {
	Format   int            `json:"format"`
	Serial   int64          `json:"serial"` // from 1
	Time     time.Time      `json:"time"`
	User     string         `json:"user"`
	Action   string         `json:"action"`
	Changes  []Change       `json:"changes"`
	Config   []ConfigChange `json:"config,omitempty"`
	Accounts []string       `json:"accounts,omitempty"` // that were created
	Scripts  []ScriptCall   `json:"scripts,omitempty"`
	Packages []Installed    `json:"packages"` // what was installed afterwards
}

func entryFile(serial int64) string { return fmt.Sprintf("%s/%d.json", historyDir, serial) }

func (r *Root) writeEntry(e Entry) error {
	data, err := jsonLine(e)
	if err != nil {
		return err
	}
	return writeDurable(r.state, entryFile(e.Serial), data)
}

// serials lists the transactions of the root, the oldest first.
func (r *Root) serials() ([]int64, error) {
	dir, err := r.state.Open(historyDir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	defer dir.Close()
	names, err := dir.Readdirnames(-1)
	if err != nil {
		return nil, err
	}
	var out []int64
	for _, name := range names {
		if text, ok := strings.CutSuffix(name, ".json"); ok {
			if n, err := strconv.ParseInt(text, 10, 64); err == nil && n > 0 {
				out = append(out, n)
			}
		}
	}
	slices.Sort(out)
	return out, nil
}

// lastSerial is that of the newest transaction; 0 if there was none.
func (r *Root) lastSerial() (int64, error) {
	all, err := r.serials()
	if err != nil || len(all) == 0 {
		return 0, err
	}
	return all[len(all)-1], nil
}

// History reads the newest transactions, at most limit of them, the newest first. An
// entry of a transaction that is being finished may be among them.
func (r *Root) History(limit int) ([]Entry, error) {
	all, err := r.serials()
	if err != nil {
		return nil, err
	}
	var out []Entry
	for _, n := range slices.Backward(all) {
		if len(out) == limit {
			break
		}
		e, err := r.Entry(n)
		if err != nil {
			return nil, err
		}
		out = append(out, e)
	}
	return out, nil
}

// Entry reads one transaction of the history.
func (r *Root) Entry(serial int64) (Entry, error) {
	var e Entry
	data, err := readFile(r.state, entryFile(serial), maxState)
	if errors.Is(err, fs.ErrNotExist) {
		return e, fact.Errorf(fact.StatusInput, "the history of %s has no serial %d", r.Dir, serial).Try(fact.ShowRootHistory, r.Dir, "")
	}
	if err != nil {
		return e, err
	}
	return e, r.decode(entryFile(serial), data, &e)
}
