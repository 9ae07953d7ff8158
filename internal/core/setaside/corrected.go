package setaside

import (
	"bytes"
	"context"
	"fmt"
	"path/filepath"

	"ladle/internal/core/reason"
	"ladle/internal/core/source"
)

// TakeIn takes the lines that a person has corrected in a set-aside file of t at path into those that are kept, once
// all of t was read for them. It returns t once more, to be read. Lines that were left as they were are not kept. sum is
// that of the files of t. Its error is a *fault.Fault, or of the context.
func (k *Kept) TakeIn(ctx context.Context, t source.Table, path, sum string) (source.Table, error) {
	g, err := readGiven(t, path, sum)
	if err != nil {
		return nil, err
	}
	var made []*correction
	t, err = look(ctx, t, newFinder(g), func(f foundLine) error {
		line, err := g.lineFor(f)
		if line == nil || err != nil {
			return err
		}
		if c := k.decide(f.in(t), f, line); c != nil {
			made = append(made, c)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	if err := g.allMet(t); err != nil {
		return nil, err
	}
	if t, err = k.twins(ctx, t, &made); err != nil {
		return nil, err
	}
	k.put(made)
	k.Notes = append(k.Notes, k.takenIn(g, len(made))...)
	return t, nil
}

// takenIn is what to know of a file that was taken in.
func (k *Kept) takenIn(g *given, made int) (notes []string) {
	name := filepath.Base(g.path)
	if left := g.all - int64(len(g.lines)); left > 0 {
		notes = append(notes, fmt.Sprintf("%s: of the %s that were set aside, the file lacks %s; what is there stays as it "+
			"is", name, reason.Plural(g.all, "line"), reason.Count(left)))
	}
	switch {
	case made == 0:
		return append(notes, name+" has no new corrections")
	case !k.Any():
		return append(notes, name+" takes back all corrections: no corrected lines are kept now")
	}
	return append(notes, fmt.Sprintf("the corrected lines of %s are kept in %s now, and used from there", name,
		filepath.Base(k.Path)))
}

// foundLine is a line of the input that a given line may stand for.
type foundLine struct {
	original
	fields  [][]byte
	problem bool
}

// finder looks for lines of an input where they stand, and by the hashes of what they hold.
type finder struct {
	spots    map[spot]bool
	contents map[string]bool
}

func newFinder(g *given) *finder {
	f := &finder{map[spot]bool{}, map[string]bool{}}
	for at := range g.at {
		f.spots[at] = true
	}
	for hash := range g.like {
		f.contents[hash] = true
	}
	return f
}

// look reads all of t for lines, and returns it once more, to be read.
func look(ctx context.Context, t source.Table, f *finder, take func(foundLine) error) (source.Table, error) {
	var origins []source.Origin
	err := source.Each(ctx, t, f.find, func(c *source.Chunk, found []foundLine) error {
		origins = append(origins, c.Origin)
		for _, line := range found {
			if err := take(line); err != nil {
				return err
			}
		}
		return nil
	})
	return source.Replay(t, origins), err
}

func (f *finder) find(chunk *source.Chunk) (found []foundLine) {
	chunk.Seal()
	var r source.Record
	for chunk.Next(&r) {
		if !f.spots[spotOf(&r)] && len(f.contents) == 0 {
			continue
		}
		hash := hashOfRecord(&r)
		if !f.spots[spotOf(&r)] && !f.contents[hash] {
			continue
		}
		line := foundLine{original: original{spotOf(&r), hash}, problem: r.Problem != nil}
		for _, field := range r.Fields {
			line.fields = append(line.fields, bytes.Clone(field))
		}
		found = append(found, line)
	}
	return found
}

// decide is what a person has made of a line; nil where that is what was made of it before.
func (k *Kept) decide(place string, f foundLine, line *givenLine) *correction {
	c := &correction{original: f.original, place: place, dropped: line.dropped, fields: line.fields, problem: line.problem}
	if !c.dropped && f.problem {
		c.asIs = line.problem != nil // it can't be read any better
	} else if !c.dropped {
		c.asIs = hashOf(f.fields) == hashOf(line.fields)
	}
	before, _ := k.index.of(f.original)
	if before == nil && c.asIs || before != nil && before.agrees(c) {
		return nil
	}
	return c
}

// twins adds to what was made of lines that others with the same content stay as they are: one of each content, which is
// enough to tell that it is not clear what becomes of the rest. It returns t once more, to be read.
func (k *Kept) twins(ctx context.Context, t source.Table, made *[]*correction) (source.Table, error) {
	now, f := newIndex(*made), &finder{nil, map[string]bool{}}
	for hash := range now.alike {
		if k.index.alike[hash] == nil {
			f.contents[hash] = true
		}
	}
	if len(f.contents) == 0 {
		return t, nil
	}
	met := map[string]bool{}
	return look(ctx, t, f, func(twin foundLine) error {
		if now.at[twin.original] == nil && !met[twin.hash] {
			met[twin.hash] = true
			*made = append(*made, &correction{original: twin.original, place: twin.in(t), asIs: true,
				fields: twin.fields})
		}
		return nil
	})
}
