// Package fault holds the one error that people get to read: what is wrong, where, why and what to do.
package fault

import (
	"errors"
	"fmt"
	"io/fs"
	"strings"

	"ladle/internal/core/text"
)

// Class says who has to act on a fault.
type Class int

const (
	Refused Class = iota // the data is refused or differs; nothing was changed
	Wrong                // the command line or the ladle file is wrong, or the person said no
	Failed               // a file, the database or the network failed; nothing was changed
	Unknown              // the connection was lost during the commit and the outcome can't be asked
	Partly               // as Failed, but parts of a load are committed before it
)

// Problem is one thing that is wrong.
type Problem struct {
	File   string `json:"file,omitempty"`   // file, or database, it stands in
	Line   int    `json:"line,omitempty"`   // from 1; 0 when the whole file is meant
	Column int    `json:"column,omitempty"` // from 1, in characters; 0 when the whole line is meant
	What   string `json:"what"`             // what is wrong, and why
	Do     string `json:"do,omitempty"`     // what to do about it
	Hint   Hint   `json:"hint,omitempty"`   // what else can be done, where that is for a command line to say
}

// Hint is what can be done by a setting that this package does not know how to name.
type Hint string

const (
	WithoutLogbook Hint = "without_logbook" // load without recording the run, which can't be undone then
	Replace        Hint = "replace"         // have the files replaced
	WaitLonger     Hint = "wait_longer"     // wait longer for locks
	GoOn           Hint = "go_on"           // go on with a load in parts
)

// String returns the problem in the form file:line:column: what; do.
func (p Problem) String() string {
	var b strings.Builder
	if p.File != "" {
		b.WriteString(p.File)
		if p.Line > 0 {
			fmt.Fprintf(&b, ":%d", p.Line)
			if p.Column > 0 {
				fmt.Fprintf(&b, ":%d", p.Column)
			}
		}
		b.WriteString(": ")
	}
	b.WriteString(p.What)
	if p.Do != "" {
		b.WriteString("; ")
		b.WriteString(p.Do)
	}
	return b.String()
}

// InvalidValue is something written that can't be taken, in words that go behind its name, with what to write instead.
type InvalidValue struct{ What, Do string }

func (a InvalidValue) Error() string {
	if a.Do == "" {
		return a.What
	}
	return a.What + "; " + a.Do
}

// Fault is an error of a class, with one or more problems and the error that caused it, if any.
type Fault struct {
	Class    Class
	Problems []Problem
	Cause    error
}

func (f *Fault) Error() string {
	lines := make([]string, len(f.Problems))
	for i, p := range f.Problems {
		lines[i] = p.String()
	}
	return strings.Join(lines, "\n")
}

func (f *Fault) Unwrap() error { return f.Cause }

// New makes a fault of one problem without a place.
func New(class Class, what, do string) *Fault {
	return At(class, Problem{What: what, Do: do})
}

// At makes a fault of the given problems.
func At(class Class, problems ...Problem) *Fault {
	return &Fault{Class: class, Problems: problems}
}

// Because makes a fault of one problem that another error caused.
func Because(class Class, cause error, p Problem) *Fault {
	return &Fault{Class: class, Problems: []Problem{p}, Cause: cause}
}

// OfClass returns err as a fault of a class, with the problems that it has.
func OfClass(class Class, err error) *Fault {
	return &Fault{Class: class, Problems: ProblemsOf(err), Cause: err}
}

// ClassOf is the class of err: that of the fault in it, Failed for any other error.
func ClassOf(err error) Class {
	var f *Fault
	if errors.As(err, &f) {
		return f.Class
	}
	return Failed
}

// ProblemsOf lists the problems in err; an error that isn't a fault is one problem.
func ProblemsOf(err error) []Problem {
	var f *Fault
	if errors.As(err, &f) {
		return f.Problems
	}
	return []Problem{{What: err.Error()}}
}

// OfSystem returns the words of an error of the operating system without the path that it repeats.
func OfSystem(err error) string {
	if errors.Is(err, fs.ErrNotExist) {
		return "there is no such file"
	}
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err.Error()
	}
	return err.Error()
}

// OfPattern returns the words of an error of the regular expressions without those of the package.
func OfPattern(err error) string { return strings.TrimPrefix(err.Error(), "error parsing regexp: ") }

// DidYouMean is the advice for a name that isn't there: the near one, or the list of all (shortened).
func DidYouMean(name string, names []string) string {
	if near := text.Nearest(name, names); near != "" {
		return fmt.Sprintf("did you mean %q?", near)
	}
	if len(names) == 0 {
		return ""
	}
	const most = 12
	shown, more := names, ""
	if len(names) > most {
		shown, more = names[:most], fmt.Sprintf(" and %d more", len(names)-most)
	}
	return "there are: " + strings.Join(shown, ", ") + more
}
