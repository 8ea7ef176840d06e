package storage

import (
	"context"
	"errors"
	"fmt"
	"net/url"

	"ellwand.example/core/fact"
)

// ReadOnlyError is a storage that can only be read.
type ReadOnlyError struct{ Where string }

func (e *ReadOnlyError) Error() string {
	return e.Where + " can only be read: publish into the directory or the bucket that it is served from"
}

// UnreachableError is a storage that does not answer.
type UnreachableError struct {
	Where string
	Err   error
}

func (e *UnreachableError) Error() string {
	return fmt.Sprintf("%s does not answer: %v", e.Where, e.Err)
}

// Status is that of something the machine lacks.
func (e *UnreachableError) Status() fact.Status { return fact.StatusMachine }

func (e *UnreachableError) Unwrap() error { return e.Err }

// unreachable makes an UnreachableError of what went wrong on the way, unless
// it was the caller who gave up.
func unreachable(ctx context.Context, where string, err error) error {
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	var u *url.Error // it repeats the address
	if errors.As(err, &u) {
		err = u.Err
	}
	return &UnreachableError{where, err}
}

// NotRepositoryError is a directory that cannot be taken for a repository.
type NotRepositoryError struct {
	Dir     string
	Foreign bool // it holds other things
}

func (e *NotRepositoryError) Error() string {
	if e.Foreign {
		return fmt.Sprintf("%s is not a repository (it has no %s) and not empty, so none is started there: name another directory", e.Dir, PointerFile)
	}
	return "there is no repository at " + e.Dir
}

// Action starts a repository, if nothing else is in the way.
func (e *NotRepositoryError) Action() fact.Action {
	if e.Foreign {
		return fact.Action{}
	}
	return fact.Action{Verb: fact.StartRepository, Subject: e.Dir}
}
