package intake

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"ladle/internal/core/fault"
	"ladle/internal/core/plan"
	"ladle/internal/core/setaside"
	"ladle/internal/core/source"
)

// correct puts corrected lines into the inputs that they are from: those that are kept beside the ladle file, once those
// that are given were taken in. Only then are the inputs cut to their first lines, where no more are read.
func (in *Intake) correct(ctx context.Context) error {
	given, err := in.given()
	if err != nil {
		return err
	}
	for i, f := range in.Plan.Feeds {
		kept, err := setaside.ReadKept(setaside.KeptPath(in.File.Kept, f.Name()), in.Tables[i])
		if err != nil {
			return err
		}
		in.Kept = append(in.Kept, kept)
		if err := in.takeIn(ctx, i, given[i]); err != nil {
			return err
		}
		if kept.Any() {
			in.Tables[i] = kept.In(in.Tables[i])
		}
		if n := in.options.First; n > 0 {
			in.Tables[i] = source.First(in.Tables[i], n)
		}
	}
	return nil
}

// given are the files of corrected lines that are given, by the feeds that they are for.
func (in *Intake) given() (map[int][]string, error) {
	given := map[int][]string{}
	for _, said := range in.options.Corrected {
		feed, path, err := in.correctedInput(said)
		if err != nil {
			return nil, err
		}
		given[feed] = append(given[feed], path)
	}
	return given, nil
}

// takeIn takes corrected lines of a feed in, and keeps them.
func (in *Intake) takeIn(ctx context.Context, feed int, paths []string) error {
	if paths == nil {
		return nil
	}
	kept := in.Kept[feed]
	sum, err := in.Tables[feed].Sum()
	if err != nil {
		return err
	}
	for _, path := range paths {
		again, err := kept.TakeIn(ctx, in.Tables[feed], path, sum)
		if err != nil {
			return err
		}
		in.Tables[feed] = again
	}
	return kept.Write(in.Tables[feed])
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
