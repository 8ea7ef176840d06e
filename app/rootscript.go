package app

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"mvdan.cc/sh/v3/syntax"

	"ellwand.example/core/engine/sandbox"
	"ellwand.example/core/fact"
	"ellwand.example/core/root"
)

// scriptTime is how long a script of a package may run.
const scriptTime = 10 * time.Minute

// scriptEnv is the environment of scripts and programs in a root.
var scriptEnv = []string{"PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin", "HOME=/tmp", "LC_ALL=C.UTF-8"}

// RootRunner runs scripts and programs in a root: in a sandbox, in which the root is the
// file system and nothing else can be written to. Only for the machine's own root
// directory they run as they are.
type RootRunner struct {
	dir      string
	settings root.Settings
	files    string // a temporary directory; made on first use
	check    func(ctx context.Context) (sandbox.Namespaces, error)
}

// rootRunner returns what runs scripts in a root, to be closed.
func (a *App) rootRunner(r *root.Root) (*RootRunner, error) {
	dir, err := filepath.Abs(r.Dir)
	if err != nil {
		return nil, err
	}
	runner := &RootRunner{dir: dir, settings: r.Settings}
	var once sync.Once
	var found sandbox.Namespaces
	runner.check = func(ctx context.Context) (sandbox.Namespaces, error) {
		var err error
		once.Do(func() {
			var check string
			if check, err = runner.temp("check"); err == nil {
				found, err = sandbox.Check(ctx, check)
			}
		})
		return found, err
	}
	return runner, nil
}

// Close removes what the runner made.
func (r *RootRunner) Close() error {
	if r.files == "" {
		return nil
	}
	return os.RemoveAll(r.files)
}

// temp makes an empty directory.
func (r *RootRunner) temp(name string) (string, error) {
	if r.files == "" {
		dir, err := os.MkdirTemp("", "ellwand-root-")
		if err != nil {
			return "", err
		}
		r.files = dir
	}
	return os.MkdirTemp(r.files, name)
}

// Script runs a script of a package.
func (r *RootRunner) Script(ctx context.Context, name, text string, env []string) (string, error) {
	out := &tail{most: maxTail}
	if r.dir == "/" {
		ctx, cancel := context.WithTimeout(ctx, scriptTime)
		defer cancel()
		cmd := exec.CommandContext(ctx, "/bin/sh", "-eu", "-c", text)
		cmd.Dir, cmd.Env, cmd.Stdout, cmd.Stderr = "/", append(scriptEnv, env...), out, out
		err := cmd.Run()
		var failed *exec.ExitError
		if errors.As(err, &failed) && ctx.Err() == nil {
			err = &sandbox.ExitError{Status: failed.ExitCode()}
		}
		return out.String(), err
	}
	_, err := r.run(ctx, sandbox.Command{
		Name: strings.ReplaceAll(name, "/", "-"), Script: text, Env: append(scriptEnv, env...), Output: out,
		Protected: root.StateDir, Limits: sandbox.Limits{Time: scriptTime, Processes: 4096},
	})
	return out.String(), err
}

// run runs a command in the root.
func (r *RootRunner) run(ctx context.Context, c sandbox.Command) (sandbox.Usage, error) {
	n, err := r.check(ctx)
	if err != nil {
		return sandbox.Usage{}, err
	}
	if c.Files, err = r.temp("run"); err != nil {
		return sandbox.Usage{}, err
	}
	if n.System = r.settings.SystemDir(); n.System == "/" {
		n.System = ""
	}
	c.Root, c.Dir, c.Alone = r.dir, "/", r.settings.System == root.SystemNone
	// What scripts change of the system has to have a place in the root.
	if err := os.MkdirAll(filepath.Join(r.dir, "etc"), 0o755); err != nil {
		return sandbox.Usage{}, err
	}
	return n.Run(ctx, c)
}

// RunInRoot runs a program in a root, or a shell on a terminal if none is named. The
// error is a *sandbox.ExitError if the program failed.
func (a *App) RunInRoot(ctx context.Context, r *root.Root, argv []string, output, terminal *os.File) error {
	runner, err := a.rootRunner(r)
	if err != nil {
		return err
	}
	defer runner.Close()
	if runner.dir == "/" {
		return fact.Errorf(fact.StatusUsage, "/ is this machine itself: run the program as usual")
	}
	c := sandbox.Command{Name: "run", Env: scriptEnv, Output: output}
	if len(argv) == 0 {
		c.Terminal = terminal
	} else {
		words := make([]string, len(argv))
		for i, word := range argv {
			if words[i], err = syntax.Quote(word, syntax.LangPOSIX); err != nil {
				return fact.Errorf(fact.StatusUsage, "%q cannot be an argument: %w", word, err)
			}
		}
		c.Script = "exec " + strings.Join(words, " ")
	}
	_, err = runner.run(ctx, c)
	return err
}

// maxTail is how much of a script's output is kept, in bytes.
const maxTail = 16 << 10

// tail keeps the end of what is written.
type tail struct {
	most int // bytes
	data []byte
	lost bool
}

func (t *tail) Write(b []byte) (int, error) {
	t.data = append(t.data, b...)
	if extra := len(t.data) - t.most; extra > 0 {
		t.data, t.lost = append(t.data[:0], t.data[extra:]...), true
	}
	return len(b), nil
}

func (t *tail) String() string {
	text := strings.ToValidUTF8(strings.TrimRight(string(t.data), "\n"), "?")
	if t.lost {
		return fmt.Sprintf("…%s", text)
	}
	return text
}
