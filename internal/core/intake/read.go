package intake

import (
	"context"
	"fmt"

	"ladle/internal/core/clean"
	"ladle/internal/core/source"
)

// Read cleans all inputs into spools, and adds up their totals. progress, when not nil, hears of the bytes of an input
// that are done.
func (in *Intake) Read(ctx context.Context, progress func(input string, done, of int64)) error {
	for i, f := range in.Plan.Feeds {
		told := func(done int64) {
			if progress != nil {
				progress(f.Name(), done, in.Tables[i].Size())
			}
		}
		rows, err := clean.Read(ctx, in.Tables[i], f.Recipe, f.Columns, in.dir, told)
		if err != nil {
			return source.OfInput(err, f.Name())
		}
		in.Rows = append(in.Rows, rows)
		in.Notes = append(in.Notes, in.Kept[i].Said(in.options.First > 0)...)
		in.Notes = append(in.Notes, readingNotes(in.Tables[i], f.Named())...)
		for _, s := range rows.LostDigits {
			in.Notes = append(in.Notes,
				fmt.Sprintf("%s: %s has cells such as %q, a number that a spreadsheet wrote in few digits; "+
					"the others are lost in this file", f.Name(), f.Recipe.Name(s.Column), s.Cell))
		}
		if n := len(rows.Headers); n > 0 {
			at := source.PlaceOf(in.Tables[i], rows.Headers[0])
			in.Notes = append(in.Notes,
				fmt.Sprintf("%s repeats the header, and is read like other lines; only: with a condition that such "+
					"lines don't meet leaves them out", at.Short()))
		}
		in.Notes = append(in.Notes, in.second(i)...)
		ending, err := in.ending(i)
		if err != nil {
			return err
		}
		in.Notes = append(in.Notes, ending...)
	}
	in.Notes = append(in.Notes, in.Plan.Unfollowed()...)
	return in.addUp()
}
