package root

import (
	"flag"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

var sequences = flag.Int("sequences", 60, "how many random sequences of changes are compared with a model")

// world is packages in versions: name and version → path → contents. A path that begins
// with /etc is configuration. No two packages have the same path.
type world map[string]map[string]string

func randomWorld(d *rand.Rand) world {
	w := world{}
	for _, name := range []string{"ebb", "moon", "tide"} {
		for v := 1; v <= 3; v++ {
			files := map[string]string{"/usr/bin/" + name: fmt.Sprint(v)}
			for n := range 4 {
				if d.IntN(3) > 0 {
					files[fmt.Sprintf("/usr/share/%s/%d", name, n)] = fmt.Sprint(d.IntN(2))
				}
			}
			// Sometimes a file, and sometimes a directory with one.
			if d.IntN(2) == 0 {
				files["/usr/share/"+name+"/x"] = "file"
			} else {
				files["/usr/share/"+name+"/x/y"] = "below"
			}
			for n := range 2 {
				if d.IntN(4) > 0 {
					files[fmt.Sprintf("/etc/%s/%d.conf", name, n)] = fmt.Sprintf("default %d\n", d.IntN(3))
				}
			}
			w[fmt.Sprint(name, v)] = files
		}
	}
	return w
}

// model is what a root should have, by simple rules.
type model struct {
	world     world
	installed map[string]int    // name → version
	tree      map[string]string // path → contents
	kept      map[string]string // configuration that stayed → its default
}

func isConfig(p string) bool { return strings.HasPrefix(p, "/etc/") }

func (m *model) install(name string, version int) {
	files, old := m.world[fmt.Sprint(name, version)], map[string]string{}
	if have, ok := m.installed[name]; ok {
		old = m.world[fmt.Sprint(name, have)]
	}
	for p, text := range old {
		if _, stays := files[p]; !stays {
			m.drop(p, text)
		}
	}
	for p, text := range files {
		current, there := m.tree[p]
		before, had := old[p]
		if k, ok := m.kept[p]; ok {
			before, had = k, true
			delete(m.kept, p)
			if _, wasThere := old[p]; !there && !wasThere {
				had = false // it went meanwhile: a new start
			}
		}
		switch {
		case !isConfig(p) || !had && !there:
			m.tree[p] = text
		case !there: // deleted
		case current == text:
		case current == before:
			m.tree[p] = text
		case before == text: // edited
		default:
			m.tree[p+DefaultSuffix] = text
		}
	}
	m.installed[name] = version
}

func (m *model) remove(name string) {
	for p, text := range m.world[fmt.Sprint(name, m.installed[name])] {
		m.drop(p, text)
	}
	delete(m.installed, name)
}

// drop takes away a path that had a default.
func (m *model) drop(p, text string) {
	current, there := m.tree[p]
	if isConfig(p) && there && current != text {
		m.kept[p] = text
		return
	}
	delete(m.tree, p)
}

// TestModel does random sequences of changes, and compares the root with the model after
// each: also after going back to an earlier set of packages.
func TestModel(t *testing.T) {
	seed := rand.Uint64()
	b := newBuilder(t)
	for n := range *sequences {
		d := rand.New(rand.NewPCG(seed, uint64(n)))
		if err := oneSequence(t, b, d); err != nil {
			t.Fatalf("seed %d, sequence %d: %v", seed, n, err)
		}
		for key, in := range b.made { // the packages of another sequence are others
			in.Package.Close()
			delete(b.made, key)
		}
	}
}

func oneSequence(t *testing.T, b *builder, d *rand.Rand) error {
	m := &model{world: randomWorld(d), installed: map[string]int{}, tree: map[string]string{}, kept: map[string]string{}}
	dir, err := os.MkdirTemp(b.dir, "root")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	r, err := Create(dir, Settings{Target: target, Arch: "x86_64", System: SystemNone})
	if err != nil {
		return err
	}
	defer r.Close()
	incoming := func(name string, version int) Incoming {
		var lines []string
		files := m.world[fmt.Sprint(name, version)]
		for _, p := range slices.Sorted(maps.Keys(files)) {
			line := p + " = " + strings.ReplaceAll(files[p], "\n", `\n`)
			if isConfig(p) {
				line = "config:" + line
			}
			lines = append(lines, line)
		}
		return b.pkg(t, name, fmt.Sprint(version), strings.Join(lines, "\n"))
	}
	names := []string{"ebb", "moon", "tide"}
	var done []string
	for range 3 + d.IntN(10) {
		switch d.IntN(7) {
		case 0, 1, 2: // one or two packages at once
			q := Request{Action: "install"}
			for _, name := range names[:1+d.IntN(2)] {
				name = names[(slices.Index(names, name)+d.IntN(3))%3]
				if slices.ContainsFunc(q.Install, func(in Incoming) bool { return in.Package.Facts.Name == name }) {
					continue
				}
				v := 1 + d.IntN(3)
				q.Install = append(q.Install, incoming(name, v))
				m.install(name, v)
				done = append(done, fmt.Sprint("install ", name, v))
			}
			must(t, r, q)
		case 3:
			if name := names[d.IntN(3)]; m.installed[name] > 0 {
				must(t, r, Request{Action: "remove", Remove: []string{name}})
				m.remove(name)
				done = append(done, "remove "+name)
			}
		case 4, 5: // a user edits or deletes configuration
			for _, p := range slices.Sorted(maps.Keys(m.tree)) {
				if !isConfig(p) || strings.HasSuffix(p, DefaultSuffix) || d.IntN(3) > 0 {
					continue
				}
				if d.IntN(4) == 0 {
					if err := os.Remove(filepath.Join(dir, p)); err != nil {
						return err
					}
					delete(m.tree, p)
					done = append(done, "delete "+p)
					continue
				}
				m.tree[p] = []string{"mine\n", "default 1\n"}[d.IntN(2)]
				edit(t, r, p, m.tree[p])
				done = append(done, "edit "+p+" to "+m.tree[p])
			}
		case 6: // back to what an earlier transaction left
			history, err := r.History(100)
			if err != nil || len(history) == 0 {
				continue
			}
			e := history[d.IntN(len(history))]
			q := Request{Action: "rewind"}
			wanted := map[string]bool{}
			for _, i := range e.Packages {
				v := int(i.Version[0] - '0')
				wanted[i.Name] = true
				if m.installed[i.Name] != v {
					q.Install = append(q.Install, incoming(i.Name, v))
					m.install(i.Name, v)
				}
			}
			for name := range maps.Clone(m.installed) {
				if !wanted[name] {
					q.Remove = append(q.Remove, name)
					m.remove(name)
				}
			}
			must(t, r, q)
			done = append(done, fmt.Sprint("rewind to ", e.Serial))
		}
		got := map[string]string{}
		for p, text := range tree(t, r) {
			if mode, contents, _ := strings.Cut(text, " "); mode != "dir" {
				got[p] = contents
			}
		}
		if !maps.Equal(got, m.tree) {
			return fmt.Errorf("after %s\nthere is  %q\nexpected %q", strings.Join(done, ", "), got, m.tree)
		}
		agrees(t, r, m)
	}
	return nil
}

// agrees fails unless what the root says of itself is what the model says.
func agrees(t *testing.T, r *Root, m *model) {
	t.Helper()
	s, err := r.State()
	if err != nil {
		t.Fatal(err)
	}
	got := map[string]int{}
	for _, p := range s.Packages {
		got[p.Name] = int(p.Version[0] - '0')
	}
	if !maps.Equal(got, m.installed) {
		t.Fatalf("installed are %v, expected %v", got, m.installed)
	}
	for name, v := range m.installed {
		for p := range m.world[fmt.Sprint(name, v)] {
			if owners, err := r.Owner(p); err != nil || !slices.Equal(owners, []string{name}) {
				t.Fatalf("%s belongs to %v, %v", p, owners, err)
			}
		}
	}
}
