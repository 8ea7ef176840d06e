// Package history keeps what builds of a workspace took and what came of them,
// in an SQLite database. What it holds can be lost without harm: builds do not
// depend on it.
package history

import (
	"context"
	"database/sql"
	"errors"
	"os"
	"path/filepath"
	"slices"
	"time"

	"modernc.org/sqlite"

	"ellwand.example/core/files"
)

// Build is one build, under way or ended.
type Build struct {
	ID        int64     `json:"id"`
	Recipe    string    `json:"recipe"`
	Version   string    `json:"version"` // with the release
	Target    string    `json:"target"`
	Isolation string    `json:"isolation"`
	Began     time.Time `json:"began"`
	Seconds   float64   `json:"seconds"`
	State     string    `json:"state"` // Running, or the result's
	Error     string    `json:"error,omitempty"`
	Cause     string    `json:"cause,omitempty"`
	Logs      string    `json:"logs"` // the directory of its logs
	Steps     []Step    `json:"steps"`
	Packages  []Package `json:"packages"`
}

// Step is one step of a build.
type Step struct {
	Step     string  `json:"step"`
	Seconds  float64 `json:"seconds"`
	CPU      float64 `json:"cpu"`    // seconds
	Memory   int64   `json:"memory"` // bytes, at the most
	Warnings int     `json:"warnings"`
	Status   int     `json:"status"` // of its script
	Reused   bool    `json:"reused,omitempty"`
}

// Package is one package that a build made.
type Package struct {
	Name   string `json:"name"`
	SHA256 string `json:"sha256"`
	Bytes  int64  `json:"bytes"`
}

// Running is the state of a build that has not ended; one that was killed
// stays in it.
const Running = "running"

const schema = `
CREATE TABLE IF NOT EXISTS builds (
	id INTEGER PRIMARY KEY, recipe TEXT NOT NULL, version TEXT NOT NULL, target TEXT NOT NULL, isolation TEXT NOT NULL,
	began INTEGER NOT NULL, seconds REAL NOT NULL DEFAULT 0, state TEXT NOT NULL, error TEXT NOT NULL DEFAULT '', cause TEXT NOT NULL DEFAULT '', logs TEXT NOT NULL);
CREATE INDEX IF NOT EXISTS builds_by_recipe ON builds (recipe, id);
CREATE TABLE IF NOT EXISTS steps (
	build INTEGER NOT NULL REFERENCES builds ON DELETE CASCADE, place INTEGER NOT NULL, step TEXT NOT NULL, seconds REAL NOT NULL, cpu REAL NOT NULL,
	memory INTEGER NOT NULL, warnings INTEGER NOT NULL, status INTEGER NOT NULL, reused INTEGER NOT NULL, PRIMARY KEY (build, place));
CREATE TABLE IF NOT EXISTS packages (
	build INTEGER NOT NULL REFERENCES builds ON DELETE CASCADE, name TEXT NOT NULL, sha256 TEXT NOT NULL, bytes INTEGER NOT NULL);
CREATE INDEX IF NOT EXISTS packages_by_build ON packages (build);
`

// Store is an open history.
type Store struct{ db *sql.DB }

// Result codes of SQLite (https://sqlite.org/rescode.html) for a file that is
// damaged, or is something else.
const (
	corrupt    = 11
	noDatabase = 26
)

// Open opens the history in a file, which is made if there is none. A file
// that is damaged is moved aside.
func Open(ctx context.Context, file string) (*Store, error) {
	s, err := open(ctx, file)
	var e *sqlite.Error
	if !errors.As(err, &e) || e.Code() != corrupt && e.Code() != noDatabase {
		return s, err
	}
	if err := os.Rename(file, file+".damaged"); err != nil {
		return nil, err
	}
	return open(ctx, file)
}

func open(ctx context.Context, file string) (*Store, error) {
	if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
		return nil, err
	}
	// One at a time: SQLite does not wait for others while it changes to its
	// write-ahead log.
	unlock, err := files.Lock(ctx, file+".lock")
	if err != nil {
		return nil, err
	}
	defer unlock()
	db, err := sql.Open("sqlite", "file:"+escape(file)+"?_pragma=busy_timeout(10000)&_pragma=journal_mode(wal)&_pragma=synchronous(normal)&_pragma=foreign_keys(1)&_txlock=immediate")
	if err != nil {
		return nil, err
	}
	// One connection is enough, and keeps its settings.
	db.SetMaxOpenConns(1)
	if _, err := db.ExecContext(ctx, schema); err != nil {
		db.Close()
		return nil, err
	}
	return &Store{db}, nil
}

// escape writes a path for use in an SQLite URI.
func escape(path string) string {
	var out []byte
	for i := 0; i < len(path); i++ {
		switch c := path[i]; c {
		case '%', '?', '#':
			out = append(out, '%', "0123456789ABCDEF"[c>>4], "0123456789ABCDEF"[c&15])
		default:
			out = append(out, c)
		}
	}
	return string(out)
}

// Close closes the history.
func (s *Store) Close() error { return s.db.Close() }

// Begin notes that a build begins, and gives it its number.
func (s *Store) Begin(ctx context.Context, b Build) (int64, error) {
	res, err := s.db.ExecContext(ctx, `INSERT INTO builds (recipe, version, target, isolation, began, state, logs) VALUES (?, ?, ?, ?, ?, ?, ?)`,
		b.Recipe, b.Version, b.Target, b.Isolation, b.Began.UnixMilli(), Running, b.Logs)
	if err != nil {
		return 0, err
	}
	return res.LastInsertId()
}

// End notes what came of a build.
func (s *Store) End(ctx context.Context, b Build) error {
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if _, err := tx.ExecContext(ctx, `UPDATE builds SET seconds = ?, state = ?, error = ?, cause = ? WHERE id = ?`, b.Seconds, b.State, b.Error, b.Cause, b.ID); err != nil {
		return err
	}
	for i, st := range b.Steps {
		if _, err := tx.ExecContext(ctx, `INSERT OR REPLACE INTO steps VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`, b.ID, i, st.Step, st.Seconds, st.CPU, st.Memory, st.Warnings, st.Status, st.Reused); err != nil {
			return err
		}
	}
	for _, p := range b.Packages {
		if _, err := tx.ExecContext(ctx, `INSERT INTO packages VALUES (?, ?, ?, ?)`, b.ID, p.Name, p.SHA256, p.Bytes); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// List lists the last builds, the newest first: of a recipe, or of all.
func (s *Store) List(ctx context.Context, recipe string, limit int) ([]Build, error) {
	return s.query(ctx, `WHERE ? = '' OR recipe = ? ORDER BY id DESC LIMIT ?`, recipe, recipe, limit)
}

// ErrNone says that there is no such build.
var ErrNone = errors.New("there is no such build")

// Get returns the build with a number.
func (s *Store) Get(ctx context.Context, id int64) (Build, error) {
	all, err := s.query(ctx, `WHERE id = ?`, id)
	if err != nil {
		return Build{}, err
	}
	if len(all) == 0 {
		return Build{}, ErrNone
	}
	return all[0], nil
}

func (s *Store) query(ctx context.Context, where string, args ...any) ([]Build, error) {
	rows, err := s.db.QueryContext(ctx, `SELECT id, recipe, version, target, isolation, began, seconds, state, error, cause, logs FROM builds `+where, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := []Build{}
	for rows.Next() {
		b := Build{Steps: []Step{}, Packages: []Package{}}
		var began int64
		if err := rows.Scan(&b.ID, &b.Recipe, &b.Version, &b.Target, &b.Isolation, &began, &b.Seconds, &b.State, &b.Error, &b.Cause, &b.Logs); err != nil {
			return nil, err
		}
		b.Began = time.UnixMilli(began).UTC()
		out = append(out, b)
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	rows.Close()
	for i := range out {
		if err := s.details(ctx, &out[i]); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func (s *Store) details(ctx context.Context, b *Build) error {
	steps, err := s.db.QueryContext(ctx, `SELECT step, seconds, cpu, memory, warnings, status, reused FROM steps WHERE build = ? ORDER BY place`, b.ID)
	if err != nil {
		return err
	}
	defer steps.Close()
	for steps.Next() {
		var st Step
		if err := steps.Scan(&st.Step, &st.Seconds, &st.CPU, &st.Memory, &st.Warnings, &st.Status, &st.Reused); err != nil {
			return err
		}
		b.Steps = append(b.Steps, st)
	}
	if err := steps.Err(); err != nil {
		return err
	}
	steps.Close()
	packages, err := s.db.QueryContext(ctx, `SELECT name, sha256, bytes FROM packages WHERE build = ? ORDER BY name`, b.ID)
	if err != nil {
		return err
	}
	defer packages.Close()
	for packages.Next() {
		var p Package
		if err := packages.Scan(&p.Name, &p.SHA256, &p.Bytes); err != nil {
			return err
		}
		b.Packages = append(b.Packages, p)
	}
	return packages.Err()
}

// sample is of how many builds the usual time of a step is taken.
const sample = 5

// Usual is how long a step of a recipe usually takes when it ends well: the
// median of its last times; 0 where there are none.
func (s *Store) Usual(ctx context.Context, recipe, step string) time.Duration {
	rows, err := s.db.QueryContext(ctx, `SELECT s.seconds FROM steps s JOIN builds b ON b.id = s.build WHERE b.recipe = ? AND s.step = ? AND s.status = 0 AND NOT s.reused ORDER BY b.id DESC LIMIT ?`, recipe, step, sample)
	if err != nil {
		return 0
	}
	defer rows.Close()
	var times []float64
	for rows.Next() {
		var seconds float64
		if rows.Scan(&seconds) != nil {
			return 0
		}
		times = append(times, seconds)
	}
	if len(times) == 0 {
		return 0
	}
	slices.Sort(times)
	return time.Duration(times[len(times)/2] * float64(time.Second))
}
