package root

import (
	"strings"
	"testing"

	"ellwand.example/core/fact"
	"ellwand.example/core/progress"
)

// Accounts can be asked for besides those of packages, also without any package; those that are
// there stay.
func TestAskedAccounts(t *testing.T) {
	r := newRoot(t)
	add := func(names ...string) *Plan {
		t.Helper()
		tx, err := r.Begin(t.Context(), Options{Runner: &recorder{}, Progress: progress.None, Disposable: true})
		if err != nil {
			t.Fatal(err)
		}
		defer tx.Close()
		wanted := map[string]fact.Account{}
		for _, name := range names {
			wanted[name] = fact.Account{Home: "/var/lib/" + name, Summary: "Keeper: of tides"}
		}
		p, err := tx.Plan(t.Context(), Request{Action: "image", Accounts: wanted})
		if err != nil {
			t.Fatal(err)
		}
		if !p.IsEmpty() {
			if _, err := tx.Apply(t.Context(), p); err != nil {
				t.Fatal(err)
			}
		}
		return p
	}
	if p := add("tide", "gauge"); strings.Join(p.Accounts, " ") != "gauge tide" {
		t.Errorf("%q", p.Accounts)
	}
	if p := add("tide"); !p.IsEmpty() {
		t.Errorf("an account that is there is created again: %q", p.Accounts)
	}
	n, err := r.Numbers()
	if err != nil {
		t.Fatal(err)
	}
	uid, gid, ok := n.Of("tide", "gauge")
	if !ok || uid != n.Users["tide"] || gid != n.Groups["gauge"] || uid == gid || uid < firstAccount || uid > lastAccount {
		t.Errorf("%d, %d, %v in %+v", uid, gid, ok, n)
	}
	if _, _, ok := n.Of("tide", "nobody-there"); ok {
		t.Error("a group that is not there has a number")
	}
	if uid, gid, ok := n.Of("root", "root"); !ok || uid != 0 || gid != 0 {
		t.Error(uid, gid, ok)
	}
	data, err := readFile(r.tree, "etc/passwd", maxAccounts)
	if err != nil || !strings.Contains(string(data), ":Keeper  of tides:/var/lib/tide:") {
		t.Errorf("%s, %v", data, err)
	}
}
