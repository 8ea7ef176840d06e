package main
import ("testing";"time";"os";"fmt";"slices";"path/filepath";"ellwand.example/core/repo";"ellwand.example/core/pack")
func TestFill(t *testing.T){ b:=&bench{runs:1,work:"/tmp/ram/keep",large:50000}; os.MkdirAll(b.work,0o755); b.largeRepository(); b.fill(b.at("small"), world(50)) }
func TestProf(t *testing.T){ b:=&bench{runs:1,work:"/tmp/ram/keep",large:50000}
 for _, n := range []string{"small","large"} { var ts []time.Duration
 for i := range 30 { c := citizen{facts: facts(fmt.Sprintf("new-%d-%d", time.Now().UnixNano(), i), "1.0"), paths: []string{fmt.Sprintf("/usr/bin/new-%d-%d", time.Now().UnixNano(),i)}}
  c.facts.Needs = []pack.Need{{Need: "soname/libtide0.so.0"}}
  files := b.build(filepath.Join(b.work,"one"), []citizen{c}, false)
  ts = append(ts, publish(b.at(n), repo.Terms{}, files...)) }
 slices.Sort(ts); t.Log(n, ts[0], ts[15]) } }
