package repo

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"ellwand.example/core/ell/canonical"
	"ellwand.example/core/fact"
	"ellwand.example/core/progress"
	"ellwand.example/core/repo/gate"
	"ellwand.example/core/repo/index"
	"ellwand.example/core/repo/storage"
)

func TestVerify(t *testing.T) {
	r := Open(t.TempDir())
	publish(t, r, "testing", samples(t, "tide 1-1", "ebb 1-1")...)
	publish(t, r, "testing", samples(t, "tide 2-1")...)
	v, err := r.Verify(ctx, progress.None)
	if err != nil || len(v.Damaged)+len(v.Unnamed) != 0 || v.Snapshots != 2 || v.Packages != 3 || v.Bytes == 0 {
		t.Fatalf("a sound repository: %+v, %v", v, err)
	}
	dir := r.Storage.Where()
	one := func(pattern string) string {
		found, _ := filepath.Glob(filepath.Join(dir, pattern))
		if len(found) == 0 {
			t.Fatal(pattern)
		}
		return found[0]
	}
	os.WriteFile(filepath.Join(dir, "listings", "stray"), []byte("x"), 0o644)
	os.Remove(one("packages/t/ebb/*.ell"))
	pkg := one("packages/t/tide/tide@1-1.ell")
	data, _ := os.ReadFile(pkg)
	data[len(data)/2] ^= 1
	os.WriteFile(pkg, data, 0o644)
	listing := one("files/*")
	os.WriteFile(listing, []byte("nonsense"), 0o644)
	v, err = r.Verify(ctx, progress.None)
	var got []string
	for _, d := range v.Damaged {
		got = append(got, strings.Split(d.Name, "/")[0]+": "+strings.Fields(d.Reason)[0])
	}
	if err != nil || !slices.Equal(got, []string{"files: its", "packages: it", "packages: its"}) || !slices.Equal(v.Unnamed, []string{"listings/stray"}) {
		t.Errorf("%q, unnamed %q, %v", got, v.Unnamed, err)
	}
	if !slices.ContainsFunc(v.Damaged, func(d Damage) bool {
		return d.Name == "packages/t/ebb/ebb@1-1.ell" && d.Reason == "it is missing"
	}) {
		t.Errorf("%+v", v.Damaged)
	}
}

func TestPrune(t *testing.T) {
	r := Open(t.TempDir())
	for _, v := range []string{"1", "2", "3", "4"} {
		publish(t, r, "testing", samples(t, "tide "+v+"-1")...)
		if _, err := r.Retire(ctx, "testing", []string{"tide@" + v + "-1"}, ChangeOptions{}, progress.None); err != nil {
			t.Fatal(err)
		}
	}
	publish(t, r, "testing", samples(t, "ebb 1-1")...)
	if _, err := r.Promote(ctx, "testing", "stable", nil, ChangeOptions{}, progress.None); err != nil {
		t.Fatal(err)
	}
	os.WriteFile(filepath.Join(r.Storage.Where(), "files", "stray"), []byte("x"), 0o644)
	before := contents(t, r)
	// Everything of the last hour is kept, however little is asked for.
	if got, err := r.Prune(ctx, Keep{1, time.Hour}, false, progress.None); err != nil || got.Snapshots != 0 || len(got.Packages) != 0 || got.Listings != 1 {
		t.Errorf("nothing old: %+v, %v", got, err)
	}
	dry, err := r.Prune(ctx, Keep{3, 0}, true, progress.None)
	if err != nil || len(contents(t, r)) != len(before)-1 {
		t.Errorf("a dry run: %+v, %v", dry, err)
	}
	got, err := r.Prune(ctx, Keep{3, 0}, false, progress.None)
	if err != nil || got.Snapshots != 6 || len(got.Packages) != 3 || got.Kept != 4 || dry.Snapshots != 6 || !slices.Equal(dry.Packages, got.Packages) {
		t.Errorf("%+v, %v; dry %+v", got, err, dry)
	}
	v, err := r.Verify(ctx, progress.None)
	if err != nil || len(v.Damaged)+len(v.Unnamed) != 0 || v.Packages != 2 {
		t.Errorf("after a prune: %+v, %v", v, err)
	}
	events, err := r.History(ctx, "testing", 0)
	if err != nil || len(events) != 3 || !events[2].Oldest {
		t.Errorf("history after a prune: %+v, %v", events, err)
	}
	if got, err := r.Prune(ctx, Keep{3, 0}, false, progress.None); err != nil || got.Snapshots+got.Listings+len(got.Packages) != 0 {
		t.Errorf("again: %+v, %v", got, err)
	}
	if _, err := r.Before(ctx, "testing"); err != nil {
		t.Error(err)
	}
	if _, err := r.Rewind(ctx, "testing", "", progress.None); err != nil {
		t.Error(err)
	}
}

// TestIndex makes an index out of nothing but package files.
func TestIndex(t *testing.T) {
	r := Open(t.TempDir())
	publish(t, r, "testing", samples(t, "tide 1-1", "ebb 1-1; needs tide", "buoy 1-1")...)
	before := identities(t, r, "testing")
	old, _ := r.Pointer(ctx)
	dir := r.Storage.Where()
	for _, lost := range []string{storage.PointerFile, "listings", "files", "snapshots"} {
		os.RemoveAll(filepath.Join(dir, lost))
	}
	if report, err := r.Index(ctx, "testing", ChangeOptions{}, progress.None); err != nil || report.Count(Added) != 3 || identities(t, r, "testing") != before {
		t.Errorf("anew: %+v, %v", report, err)
	}
	now, _ := r.Pointer(ctx)
	x, err := r.Snapshot(ctx, now.Channels["testing"]["t"])
	if err != nil || x.Packages != 3 || old.Channels["testing"]["t"] == "" {
		t.Fatal(err)
	}
	state := contents(t, r)
	if report, err := r.Index(ctx, "testing", ChangeOptions{}, progress.None); err != nil || report.Count(Already) != 3 || len(state) != len(contents(t, r)) {
		t.Errorf("again: %+v, %v", report, err)
	}
	os.Remove(filepath.Join(dir, "packages/t/buoy/buoy@1-1.ell"))
	os.Rename(sample(t, t.TempDir(), "flow 1-1"), filepath.Join(dir, "packages/t/tide/flow@1-1.ell"))
	os.WriteFile(filepath.Join(dir, "packages/t/tide/tide@2-1.ell"), []byte("no package"), 0o644)
	report, err := r.Index(ctx, "testing", ChangeOptions{}, progress.None)
	if err != nil || states(report) != "already published, refused, already published, refused" || identities(t, r, "testing") != "ebb@1-1 tide@1-1" {
		t.Errorf("after changes: %s %+v, %v: %s", states(report), report, err, identities(t, r, "testing"))
	}
}

// A snapshot is canonical JSON, however it is written.
func TestSnapshotForm(t *testing.T) {
	for _, s := range []index.Snapshot{
		{},
		{Action: ActionPublish, Bytes: 1 << 40, Format: index.Format, From: strings.Repeat("a", 64), Packages: 3, Parent: strings.Repeat("b", 64), Serial: 12, Target: "saltmarsh-7", Time: time.Unix(2e9, 0).UTC(),
			Listings: map[string]index.Ref{"ff": {Count: 2, SHA256: "x"}, "00": {Count: 1, SHA256: "y"}}, Files: map[string]index.Ref{"0a": {Count: 7, SHA256: "z"}}},
		{Allowed: []index.Exception{{Code: gate.UnmetNeed, Package: "tide", Reason: "<&> \u2028 \"é\" \x01"}}},
	} {
		want, err := canonical.Marshal(s)
		got, err2 := s.Encode()
		if err != nil || err2 != nil || string(got) != string(want) {
			t.Errorf("%s\nis not\n%s\n%v, %v", got, want, err, err2)
		}
	}
}

func TestFindings(t *testing.T) {
	v := Verification{Damaged: []Damage{{Name: "packages/a.ell", Reason: Missing}, {Name: "packages/b.ell", Reason: "other"}, {Name: "listings/x", Reason: Missing}}, Unnamed: []string{"files/y"}}
	audits := []gate.Audit{{Channel: "testing", Target: "t", Findings: []fact.Finding{gate.Finding(gate.UnmetNeed, "t", index.Record{Name: "a", Version: "1", Release: 1}, "", "b", "needs b"), gate.Finding(gate.Unneeded, "t", index.Record{Name: "c", Version: "1", Release: 1}, "", "", "x")}}}
	got := ""
	for _, f := range slices.Concat(gate.AuditFindings(audits), v.Findings()) {
		got += f.Code + " " + string(f.Severity) + " " + f.Path + f.Message + "; "
	}
	want := "ELL601 error a@1-1. (channel testing for t): needs b; ELL606 hint c@1-1. (channel testing for t): x; " +
		"ELL607 error packages/a.ellit is missing; ELL608 error packages/b.ellother; ELL609 error listings/xit is missing; ELL610 hint files/yno retained snapshot refers to it; "
	if got != want {
		t.Errorf("%s\nwant %s", got, want)
	}
}
