package main

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"ellwand.example/core/engine/build"
	"ellwand.example/core/recipe"
)

// recipe measures how long a long recipe takes to be read and checked.
func (b *bench) recipe() {
	var s strings.Builder
	s.WriteString("format = 1\nname = \"tide\"\nversion = \"1.0\"\nrelease = 1\nsummary = \"Tides\"\nlicense = \"GPL-3.0-or-later AND MIT\"\n")
	for i := range 6 {
		fmt.Fprintf(&s, "[[source]]\nurl = \"https://files.example/%d-{version}.tar.gz\"\nsha256 = \"%064d\"\ninto = \"m%d\"\n[option.o%d]\nsummary = \"One\"\ndefault = false\n[[needs.when]]\nif = \"option.o%d and version != '2'\"\nbuild = [\"pkgconfig/x%d >= 1.2, < 3\"]\n", i, i, i, i, i, i)
	}
	s.WriteString("[needs]\nbuild = [\"command/cc\", \"command/make\"]\n[steps]\nbuild = '''\n" + strings.Repeat("if test -f x; then make -C \"$ELL_SOURCE\" PREFIX=\"$PREFIX\"; fi\n", 44) + "'''\n")
	for i := range 6 {
		s.WriteString("[[rewrite]]\nafter = \"stage\"\npath = \"/etc/*.conf\"\nfind = \"a\"\nreplace = \"{version}\"\n")
		fmt.Fprintf(&s, "[package.tide%d.layout]\n", i)
		for j := range 8 {
			fmt.Fprintf(&s, "\"/usr/share/tide%d/%d-*\" = { mode = \"0644\" }\n", i, j)
		}
	}
	s.WriteString("[[change]]\nversion = \"1.0-1\"\ndate = 2031-04-02\ntext = [\"First\"]\n")
	text := s.String()
	lines := strings.Count(text, "\n")
	own := b.best(func() {
		if _, err := recipe.Parse("recipe.toml", []byte(text), recipe.Target{Name: "t", Arch: "x86_64"}, nil); err != nil {
			check(err)
		}
	})
	fmt.Printf("| read and check a recipe of %d lines | %s | | | | < 10 ms |\n", lines, own.Round(10*time.Microsecond))
}

// project writes a C project of many files, as an archive.
func (b *bench) project(files int) (archive string) {
	dir := filepath.Join(b.work, "project-1.0")
	check(os.MkdirAll(dir, 0o755))
	write := func(name, text string) { check(os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644)) }
	var objects, calls, declared strings.Builder
	for i := range files {
		write(fmt.Sprintf("f%d.c", i), fmt.Sprintf("#include <stdio.h>\n#include <stdlib.h>\n#include <string.h>\n#include <math.h>\nint f%d(int n) {\n\tchar text[64]; int sum = 0;\n\tfor (int i = 0; i < n; i++) {\n\t\tsnprintf(text, sizeof text, \"%%d %d\", i);\n\t\tsum += (int)strlen(text) * atoi(text);\n\t}\n\treturn sum;\n}\n", i, i))
		fmt.Fprintf(&objects, " f%d.o", i)
		fmt.Fprintf(&declared, "int f%d(int);\n", i)
		fmt.Fprintf(&calls, "\tsum += f%d(argc);\n", i)
	}
	write("main.c", declared.String()+"int main(int argc, char **argv) {\n\tint sum = 0; (void)argv;\n"+calls.String()+"\treturn sum == 7;\n}\n")
	write("Makefile", "project: main.o"+objects.String()+"\n\t$(CC) $(CFLAGS) $(LDFLAGS) -o $@ $^\ninstall: project\n\tinstall -D project $(DESTDIR)/usr/bin/project\n")
	archive = filepath.Join(b.work, "project-1.0.tar")
	shell(`tar -C "$1" -cf "$2" project-1.0`, b.work, archive)
	return archive
}

const projectRecipe = `format = 1
name = "project"
version = "1.0"
release = 1
summary = "Made up for measuring"
license = "MIT"
debug = false
[[source]]
url = "file://%s"
sha256 = "%s"
[steps]
build = 'make'
stage = '''
make install # %s
'''
[package.project.layout]
%s
`

// building measures a build against the same commands in a shell, and what is
// done again after an edit.
func (b *bench) building() {
	const files = 240
	archive := b.project(files)
	sum, err := exec.Command("sha256sum", archive).Output()
	check(err)
	w := filepath.Join(b.work, "workspace")
	check(os.MkdirAll(filepath.Join(w, "recipes/project"), 0o755))
	check(os.WriteFile(filepath.Join(w, "ellwand.toml"), []byte("name = \"bench\"\n"), 0o644))
	write := func(note, layout string) {
		text := fmt.Sprintf(projectRecipe, archive, sum[:64], note, layout)
		check(os.WriteFile(filepath.Join(w, "recipes/project/recipe.toml"), []byte(text), 0o644))
	}
	// ellwand returns how long the whole program took, what of it was packing,
	// and which steps ran.
	ellwand := func(args ...string) (whole, pack time.Duration, ran string) {
		cmd := exec.Command(b.ellwand, append([]string{"--json", "build", "project"}, args...)...)
		cmd.Dir, cmd.Stderr = w, os.Stderr
		cmd.Env = append(os.Environ(), "XDG_CACHE_HOME="+filepath.Join(b.work, "cache"))
		began := time.Now()
		out, err := cmd.Output()
		whole = time.Since(began)
		check(err)
		var results []build.Result
		check(json.Unmarshal(out, &results))
		for _, s := range results[0].Steps {
			if !s.Reused && !s.Skipped {
				ran += " " + s.Step
			}
			if s.Step == recipe.Pack {
				pack = time.Duration(s.Seconds * float64(time.Second))
			}
		}
		return whole, pack, strings.TrimSpace(ran)
	}
	write("", `"/usr/bin/project" = {}`)
	ellwand()
	byHand := func() time.Duration {
		dir := filepath.Join(b.work, "by-hand")
		check(os.RemoveAll(dir))
		check(os.MkdirAll(dir, 0o755))
		began := time.Now()
		shell(`export MAKEFLAGS=-j$(nproc) CFLAGS="-O2 -fstack-protector-strong -D_FORTIFY_SOURCE=2" LDFLAGS="-Wl,-z,relro,-z,now -Wl,--build-id"
tar -C "$1" -xf "$2" && cd "$1/project-1.0" && make >/dev/null && make DESTDIR="$1/stage" install >/dev/null`, dir, archive)
		return time.Since(began)
	}
	// In turns, and the middle one of each: a machine is not equally quick all
	// the time, and both take much longer than anything else here.
	var own, hand []time.Duration
	for range max(b.runs, 7) {
		whole, pack, _ := ellwand("--again")
		own = append(own, whole-pack)
		hand = append(hand, byHand())
	}
	full := median(own)
	row(fmt.Sprintf("build a C project of %d files, packing apart, the middle of 7 runs", files), full, "the same commands in a shell", median(hand), "≤ 1.05")
	write("", "\"/usr/bin/*\" = {}")
	whole, pack, ran := ellwand()
	row("again after an edit of the layout: "+ran, whole, "the whole build", full, "")
	fmt.Printf("| of that, the pack step | %s | | | | |\n", round(pack))
	write("another", "\"/usr/bin/*\" = {}")
	whole, _, ran = ellwand()
	row("again after an edit of the stage script: "+ran, whole, "the whole build", full, "")
}

func median(times []time.Duration) time.Duration {
	slices.Sort(times)
	return times[len(times)/2]
}
