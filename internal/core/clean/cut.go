package clean

import (
	"iter"

	"ladle/internal/core/spool"
	"ladle/internal/core/value"
)

// cutRows is the number of lines of a batch of Rows that were cut.
const cutRows = 4096

// Cut returns some of the lines, which ascend, as Rows of their own, in which they are numbered from 0, with its files in
// dir. It keeps no problems: cells that could not be read stay so, and nobody is told why.
func (r *Rows) Cut(lines iter.Seq[int64], dir string) (*Rows, error) {
	part := &Rows{spool: spool.New(dir, r.spool.Types()), Problems: spool.NewProblems(dir)}
	all := make([]int, len(r.spool.Types()))
	for i := range all {
		all[i] = i
	}
	var from value.Batch
	to := value.NewBatch(r.spool.Types())
	at := -1
	for line := range lines {
		if i := r.Holding(line); i != at {
			if err := r.spool.Read(i, all, &from); err != nil {
				return part, err
			}
			at = i
		}
		row := int(line - r.spool.First(at))
		for c := range to.Columns {
			to.Columns[c].AppendFrom(&from.Columns[c], row)
		}
		if to.Len() == cutRows {
			if err := part.spool.Append(to); err != nil {
				return part, err
			}
			to.Reset()
		}
	}
	if to.Len() == 0 {
		return part, nil
	}
	return part, part.spool.Append(to)
}
