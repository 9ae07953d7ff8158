package intake

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"ladle/internal/core/fault"
	"ladle/internal/core/plan"
	"ladle/internal/core/setaside"
)

// correct puts corrected lines into the inputs that they are from.
func (in *Intake) correct() error {
	for _, said := range in.options.Corrected {
		feed, path, err := in.correctedInput(said)
		if err != nil {
			return err
		}
		if _, twice := in.Tables[feed].(*setaside.Corrected); twice {
			return fault.New(fault.Wrong, fmt.Sprintf("corrected lines for input %s were given twice, the second "+
				"time as %s", in.Plan.Feeds[feed].Name(), said), "give one file for each input")
		}
		sum, err := in.Tables[feed].Sum()
		if err != nil {
			return err
		}
		corrected, err := setaside.Correct(in.Tables[feed], path, sum)
		if err != nil {
			return err
		}
		in.Tables[feed] = corrected
	}
	return nil
}

// correctedInput finds the input of a file of corrected lines: the one that is said, or that the name of the file
// starts with, or the only one.
func (in *Intake) correctedInput(said string) (feed int, path string, err error) {
	named := func(name string) int {
		return slices.IndexFunc(in.Plan.Feeds, func(f *plan.Feed) bool { return f.Name() == name })
	}
	if name, file, ok := strings.Cut(said, "="); ok && named(name) >= 0 {
		return named(name), file, nil
	}
	name, _, _ := strings.Cut(filepath.Base(said), ".set-aside")
	switch feed := named(name); {
	case feed >= 0:
		return feed, said, nil
	case len(in.Plan.Feeds) == 1:
		return 0, said, nil
	}
	var names []string
	for _, f := range in.Plan.Feeds {
		names = append(names, f.Name())
	}
	return 0, "", fault.New(fault.Wrong, fmt.Sprintf("it is not clear which input the corrected lines in %s belong to",
		said),
		fmt.Sprintf("put the name of the input before the file, as in %s=%s; the inputs are: %s", names[0], said,
			strings.Join(names, ", ")))
}

// Used lists the files of corrected lines of inputs none of whose lines are set aside, given their numbers by feed:
// they have done their work.
func (in *Intake) Used(setAside func(feed int) int64) (paths []string) {
	for i, t := range in.Tables {
		if c, ok := t.(*setaside.Corrected); ok && setAside(i) == 0 {
			paths = append(paths, c.Path())
		}
	}
	return paths
}
