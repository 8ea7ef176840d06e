// Package progress lets the core report to its caller how far it is. It
// knows nothing of terminals: cli decides what to show.
package progress

// Sink receives what happens.
type Sink interface {
	// Begin announces a piece of work. Total is its size in unit "bytes" or a
	// counted thing, or in unit Time the milliseconds that it usually takes,
	// which pass by themselves; 0 where it is not known.
	Begin(name string, total int64, unit string) Task
	// Note is one fact worth telling at any time.
	Note(text string)
}

// Time is the unit of work of which only the usual time is known.
const Time = "ms"

// Task is a piece of work under way. Its methods may be called by several
// goroutines.
type Task interface {
	// Advance adds to the amount that is done.
	Advance(n int64)
	// Set says again how much is done, and of how much; a total of 0 or less
	// is not known.
	Set(done, total int64)
	// Say shows what is being done at the moment, such as a line of output.
	Say(line string)
	// End closes the task; result describes the result in a few words.
	End(result string)
}

// None discards everything.
var None Sink = none{}

type none struct{}

func (none) Begin(string, int64, string) Task { return none{} }
func (none) Note(string)                      {}
func (none) Advance(int64)                    {}
func (none) Set(int64, int64)                 {}
func (none) Say(string)                       {}
func (none) End(string)                       {}
