// Package fault holds the one error that people get to read: what is wrong, where, why and what to do.
package fault

import (
	"errors"
	"fmt"
	"strings"
	"unicode"

	"github.com/agnivade/levenshtein"
)

// Class says who has to act on a fault. Its value is the exit status of the program.
type Class int

const (
	Refused Class = 1 // the data is refused or differs; nothing was changed
	Wrong   Class = 2 // the command line or the ladle file is wrong, or the person said no
	Failed  Class = 3 // a file, the database or the network failed; nothing was changed
	Unknown Class = 5 // the connection was lost during the commit and the outcome can't be asked
)

// Problem is one thing that is wrong.
type Problem struct {
	File   string `json:"file,omitempty"`   // file, or database, it stands in
	Line   int    `json:"line,omitempty"`   // from 1; 0 when the whole file is meant
	Column int    `json:"column,omitempty"` // from 1, in characters; 0 when the whole line is meant
	What   string `json:"what"`             // what is wrong, and why
	Do     string `json:"do,omitempty"`     // what to do about it
}

// String gives the problem in the form file:line:column: what; do.
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

// Advised is something written that can't be taken, in words that go behind its name, with what to write instead.
type Advised struct{ What, Do string }

func (a Advised) Error() string {
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

// Near finds the name that was most likely meant by name, or "" when none is near enough.
func Near(name string, names []string) string {
	best, least := "", len([]rune(name))/3+2
	for _, n := range names {
		d := levenshtein.ComputeDistance(strings.ToLower(name), strings.ToLower(n))
		if d < least {
			best, least = n, d
		}
	}
	return best
}

// NearValue finds the value of a table that was most likely meant by a cell, or "". Codes, which have digits in
// them, are near only when they differ in nothing but case, blanks and marks: the next code is another thing.
func NearValue(cell string, values []string) string {
	bare := lettersAndDigits(cell)
	for _, v := range values {
		if lettersAndDigits(v) == bare {
			return v
		}
	}
	if strings.ContainsAny(cell, "0123456789") {
		return ""
	}
	best, least := "", len([]rune(cell))/4+1
	for _, v := range values {
		if d := levenshtein.ComputeDistance(strings.ToLower(cell), strings.ToLower(v)); d < least {
			best, least = v, d
		}
	}
	return best
}

func lettersAndDigits(s string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			return unicode.ToLower(r)
		}
		return -1
	}, s)
}

// DidYouMean is the advice for a name that isn't there: the near one, or the list of all (shortened).
func DidYouMean(name string, names []string) string {
	if near := Near(name, names); near != "" {
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
