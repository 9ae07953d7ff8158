// Package report is what people and programs are told of a load: its tallies, samples of its rows, the checks and how
// it ended. [New] begins a [Report]; [Report.Fill] brings in what was judged, [Report.Sample] the first rows as they
// would be stored, [Newest] the newest rows once they are there.
package report

import (
	"encoding/json"
	"math"
	"slices"
	"strings"

	"ladle/internal/core/check"
	"ladle/internal/core/judge"
	"ladle/internal/core/plan"
	"ladle/internal/core/reason"
	"ladle/internal/core/setaside"
)

// Outcome is how a load ended.
type Outcome string

const (
	Loaded     Outcome = "loaded"     // all is in the database
	Tried      Outcome = "tried"      // all would have been; it was rolled back
	Refused    Outcome = "refused"    // the data is refused; nothing was changed
	Unfinished Outcome = "unfinished" // parts of it are in the database, the others are refused
	Declined   Outcome = "declined"   // the person said no; nothing was changed
	Asking     Outcome = "asking"     // not ended yet: this is what would be done
)

// Report is the account of a load.
type Report struct {
	Outcome   Outcome          `json:"-"`
	Why       *reason.Cause    `json:"why,omitempty"` // it was refused
	LadleFile string           `json:"ladle_file"`
	Database  string           `json:"database"`
	Run       int64            `json:"run,omitempty"` // its number in the logbook
	Inputs    []Input          `json:"inputs"`
	Rules     []RuleEffect     `json:"rule_effects"` // what the rules of the ladle file did to cells
	Lookups   []Lookup         `json:"lookups"`
	Steps     []Step           `json:"steps"`
	Checks    []check.Result   `json:"checks"`
	Newest    []Rows           `json:"newest_rows"`
	SetAside  []SetAside       `json:"set_aside_lines"` // the first of them
	Groups    []setaside.Group `json:"reasons"`         // all of them, by column and reason
	Limit     string           `json:"set_aside_limit"`
	Level     check.Level      `json:"check_level"`
	Notes     []string         `json:"notes"` // what to know of the connection and the files
	Queries   []string         `json:"-"`     // SQL of a ladle file that was never loaded here, as long as it is asked about
	Seconds   Seconds          `json:"phase_seconds"`
	RunWith   string           `json:"run_with,omitempty"` // of a script: the line for a shell that runs it
	Parts     *Parts           `json:"parts,omitempty"`    // those that are committed, of a load in parts
}

// Parts are the parts of a load that are committed by themselves.
type Parts struct {
	Number   int   `json:"number"`          // of those that are committed
	Most     int64 `json:"lines_at_most"`   // that one of them takes
	Lines    int64 `json:"lines_committed"` // that they took in all
	Finished bool  `json:"finished"`        // all are committed
}

// Seconds is how long the phases of a load took.
type Seconds struct {
	Read  float64 `json:"read"`
	Judge float64 `json:"judge"`
	Write float64 `json:"write"`
	Prove float64 `json:"prove"`
	Book  float64 `json:"logbook"`
	Total float64 `json:"total"` // without the time that a person took to answer
}

// MarshalJSON writes milliseconds at most.
func (s Seconds) MarshalJSON() ([]byte, error) {
	type plain Seconds
	p := plain(s)
	for _, x := range []*float64{&p.Read, &p.Judge, &p.Write, &p.Prove, &p.Book, &p.Total} {
		*x = math.Round(*x*1000) / 1000
	}
	return json.Marshal(p)
}

// Input is what was read of an input.
type Input struct {
	Input        string `json:"name"`
	File         string `json:"file"`
	Lines        int64  `json:"lines"`
	SetAside     int64  `json:"lines_set_aside"`                // lines that a step set aside
	SetAsideFile string `json:"set_aside_file,omitempty"`       // where they all are
	Moved        string `json:"older_set_aside_file,omitempty"` // where an edited file of an earlier run went
}

// Lookup is what lookups add to a table.
type Lookup struct {
	Table   string          `json:"table"`
	Columns []string        `json:"columns"`
	Added   int64           `json:"added"`
	Names   []string        `json:"names"`         // the first of them
	Similar []judge.Similar `json:"similar_names"` // those that look like others, and that a person accepted
}

// Step is the account of a step.
type Step struct {
	Step       string       `json:"name"`
	Table      string       `json:"table"`
	Input      string       `json:"input"`
	Key        []string     `json:"key"`
	After      []plan.After `json:"after"` // the steps that it comes after
	Tally      judge.Tally  `json:"tally"`
	Blank      int64        `json:"left_out_for_blanks"`  // of those left out, by a condition that a blank cell makes blank
	BlankLines int64        `json:"left_out_blank"`       // of those left out, lines that are blank for the step
	Removed    int64        `json:"removed"`              // rows of the table that are gone from the file
	Gone       []string     `json:"removed_keys"`         // the keys of the first of them
	Marked     Marked       `json:"marked"`               // rows that are gone from the file, and stay with a mark
	MarkedBack Marked       `json:"marked_back"`          // rows with the mark that the file has again
	First      *Rows        `json:"first_rows,omitempty"` // as they would be stored

	Similar     []judge.Similar `json:"similar_names"`                // keys that look like others, and that a person accepted
	Unheld      int64           `json:"keys_not_held_against_others"` // new ones, too many to look for names that look alike
	Equal       int64           `json:"rows_already_there"`           // without a key; -1 where nobody looked
	Typeless    []Typeless      `json:"numbers_kept_as_texts"`        // columns without a type
	LeftBlank   []LeftBlank     `json:"left_blank"`                   // the most frequent cells that lookups left blank
	Unfound     int64           `json:"left_blank_lines"`             // cells that lookups left blank, in all
	Differences []Difference    `json:"differences"`                  // the first cells that differ from rows which are kept
	Overruled   []Overruled     `json:"overruled_lines"`              // the first of them
}

// Marked is rows that are marked in the same way.
type Marked struct {
	Rows    int64     `json:"rows"`
	Columns []string  `json:"columns"` // that get a value
	Values  []*string `json:"values"`  // those that they get; nil for NULL
	Keys    []string  `json:"keys"`    // of the first rows
}

// Words says what the rows get, as "state: closed, gone_on: NULL".
func (m Marked) Words() string {
	words := make([]string, len(m.Columns))
	for i, name := range m.Columns {
		words[i] = name + ": " + OrNull(m.Values[i])
	}
	return strings.Join(words, ", ")
}

// NoneMarked is no rows.
func NoneMarked() Marked { return Marked{Columns: []string{}, Values: []*string{}, Keys: []string{}} }

// MarkedBy is what a marking does.
func MarkedBy(m *judge.Marking) (Marked, error) {
	keys, err := m.Names(MostNames)
	return Marked{m.Rows(), append([]string{}, m.Columns...), append([]*string{}, m.Texts()...),
		append([]string{}, keys...)}, err
}

// Rows are rows of a table as people read them; NULL is nil.
type Rows struct {
	Table   string      `json:"table"`
	Columns []string    `json:"columns"`
	Rows    [][]*string `json:"rows"`
}

// SetAside is a line that was set aside.
type SetAside struct {
	File    string   `json:"file"`
	Line    int64    `json:"line"`
	Place   string   `json:"-"` // both, in short
	Reasons []string `json:"reasons"`
}

const (
	MostNames    = 20 // names of a lookup
	mostRows     = 3  // newest rows of a table
	mostSetAside = 100

	mostDifferences = 20 // of a step
)

// New returns the report of a load that has read nothing yet. files names the files of each feed.
func New(p *plan.Plan, files []string, level check.Level, notes []string) *Report {
	r := &Report{LadleFile: p.File.Title(), Database: p.Schema.Database, Limit: p.File.Limit.String(), Level: level,
		Notes: append([]string{}, notes...),
		Rules: []RuleEffect{}, Lookups: []Lookup{}, Steps: []Step{}, Checks: []check.Result{}, Newest: []Rows{}, SetAside: []SetAside{},
		Groups: []setaside.Group{}}
	for i, f := range p.Feeds {
		r.Inputs = append(r.Inputs, Input{Input: f.Name(), File: files[i]})
	}
	return r
}

// Fill brings what was judged into the report.
func (r *Report) Fill(j *judge.Judgement) error {
	r.Steps = []Step{}
	for _, s := range j.Steps {
		made, err := gone(s)
		if err != nil {
			return err
		}
		r.Steps = append(r.Steps, Step{Step: s.Name, Table: s.Table.Name, Input: s.Feed.Name(),
			Key: s.Recognised().RecognisedBy(), After: s.After, Tally: s.Tally, Similar: append([]judge.Similar{}, s.Similar...),
			Unheld: s.Unheld, Typeless: typeless(s), Blank: s.BlankConditions, BlankLines: s.BlankLines,
			Removed: s.Gone.Removed(), Gone: made.keys, Marked: made.marked, MarkedBack: made.back})
	}
	r.Lookups = Lookups(j)
	for i := range r.Inputs {
		r.Inputs[i].SetAside = j.SetAside[i].Len()
	}
	return nil
}

// Lookups is what lookups add.
func Lookups(j *judge.Judgement) []Lookup {
	all := []Lookup{}
	for _, g := range j.Growths {
		all = append(all, Lookup{Table: g.Table.Name, Columns: g.Columns, Added: int64(len(g.Rows)),
			Names: g.Names(MostNames), Similar: append([]judge.Similar{}, g.Similar...)})
	}
	return all
}

// goneRows is what becomes of rows that are gone from the file, or there again.
type goneRows struct {
	keys         []string // of those that are removed
	marked, back Marked
}

func gone(s *judge.Step) (made goneRows, err error) {
	made.marked, made.back = NoneMarked(), NoneMarked()
	if s.Gone.Markings() == nil {
		made.keys, err = s.GoneNames(MostNames)
		return made, err
	}
	if made.marked, err = MarkedBy(s.Gone.Marked); err == nil {
		made.back, err = MarkedBy(s.Gone.Returned)
	}
	return made, err
}

// Show adds a line that is set aside, unless there are many already.
func (r *Report) Show(l setaside.Line) {
	if len(r.SetAside) < mostSetAside {
		r.SetAside = append(r.SetAside, SetAside{File: l.Place.File, Line: l.Place.Line, Place: l.Place.Short(),
			Reasons: l.Reasons})
	}
}

// LinesSetAside is the number of lines that were set aside.
func (r *Report) LinesSetAside() (n int64) {
	for _, in := range r.Inputs {
		n += in.SetAside
	}
	return n
}

// LinesRead is the number of lines that were read.
func (r *Report) LinesRead() (n int64) {
	for _, in := range r.Inputs {
		n += in.Lines
	}
	return n
}

// SameTallies reports whether two reports say that the same would be done.
func (r *Report) SameTallies(o *Report) bool {
	return slices.EqualFunc(r.Steps, o.Steps, func(a, b Step) bool {
		return a.Tally == b.Tally &&
			a.Removed == b.Removed && a.Marked.Rows == b.Marked.Rows && a.MarkedBack.Rows == b.MarkedBack.Rows
	}) &&
		slices.EqualFunc(r.Lookups, o.Lookups, func(a, b Lookup) bool { return a.Added == b.Added })
}
