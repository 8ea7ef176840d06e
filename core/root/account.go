package root

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"hash/fnv"
	"io/fs"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"ellwand.example/core/fact"
	"ellwand.example/core/staging"
)

// Numbers of the accounts that Ellwand creates. A name gets the same number in every
// root, unless another account has it.
const (
	firstAccount = 300
	lastAccount  = 899
)

// The files of accounts: passwd(5), group(5), shadow(5) and gshadow(5).
const (
	passwdFile  = "/etc/passwd"
	groupFile   = "/etc/group"
	shadowFile  = "/etc/shadow"
	gshadowFile = "/etc/gshadow"
	// accountLock is what the C library's lckpwdf(3) locks.
	accountLock = "etc/.pwd.lock"
)

// maxAccounts is the most bytes of a file of accounts.
const maxAccounts = 8 << 20

// accounts are the users and groups of a root.
type accounts struct {
	users, groups map[string]int
	taken         map[int]bool
	// text is what each of the files will have, by its path; only those that change.
	text map[string][]byte
	// base is what they have now.
	base map[string][]byte
}

// accountNumbers are the accounts of a root, to compare owners with; nil if this user
// could not set owners.
func accountNumbers(r *Root) *accounts {
	if os.Geteuid() != 0 {
		return nil
	}
	t := &Transaction{root: r}
	if t.readAccounts() != nil {
		return nil
	}
	return &t.accounts
}

// Numbers are the numbers of the users and groups of a root, by their names.
type Numbers struct{ Users, Groups map[string]int }

// Numbers reads the accounts of the root, and those of the system that it is based on.
func (r *Root) Numbers() (Numbers, error) {
	t := &Transaction{root: r}
	if err := t.readAccounts(); err != nil {
		return Numbers{}, err
	}
	return Numbers{t.accounts.users, t.accounts.groups}, nil
}

// Of returns the numbers of an owner and a group; ok is false if one of them is unknown.
func (n Numbers) Of(owner, group string) (uid, gid int, ok bool) {
	a := accounts{users: n.Users, groups: n.Groups}
	uid, gid = a.numbers(owner, group)
	return uid, gid, uid >= 0 && gid >= 0
}

// readAccounts reads the accounts of the root; those of the system that it is based on, if
// it has none of its own.
func (t *Transaction) readAccounts() error {
	a := accounts{users: map[string]int{}, groups: map[string]int{}, taken: map[int]bool{}, text: map[string][]byte{}, base: map[string][]byte{}}
	for _, file := range []string{passwdFile, groupFile, shadowFile, gshadowFile} {
		data, err := t.readAccountFile(file)
		if err != nil {
			return err
		}
		if data == nil {
			switch file {
			case passwdFile:
				data = []byte("root:x:0:0:root:/root:/bin/sh\n")
			case groupFile:
				data = []byte("root:x:0:\n")
			default:
				continue // a root without passwords
			}
		}
		a.base[file] = data
	}
	for file, numbers := range map[string]map[string]int{passwdFile: a.users, groupFile: a.groups} {
		for line := range strings.Lines(string(a.base[file])) {
			fields := strings.Split(strings.TrimSpace(line), ":")
			if len(fields) < 3 {
				continue
			}
			if n, err := strconv.Atoi(fields[2]); err == nil {
				numbers[fields[0]], a.taken[n] = n, true
			}
		}
	}
	t.accounts = a
	return nil
}

// readAccountFile reads a file of accounts of the root, or of the system below; nil if
// neither has it. Passwords of the system are not copied into the root: they stay
// where they are.
func (t *Transaction) readAccountFile(p string) ([]byte, error) {
	data, err := readFile(t.root.tree, local(p), maxAccounts)
	if errors.Is(err, fs.ErrNotExist) && t.root.system != nil && p != shadowFile && p != gshadowFile {
		data, err = readFile(t.root.system, local(p), maxAccounts)
	}
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrPermission) {
		return nil, nil
	}
	return data, err
}

// planAccounts adds the accounts that packages declare, and checks that every owner of a
// path is known.
func (t *Transaction) planAccounts(_ context.Context, p *Plan, q Request) error {
	a := &p.accounts
	for _, one := range p.parts {
		if one.record == nil {
			continue
		}
		p.addAccounts(one.change.Name, one.record.Facts.Accounts)
	}
	p.addAccounts("", q.Accounts)
	if !t.ownerships() {
		return nil
	}
	reported := map[string]bool{}
	for _, i := range p.items {
		for _, o := range []struct {
			what, name string
			known      map[string]int
		}{{"user", i.entry.Owner, a.users}, {"group", i.entry.Group, a.groups}} {
			if _, ok := o.known[o.name]; !ok && o.name != staging.Root && !reported[o.what+o.name] && i.part != nil {
				reported[o.what+o.name] = true
				p.problem(Problem{Package: i.part.change.Name, Path: i.real, Message: fmt.Sprintf("the root has no %s %s to own it", o.what, o.name), Remedy: "the recipe has to declare the account: [package.NAME.account." + o.name + "]"})
			}
		}
	}
	return nil
}

// addAccounts adds the accounts of a package, or those that whoever changes the root asks
// for, unless they are there.
func (p *Plan) addAccounts(pkg string, wanted map[string]fact.Account) {
	a := &p.accounts
	for _, name := range sortedKeys(wanted) {
		_, user := a.users[name]
		_, group := a.groups[name]
		switch {
		case user && group:
			continue
		case user != group:
			p.problem(Problem{Package: pkg, Message: fmt.Sprintf("its account %s exists in only one of %s and %s", name, passwdFile, groupFile), Remedy: "create the other one with the same number"})
			continue
		}
		number, ok := a.free(name)
		if !ok {
			p.problem(Problem{Package: pkg, Message: fmt.Sprintf("no number between %d and %d is free for its account %s", firstAccount, lastAccount, name)})
			continue
		}
		a.add(name, number, wanted[name])
		p.Accounts = append(p.Accounts, name)
	}
}

// free is the number that a name gets.
func (a *accounts) free(name string) (int, bool) {
	h := fnv.New32a()
	h.Write([]byte(name))
	const n = lastAccount - firstAccount + 1
	start := int(h.Sum32() % n)
	for i := range n {
		if number := firstAccount + (start+i)%n; !a.taken[number] {
			return number, true
		}
	}
	return 0, false
}

// add writes an account into the texts: a system account that nobody can log in to.
func (a *accounts) add(name string, number int, account fact.Account) {
	a.users[name], a.groups[name], a.taken[number] = number, number, true
	clean := func(s string) string {
		return strings.Map(func(r rune) rune { return replaceIf(r == ':' || r == '\n', r) }, s)
	}
	home := cmp.Or(clean(account.Home), "/nonexistent")
	n := strconv.Itoa(number)
	for file, line := range map[string]string{
		passwdFile:  strings.Join([]string{name, "x", n, n, clean(account.Summary), home, "/usr/sbin/nologin"}, ":"),
		groupFile:   strings.Join([]string{name, "x", n, ""}, ":"),
		shadowFile:  name + ":!*:::::::",
		gshadowFile: name + ":!*::",
	} {
		data, ok := a.text[file]
		if !ok {
			if data, ok = a.base[file]; !ok {
				continue
			}
			data = slices.Clone(data)
		}
		if len(data) > 0 && !bytes.HasSuffix(data, []byte("\n")) {
			data = append(data, '\n')
		}
		a.text[file] = append(data, line+"\n"...)
	}
}

func replaceIf(yes bool, r rune) rune {
	if yes {
		return ' '
	}
	return r
}

// numbers of an entry's owner and group; -1 where they are not set.
func (a *accounts) numbers(owner, group string) (uid, gid int) {
	find := func(known map[string]int, name string) int {
		if n, ok := known[name]; ok {
			return n
		}
		if name == staging.Root {
			return 0
		}
		return -1
	}
	return find(a.users, owner), find(a.groups, group)
}

// lockAccounts takes the lock of lckpwdf(3), which every program that changes accounts
// takes.
func (t *Transaction) lockAccounts(ctx context.Context) (unlock func(), err error) {
	if _, there, err := t.root.exists("/etc"); err != nil || !there {
		return func() {}, err // nobody else can change what is not there yet
	}
	f, err := t.root.tree.OpenFile(accountLock, os.O_CREATE|os.O_RDWR|openFlags, 0o600)
	if err != nil {
		return nil, err
	}
	for deadline := time.Now().Add(15 * time.Second); ; {
		err = unix.FcntlFlock(f.Fd(), unix.F_SETLK, &unix.Flock_t{Type: unix.F_WRLCK})
		if err == nil {
			return func() { f.Close() }, nil
		}
		if ctx.Err() != nil || time.Now().After(deadline) {
			f.Close()
			if ctx.Err() != nil {
				return nil, context.Cause(ctx)
			}
			return nil, fact.Errorf(fact.StatusMachine, "another program is changing the accounts in %s/etc: its lock /etc/.pwd.lock is held", t.root.Dir)
		}
		time.Sleep(50 * time.Millisecond)
	}
}
