package ladlefile

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"ladle/internal/core/fault"
)

// Together makes one ladle file of several, for one load: the inputs, blocks and claims of all. They must stand in one
// folder, no two may call an input the same, and what they say of the whole load must be the same. Blocks of the same
// name are told apart by the names of their files. Parts are the files, each of which can be looked at by itself.
func Together(files []*File) (*File, error) {
	all := *files[0]
	all.Parts = files
	sum := sha256.New()
	for _, f := range files {
		fmt.Fprintln(sum, f.Sum)
	}
	all.Sum = hex.EncodeToString(sum.Sum(nil))
	all.Inputs, all.Blocks, all.Claims = nil, nil, nil
	for i, f := range files {
		if err := all.fits(files[:i], f); err != nil {
			return nil, err
		}
		all.Inputs = append(all.Inputs, f.Inputs...)
		all.Claims = append(all.Claims, f.Claims...)
		for _, b := range f.Blocks {
			if slices.ContainsFunc(all.Blocks, func(o *Block) bool { return o.Name.Value == b.Name.Value }) {
				renamed := *b
				if !b.Into.Given() {
					renamed.Into = b.Name
				}
				renamed.written = b.Name.Value
				renamed.Name.Value = fmt.Sprintf("%s (%s)", b.Name.Value, short(f.Path))
				b = &renamed
			}
			all.Blocks = append(all.Blocks, b)
		}
	}
	return &all, nil
}

// Written is the name of the block as it stands in its ladle file.
func (b *Block) Written() string { return cmp.Or(b.written, b.Name.Value) }

// short is the name of a ladle file without what all their names end with.
func short(path string) string {
	name := filepath.Base(path)
	name, _, _ = strings.Cut(name, ".ladle.")
	return name
}

// fits is an error where f can't be loaded together with those before it.
func (all *File) fits(before []*File, f *File) error {
	wrong := func(what, do string) error {
		return fault.At(fault.Wrong, fault.Problem{File: f.Path, What: what, Do: do})
	}
	switch first := all.Parts[0]; {
	case filepath.Dir(f.Path) != filepath.Dir(first.Path) || f.Kept != first.Kept:
		return wrong("ladle files that are loaded together must be in one folder, and "+first.Path+" is in another",
			"put them into one folder: the set-aside and corrected lines of all are kept there")
	case f.Limit != first.Limit:
		return wrong(fmt.Sprintf("set_aside_limit: is %s here, and %s in %s", f.Limit, first.Limit, first.Path),
			"make it the same: it is for the whole load")
	case f.SetAsideAs != first.SetAsideAs:
		return wrong("set_aside_as: is not the same as in "+first.Path, "make it the same")
	}
	for _, o := range before {
		if filepath.Clean(o.Path) == filepath.Clean(f.Path) {
			return wrong("this ladle file is given twice", "give it once")
		}
		for _, in := range f.Inputs {
			if slices.ContainsFunc(o.Inputs, func(x *Input) bool { return x.Name.Value == in.Name.Value }) {
				return fault.At(fault.Wrong, fault.Problem{File: f.Path, Line: in.Name.Line, Column: in.Name.Column,
					What: fmt.Sprintf("%s has an input %s too", o.Path, in.Name.Value),
					Do:   "call one of them something else: set-aside files are named after inputs"})
			}
		}
	}
	return nil
}

// Title names the ladle file, or all that it is made of, by their paths.
func (f *File) Title() string { return f.join(func(path string) string { return path }) }

// Base names the ladle file, or all that it is made of, without folders.
func (f *File) Base() string { return f.join(filepath.Base) }

func (f *File) join(word func(string) string) string {
	if f.Parts == nil {
		return word(f.Path)
	}
	names := make([]string, len(f.Parts))
	for i, p := range f.Parts {
		names[i] = word(p.Path)
	}
	return strings.Join(names, ", ")
}
