package load

import (
	"time"

	"ladle/internal/core/aside"
	"ladle/internal/core/check"
)

// Outcome is how a load ended.
type Outcome string

const (
	Loaded   Outcome = "loaded"   // all is in the database
	Tried    Outcome = "tried"    // all would have been; it was rolled back as asked
	Refused  Outcome = "refused"  // the data is refused; nothing was changed
	Declined Outcome = "declined" // the person said no; nothing was changed
	Asking   Outcome = "asking"   // not ended yet: this is what would be done
)

// Report is the account of a load.
type Report struct {
	Outcome   Outcome        `json:"outcome"`
	Why       string         `json:"why,omitempty"` // it was refused
	LadleFile string         `json:"ladle_file"`
	Database  string         `json:"database"`
	Run       int64          `json:"run,omitempty"` // its number in the logbook
	Inputs    []InputReport  `json:"inputs"`
	Lookups   []LookupReport `json:"lookups,omitempty"`
	Steps     []StepReport   `json:"steps"`
	Checks    []check.Result `json:"checks,omitempty"`
	Newest    []TableReport  `json:"newest_rows,omitempty"`
	SetAside  []AsideReport  `json:"set_aside,omitempty"` // the first of them
	Groups    []aside.Group  `json:"groups,omitempty"`    // all of them, by column and reason
	Limit     string         `json:"set_aside_limit"`
	Level     check.Level    `json:"check_level"`
	Notes     []string       `json:"notes,omitempty"` // what to know of the connection
	Seconds   Seconds        `json:"seconds"`
}

// Seconds is how long the parts of a load took.
type Seconds struct {
	Read  float64 `json:"read"`
	Judge float64 `json:"judge"`
	Write float64 `json:"write"`
	Prove float64 `json:"prove"`
	Book  float64 `json:"logbook"`
	Total float64 `json:"total"` // without the time that a person took to answer
}

// InputReport is what was read of an input.
type InputReport struct {
	Input        string `json:"input"`
	File         string `json:"file"`
	Rows         int64  `json:"rows"`
	SetAside     int64  `json:"set_aside"`                // lines that a step set aside
	SetAsideFile string `json:"set_aside_file,omitempty"` // where they all are
	Moved        string `json:"moved,omitempty"`          // where an edited file of an earlier run went
}

// LookupReport is what finds add to a lookup.
type LookupReport struct {
	Table   string    `json:"table"`
	Columns []string  `json:"columns"`
	Added   int64     `json:"added"`
	Names   []string  `json:"names"`             // the first of them
	Similar []Similar `json:"similar,omitempty"` // those that look like others, and that a person accepted
}

// StepReport is the account of a step.
type StepReport struct {
	Step    string       `json:"step"`
	Table   string       `json:"table"`
	Input   string       `json:"input"`
	Key     []string     `json:"key"`
	After   []string     `json:"after,omitempty"` // why it stands behind others
	Tally   Tally        `json:"tally"`
	Removed int64        `json:"removed,omitempty"`    // rows of the table that are gone from the file
	Gone    []string     `json:"gone,omitempty"`       // the keys of the first of them
	First   *TableReport `json:"first_rows,omitempty"` // as they would be stored
}

// Tally is the account of the rows of a step: Read is the sum of all others.
type Tally struct {
	Read      int64 `json:"read"`
	Added     int64 `json:"added"`
	Updated   int64 `json:"updated"`
	Unchanged int64 `json:"unchanged"`
	Kept      int64 `json:"kept"`
	Repeated  int64 `json:"repeated"`
	LeftOut   int64 `json:"left_out"`
	SetAside  int64 `json:"set_aside"`
}

func (t *Tally) count(v verdict) {
	t.Read++
	switch v {
	case added:
		t.Added++
	case updated:
		t.Updated++
	case unchanged:
		t.Unchanged++
	case kept:
		t.Kept++
	case repeated:
		t.Repeated++
	case leftOut:
		t.LeftOut++
	case setAside:
		t.SetAside++
	}
}

// Balanced tells whether the tally adds up.
func (t Tally) Balanced() bool {
	return t.Read == t.Added+t.Updated+t.Unchanged+t.Kept+t.Repeated+t.LeftOut+t.SetAside
}

// TableReport is the newest rows of a table, as people read them.
type TableReport struct {
	Table   string      `json:"table"`
	Columns []string    `json:"columns"`
	Rows    [][]*string `json:"rows"`
}

// AsideReport is a line that was set aside.
type AsideReport struct {
	File    string   `json:"file"`
	Line    int64    `json:"line"`
	Place   string   `json:"-"` // both, in short
	Reasons []string `json:"reasons"`
}

// Status is the exit status of the program for this outcome.
func (r *Report) Status() int {
	switch {
	case r.Outcome == Refused:
		return 1
	case r.Outcome == Declined:
		return 2
	case r.Aside() > 0:
		return 4
	}
	return 0
}

// Aside is the number of lines that were set aside.
func (r *Report) Aside() (n int64) {
	for _, in := range r.Inputs {
		n += in.SetAside
	}
	return n
}

// Read is the number of lines that were read.
func (r *Report) Read() (n int64) {
	for _, in := range r.Inputs {
		n += in.Rows
	}
	return n
}

// sameTallies tells whether two reports say the same would be done.
func (r *Report) sameTallies(o *Report) bool {
	for i := range r.Steps {
		if r.Steps[i].Tally != o.Steps[i].Tally || r.Steps[i].Removed != o.Steps[i].Removed {
			return false
		}
	}
	if len(r.Lookups) != len(o.Lookups) {
		return false
	}
	for i := range r.Lookups {
		if r.Lookups[i].Added != o.Lookups[i].Added {
			return false
		}
	}
	return true
}

func since(start time.Time) float64 { return time.Since(start).Seconds() }
