package load

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"ladle/internal/core/aside"
	"ladle/internal/core/fault"
	"ladle/internal/core/ladlefile"
)

// mend puts mended lines into the inputs that they are from.
func (r *run) mend() error {
	for _, said := range r.Mended {
		feed, path, err := r.mendedInput(said)
		if err != nil {
			return err
		}
		if _, twice := r.sources[feed].(*aside.Mended); twice {
			return fault.New(fault.Wrong, fmt.Sprintf("--mended %s is the second for input %s", said, r.plan.Feeds[feed].Input.Name.Value), "give one file for each input")
		}
		sum, err := r.sources[feed].Sum()
		if err != nil {
			return err
		}
		mended, err := aside.Mend(r.sources[feed], path, sum)
		if err != nil {
			return err
		}
		r.sources[feed] = mended
	}
	return nil
}

// mendedInput finds the input of a file of mended lines: the one that is said, or that the name of the file starts with,
// or the only one.
func (r *run) mendedInput(said string) (feed int, path string, err error) {
	named := func(name string) int {
		return slices.IndexFunc(r.plan.Feeds, func(f *ladlefile.Feed) bool { return f.Input.Name.Value == name })
	}
	if name, file, ok := strings.Cut(said, "="); ok && named(name) >= 0 {
		return named(name), file, nil
	}
	name, _, _ := strings.Cut(filepath.Base(said), ".set-aside")
	switch feed := named(name); {
	case feed >= 0:
		return feed, said, nil
	case len(r.plan.Feeds) == 1:
		return 0, said, nil
	}
	var names []string
	for _, f := range r.plan.Feeds {
		names = append(names, f.Input.Name.Value)
	}
	return 0, "", fault.New(fault.Wrong, fmt.Sprintf("it isn't clear from which input the lines of --mended %s are", said),
		fmt.Sprintf("write --mended INPUT=%s, with one of: %s", said, strings.Join(names, ", ")))
}

// noteMended says which files of mended lines have done their work.
func (r *run) noteMended() {
	for i, s := range r.sources {
		if m, ok := s.(*aside.Mended); ok && r.report.Inputs[i].SetAside == 0 {
			r.report.Notes = append(r.report.Notes, fmt.Sprintf("all lines of %s are loaded; it isn't needed any more", m.Path()))
		}
	}
}
