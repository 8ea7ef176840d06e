package fact

import (
	"errors"
	"fmt"
	"io/fs"
	"syscall"
)

// Status classifies errors for the interface that reports them.
type Status int

// The statuses.
const (
	StatusInput    Status = iota // wrong input; also errors without a status
	StatusUsage                  // the caller asked for something impossible
	StatusFindings               // something was found, as opposed to having failed
	StatusStep                   // a build step failed
	StatusMachine                // this machine, or one it depends on, lacks something
)

// StatusOf returns the status of the outermost error in a chain that has one.
func StatusOf(err error) Status {
	var own interface{ Status() Status }
	switch {
	case errors.As(err, &own):
		return own.Status()
	case errors.Is(err, syscall.ENOSPC), errors.Is(err, syscall.EROFS), errors.Is(err, fs.ErrPermission):
		return StatusMachine
	}
	return StatusInput
}

// Action names something that a user can do next. Front ends put it into their
// own terms, such as a command or a button.
type Action struct {
	Verb    Verb   `json:"verb"`
	Subject string `json:"subject,omitempty"` // what to do it to: a recipe, a package, a repository
	Detail  string `json:"detail,omitempty"`  // as the verb says
}

// Verb is the kind of an action.
type Verb string

// The verbs. Subject is a recipe, if nothing else is said.
const (
	Build          Verb = "build"
	BuildUntil     Verb = "build-until" // Detail is the last step to run
	FetchSources   Verb = "fetch"
	PinSources     Verb = "pin"
	RaiseRelease   Verb = "raise-release"
	StartWorkspace Verb = "start-workspace"
	WatchNeeds     Verb = "watch-needs" // build, and report what the steps use
	ShowPlan       Verb = "show-plan"

	StartRepository Verb = "start-repository" // Subject is a repository, here and below
	ShowHistory     Verb = "show-history"     // Detail is a channel
	Verify          Verb = "verify"
	MakeIndex       Verb = "make-index"
	Prune           Verb = "prune"
	ForgetSeen      Verb = "forget-seen" // sync again, without what was seen before

	CreateRoot      Verb = "create-root" // Subject is a directory, here and below
	ShowRootHistory Verb = "show-root-history"
	FinishRoot      Verb = "finish-root" // run scripts that failed again

	MakeImage   Verb = "make-image"   // Subject is an image, here and below
	UpdateImage Verb = "update-image" // choose its packages again

	WithoutIsolation Verb = "without-isolation" // run steps without a sandbox
)

// Error is an error with a status, and with an action that may solve it.
type Error struct {
	Class   Status
	Message string
	Next    Action // empty if there is none
	Cause   error  // may be nil
}

// Errorf makes an error with a status. An error among the arguments that is
// formatted by %w is its cause.
func Errorf(status Status, format string, arguments ...any) *Error {
	err := fmt.Errorf(format, arguments...)
	return &Error{Class: status, Message: err.Error(), Cause: errors.Unwrap(err)}
}

// Try returns the error with an action that may solve it.
func (e *Error) Try(verb Verb, subject, detail string) *Error {
	e.Next = Action{verb, subject, detail}
	return e
}

func (e *Error) Error() string  { return e.Message }
func (e *Error) Unwrap() error  { return e.Cause }
func (e *Error) Status() Status { return e.Class }

// Action returns what may solve the error.
func (e *Error) Action() Action { return e.Next }

// ActionOf returns the action of the outermost error in a chain that has one.
func ActionOf(err error) (Action, bool) {
	var own interface{ Action() Action }
	if errors.As(err, &own) && own.Action().Verb != "" {
		return own.Action(), true
	}
	return Action{}, false
}
