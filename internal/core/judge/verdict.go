package judge

// Verdict is what is decided of one line in one step.
type Verdict uint8

const (
	SetAside  Verdict = iota // it can't be loaded as it is
	Added                    // a new row
	Updated                  // a row with its key is there, and changes
	Unchanged                // a row with its key is there, and an update leaves it as it is
	Same                     // a row with its key is there, and has the same values
	Differs                  // a row with its key is there with other values, and stays as it is
	Repeated                 // an equal line stands for its key
	Overruled                // another line, or an earlier block, stands for its key
	LeftOut                  // by a condition, or because its key is not there
)

// Tally is the account of the lines of a step: Read is the sum of all others.
type Tally struct {
	Read      int64 `json:"read"`
	Added     int64 `json:"added"`
	Updated   int64 `json:"updated"`
	Unchanged int64 `json:"unchanged"`
	Same      int64 `json:"same"`
	Differs   int64 `json:"differs"`
	Repeated  int64 `json:"repeated"`
	Overruled int64 `json:"overruled"`
	LeftOut   int64 `json:"left_out"`
	SetAside  int64 `json:"set_aside"`
}

func (t *Tally) of(v Verdict) *int64 {
	return [...]*int64{SetAside: &t.SetAside, Added: &t.Added, Updated: &t.Updated, Unchanged: &t.Unchanged,
		Same: &t.Same, Differs: &t.Differs, Repeated: &t.Repeated, Overruled: &t.Overruled, LeftOut: &t.LeftOut}[v]
}

// Count counts a line.
func (t *Tally) Count(v Verdict) {
	t.Read++
	*t.of(v)++
}

// Plus adds up two tallies.
func (t Tally) Plus(o Tally) Tally {
	for v := SetAside; v <= LeftOut; v++ {
		*t.of(v) += *o.of(v)
	}
	t.Read += o.Read
	return t
}

// Balanced reports whether the tally adds up.
func (t Tally) Balanced() bool {
	sum := int64(0)
	for v := SetAside; v <= LeftOut; v++ {
		sum += *t.of(v)
	}
	return t.Read == sum
}

// NewRow is a row that the load adds, while it has no id: one of those that lookups add, by its number among all of
// these, or one that a step adds, by its number among all that steps add to its table.
type NewRow int64

func newOfLookup(n int) NewRow { return NewRow(int64(n)<<1 | 1) }
func newOfStep(n int64) NewRow { return NewRow(n << 1) }

// Number is the number of the row.
func (r NewRow) Number() int64 { return int64(r >> 1) }

// OfLookup reports whether a lookup adds the row.
func (r NewRow) OfLookup() bool { return r&1 == 1 }
