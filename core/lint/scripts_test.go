package lint

import (
	"slices"
	"strings"
	"testing"
	"time"

	"ellwand.example/core/ell"
	"ellwand.example/core/fact"
	"ellwand.example/core/fact/need"
	"ellwand.example/core/progress"
	"ellwand.example/core/staging"
)

// scripted makes a package with an install script.
func scripted(t *testing.T, name, script string, facts func(*ell.Facts)) *ell.Package {
	t.Helper()
	s := ell.Spec{
		Facts:   ell.Facts{Name: "tide", Version: "1.2", Release: 1, Arch: "independent", Target: "t", Summary: "x", License: "MIT", Recipe: "tide", Date: "2031-04-02"},
		Claims:  []staging.Claim{{Path: staging.Path{Path: "/usr/share/tide", Type: staging.File, Mode: 0o644, Disk: "scripts_test.go"}, Owner: "root", Group: "root"}},
		Scripts: map[string]string{name: script}, Recipe: []byte(exampleFacts), Time: time.Unix(1e9, 0), Build: ell.BuildRecord{Isolation: "namespaces"},
	}
	if facts != nil {
		facts(&s.Facts)
	}
	w, err := ell.Write(t.Context(), t.TempDir(), s, progress.None)
	if err != nil {
		t.Fatal(err)
	}
	p, err := ell.Open(w.Path)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { p.Close() })
	return p
}

// codesOf are the codes of findings in the install scripts of a package, once each.
func codesOf(t *testing.T, p *ell.Package) string {
	t.Helper()
	findings, err := (&Linter{}).Together(t.Context(), []*ell.Package{p})
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, f := range findings {
		if fact.AreaOf(f.Code) == fact.AreaOf("ELL420") {
			out = append(out, f.Code)
		}
	}
	slices.Sort(out)
	return strings.Join(slices.Compact(out), " ")
}

// TestInstallScripts has, for each rule on install scripts, what it reports and what
// looks like it and is sound.
func TestInstallScripts(t *testing.T) {
	for _, c := range []struct{ script, want string }{
		{"true", ""},
		{"", ""},

		{"mkdir /var/lib/tide", "ELL420"},
		{"mkdir -p /var/lib/tide", ""},
		{"mkdir --parents /var/lib/tide", ""},
		{"mkdir -m 755 -p /var/lib/tide", ""},
		{"test -d /var/lib/tide || mkdir /var/lib/tide", ""},
		{"if [ ! -d /var/lib/tide ]; then mkdir /var/lib/tide; fi", ""},
		{"ln -s a /var/lib/tide/b", "ELL420"},
		{"ln -sfn a /var/lib/tide/b", ""},
		{"rm /var/cache/tide/old", "ELL420"},
		{"rm -f /var/cache/tide/old", ""},
		{"rm", ""},
		{"mv /var/lib/tide/a /var/lib/tide/b", "ELL420"},
		{"[ ! -e /var/lib/tide/a ] || mv /var/lib/tide/a /var/lib/tide/b", ""},

		{"echo a >> /etc/tide.conf", "ELL421"},
		{"grep -q a /etc/tide.conf || echo a >> /etc/tide.conf", ""},
		{"echo a >> /dev/null", ""},
		{"echo a > /var/lib/tide/a", ""},

		{"systemctl restart tide", "ELL422"},
		{"/bin/systemctl enable tide", "ELL422"},
		{"systemctl daemon-reload", ""},
		{"service tide start", "ELL422"},
		{"/etc/init.d/tide restart", "ELL422 ELL428"},

		{"useradd -r tide", "ELL423"},
		{"/usr/sbin/groupadd tide", "ELL423"},
		{"getent passwd tide", ""},

		{"read answer", "ELL424"},
		{"read answer < /etc/tide.conf", ""},
		{"while read -r line; do echo \"$line\"; done < /etc/tide.conf", ""},

		{"curl -O https://tide.example/x", "ELL425"},
		{"wget https://tide.example/x", "ELL425"},
		{"pip install tide", "ELL425"},
		{"echo https://tide.example/x", ""},

		{"echo a > /tmp/tide.out", "ELL426"},
		{"out=$(mktemp); echo a > \"$out\"", ""},
		{"cat /tmp/tide.out", ""},

		{"rm -rf /home/ines/x", "ELL427"},
		{"sed -i s/a/b/ /etc/passwd", "ELL427"},
		{"sed s/a/b/ /etc/passwd", ""},
		{"cp a /etc/sudoers.d/tide", ""},
		{"touch /usr/local/bin/x", "ELL427"},
		{"chmod 600 /etc/shadow", "ELL427"},

		{"tidectl reload", "ELL428"},
		{"/usr/libexec/nowhere", "ELL428"},
		{"command -v tidectl >/dev/null && tidectl reload", ""},
		{"tidectl() { :; }; tidectl", ""},
		{"moonctl reload", ""}, // declared below
		{"ownctl reload", ""},  // its own
		{"ldconfig", ""},

		{"chmod 640 /usr/share/tide", "ELL429"},
		{"chown tide: /usr/share/tide/", "ELL429"},
		{"chmod 640 /var/lib/other", ""},

		{"d=$(cat x); rm -rf \"$d/\"", "ELL430"},
		{"d=/var/cache/tide; rm -rf \"$d/\"", ""},
		{"rm -rf \"${d:?}/\"", ""},

		{"sudo touch /var/lib/tide/x", "ELL431"},
		{"doas touch /var/lib/tide/x", "ELL431"},
	} {
		p := scripted(t, "post-install", c.script+"\n", func(f *ell.Facts) {
			f.Needs, f.Provides = []ell.Need{{Need: need.Must("command/moonctl | command/sunctl")}}, []ell.Provide{{Provide: need.MustProvide("command/ownctl")}}
		})
		if got := codesOf(t, p); got != c.want {
			t.Errorf("%s: %q, want %q", c.script, got, c.want)
		}
	}
}

// A finding in an install script has the line of the recipe that the script's line
// is in.
func TestPlaceInScript(t *testing.T) {
	text := exampleFacts + "[package.tide.script]\npre-remove = '''\ntrue\nsudo true\n'''\n"
	p := scripted(t, "pre-remove", "true\nsudo true\n", nil)
	c := &packageCheck{collector: collector{subject: "tide", rule: ell431()}, Package: p, recipe: parsed(t, text), linter: &Linter{}, ctx: t.Context()}
	ell431().pkg(c)
	want := 1 + strings.Count(text[:strings.Index(text, "sudo")], "\n")
	if len(c.findings) != 1 || c.findings[0].Line != want || !strings.HasPrefix(c.findings[0].Message, "pre-remove, line 2: ") {
		t.Errorf("%+v, want line %d", c.findings, want)
	}
}
