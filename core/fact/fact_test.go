package fact

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"slices"
	"strings"
	"syscall"
	"testing"

	"ellwand.example/core/fact/version"
)

func TestIdentity(t *testing.T) {
	full := version.Full{Epoch: 1, Version: "2.4", Release: 3}
	for arch, want := range map[string]string{"x86_64": "tide@1:2.4-3.x86_64", Independent: "tide@1:2.4-3"} {
		if got := Identity("tide", full, arch); got != want {
			t.Errorf("Identity for %s is %q, want %q", arch, got, want)
		}
	}
}

func TestNearest(t *testing.T) {
	candidates := []string{"build", "test", "stage", "GPL-3.0-or-later"}
	for word, want := range map[string]string{"biuld": "build", "BUILD": "build", "tset": "test", "xyzzy": "", "gpl-3.0-orlater": "GPL-3.0-or-later"} {
		if got := Nearest(word, candidates); got != want {
			t.Errorf("Nearest(%q) = %q, want %q", word, got, want)
		}
	}
}

func TestModes(t *testing.T) {
	for _, s := range []string{"0644", "4755", "2775", "1777", "0000", "7777"} {
		if got := Octal(ParseMode(s)); got != s {
			t.Errorf("%s is written as %s", s, got)
		}
	}
}

func TestCapabilityNames(t *testing.T) {
	names := []string{"chown", "net_bind_service", "checkpoint_restore"}
	if got := CapabilityNames(CapabilitySet(append(names, "unknown"))); !slices.Equal(got, names) {
		t.Errorf("%v, want %v", got, names)
	}
}

func TestAreaOf(t *testing.T) {
	for code, want := range map[string]Area{"ELL101": AreaRecipe, "ELL299": AreaLayout, "ELL761": AreaIntegration, "ELL801": AreaNone, "ELL001": AreaNone, "ELL20": AreaNone, "L201": AreaNone, "": AreaNone} {
		if got := AreaOf(code); got != want {
			t.Errorf("AreaOf(%q) = %d, want %d", code, got, want)
		}
	}
}

type noFix struct{}

func (noFix) AutomaticFix() {}

func TestFindings(t *testing.T) {
	findings := []Finding{
		{Code: "ELL203", Severity: SeverityHint, Path: "/b"}, {Code: "ELL203", Severity: SeverityHint, Path: "/a", Fix: noFix{}},
		{Code: "ELL301", Severity: SeverityError, Waived: "intended", Fix: noFix{}}, {Code: "ELL105", Severity: SeverityWarning, Subject: "tide@1-1"},
	}
	SortFindings(findings)
	var order []string
	for _, f := range findings {
		order = append(order, f.Code+f.Path)
	}
	if want := []string{"ELL301", "ELL105", "ELL203/a", "ELL203/b"}; !slices.Equal(order, want) {
		t.Errorf("sorted: %v, want %v", order, want)
	}
	counts, waived := CountFindings(findings)
	if counts[SeverityError] != 0 || counts[SeverityWarning] != 1 || counts[SeverityHint] != 2 || waived != 1 {
		t.Errorf("%v, %d waived", counts, waived)
	}
	if findings[0].Reaches(SeverityHint) || !findings[1].Reaches(SeverityWarning) || findings[1].Reaches(SeverityError) {
		t.Error("a severity is reached wrongly")
	}
	if findings[0].Fixable() || !findings[2].Fixable() || findings[3].Fixable() {
		t.Error("the wrong findings can be fixed")
	}
	if name := findings[1].SubjectName(); name != "tide" {
		t.Errorf("the subject is named %q", name)
	}
}

func TestBytes(t *testing.T) {
	for n, want := range map[int64]string{0: "0 B", 1023: "1023 B", 1024: "1.0 KiB", 1536: "1.5 KiB", 5 << 30: "5.0 GiB", 1 << 50: "1024.0 TiB"} {
		if got := Bytes(n); got != want {
			t.Errorf("%d: %s, want %s", n, got, want)
		}
	}
}

func TestCount(t *testing.T) {
	if one, two := Count(1, "package", "packages"), Count(2, "package", "packages"); one != "1 package" || two != "2 packages" {
		t.Errorf("%q, %q", one, two)
	}
}

// Foreign text can neither move the cursor nor look like two lines.
func TestVisible(t *testing.T) {
	for s, want := range map[string]string{
		"plain ü 名": "plain ü 名", "a\tb": "a\tb", "two\nlines": `two\x0alines`, "\x1b[31mred": `\x1b[31mred`, "latin\xe9": `latin\xe9`, "bell\a": `bell\x07`, "\u202eback": `\u202eback`, "": "",
	} {
		if got := Visible(s); got != want {
			t.Errorf("%q is shown as %s, want %s", s, got, want)
		}
	}
}

func TestErrors(t *testing.T) {
	own := Errorf(StatusMachine, "no room: %w", io.ErrShortWrite).Try(Verify, "local", "")
	for name, c := range map[string]struct {
		err  error
		want Status
		verb Verb
	}{
		"own":         {own, StatusMachine, Verify},
		"wrapped":     {fmt.Errorf("publishing: %w", own), StatusMachine, Verify},
		"joined":      {errors.Join(io.EOF, own), StatusMachine, Verify},
		"the outer":   {Errorf(StatusUsage, "which one: %w", own), StatusUsage, ""},
		"plain":       {io.EOF, StatusInput, ""},
		"a full disk": {&fs.PathError{Op: "write", Path: "x", Err: syscall.ENOSPC}, StatusMachine, ""},
	} {
		if got := StatusOf(c.err); got != c.want {
			t.Errorf("%s: status %d, want %d", name, got, c.want)
		}
		if got, ok := ActionOf(c.err); got.Verb != c.verb || ok != (c.verb != "") {
			t.Errorf("%s: action %v, want %q", name, got, c.verb)
		}
	}
	if !errors.Is(own, io.ErrShortWrite) || own.Error() != "no room: short write" {
		t.Errorf("%v does not wrap its cause", own)
	}
}

func TestNames(t *testing.T) {
	digest := strings.Repeat("0a", 32)
	for name, c := range map[string]struct {
		is   func(string) bool
		good []string
		bad  []string
	}{
		"digest":  {IsSHA256, []string{digest}, []string{"", digest[1:], digest + "0", strings.ToUpper(digest), digest[1:] + "g"}},
		"commit":  {IsCommit, []string{digest, digest[:40]}, []string{digest[:41], "main", ""}},
		"account": {IsAccountName, []string{"root", "_apt", "a-1_"}, []string{"", "1a", "-a", "A", "a b", "../x", strings.Repeat("a", 32), "ä"}},
		"mode":    {IsMode, []string{"0644", "7777"}, []string{"", "644", "0o644", "0684", "00644"}},
	} {
		for _, s := range c.good {
			if !c.is(s) {
				t.Errorf("%q is a %s", s, name)
			}
		}
		for _, s := range c.bad {
			if c.is(s) {
				t.Errorf("%q is not a %s", s, name)
			}
		}
	}
}
