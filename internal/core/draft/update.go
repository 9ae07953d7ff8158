package draft

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/schema"
	"ladle/internal/core/source"
)

// Revision is a ladle file held against its files and the database as they are now.
type Revision struct {
	Text    string         `json:"text"` // with the changes; all that a person wrote is kept
	Changes []Change       `json:"changes"`
	LeftOut []UnusedColumn `json:"unused_columns"` // columns of files of which the ladle file says nothing
	Errors  []string       `json:"obstacles"`      // what a person must solve before a load
}

// Change is one that a file or the database asks for.
type Change struct {
	Where string `json:"where"` // an input, or BLOCK.COLUMN
	Says  string `json:"says"`
	Doubt bool   `json:"uncertain"`
}

// updater brings a ladle file up to date.
type updater struct {
	*matcher
	file    *ladlefile.File
	before  []byte // the text as it was
	text    []byte
	said    map[*ladlefile.Input][]string // the lines about an input
	files   []*file                       // of the inputs, in their order
	blocks  []*block
	used    map[*column]bool   // columns of files that the ladle file didn't use and does now
	renamed map[*column]string // columns of files that stand in the place of ones that are gone, with the old name
	made    Revision
}

// Update holds a ladle file, with its text, against files, one for each of its inputs and then more that it doesn't
// know yet, and against the tables of a database. Columns that were renamed get their new names, new ones that fit are
// put in, more files get inputs and blocks; nothing is taken out.
func Update(ctx context.Context, f *ladlefile.File, text []byte, files []File, s *schema.Schema,
	db engine.Reader) (*Revision, error) {
	u := &updater{matcher: &matcher{schema: s, guessed: s.Guess(), values: newCatalogue(ctx, db)}, file: f,
		before: text,
		text:   text, said: map[*ladlefile.Input][]string{}, renamed: map[*column]string{},
		used: map[*column]bool{}}
	for i, one := range files {
		made := prepare(one, u.files)
		if i < len(f.Inputs) {
			made.input = f.Inputs[i].Name.Value
		}
		u.files = append(u.files, made)
	}
	u.expect(u.files)
	for _, b := range f.Blocks {
		if err := u.block(b); err != nil {
			return nil, err
		}
	}
	for i, in := range f.Inputs {
		u.rules(in, u.files[i])
	}
	if err := u.more(ctx, u.files[len(f.Inputs):]); err != nil {
		return nil, err
	}
	u.made.Text = string(u.text)
	return &u.made, u.err
}

// edit puts a setting into the text. What can't be put in by itself is left to the person.
func (u *updater) edit(s ladlefile.Setting, where, says string, doubt bool) {
	text, err := ladlefile.Edit(u.file.Path, u.text, s)
	if err != nil {
		u.made.Errors = append(u.made.Errors, where+": "+says+"; write it by hand: "+s.YAML())
		return
	}
	u.text = text
	u.made.Changes = append(u.made.Changes, Change{where, says, doubt})
}

func (u *updater) open(where, says string) { u.made.Errors = append(u.made.Errors, where+": "+says) }

// block holds a block of the ladle file against its table and the file of its input.
func (u *updater) block(b *ladlefile.Block) error {
	i := slices.IndexFunc(u.file.Inputs, func(in *ladlefile.Input) bool { return in.Name.Value == b.From.Value })
	tables := u.schema.Called(b.Table().Value)
	if i < 0 || len(tables) != 1 || tables[0].Odd != "" {
		u.open(b.Name.Value, fmt.Sprintf("the database has no table %q to fill; %s", b.Table().Value,
			fault.DidYouMean(b.Table().Value, u.schema.Names())))
		return nil
	}
	t, f := tables[0], u.files[i]
	fit := u.fit(f, t)
	if err := u.prove(u.values.ctx, []*block{fit}); err != nil {
		return err
	}
	u.blocks = append(u.blocks, fit)
	fed := map[string]bool{}
	for _, c := range b.Columns {
		fed[u.column(b, t, fit, c)] = true
		u.source(u.file.Inputs[i], b, fit, c)
	}
	u.add(u.file.Inputs[i], b, fit, fed)
	return nil
}

// column is the column of the table that a line of a block feeds, under its new name if it has one; "" where the table
// has none.
func (u *updater) column(b *ladlefile.Block, t *schema.Table, fit *block, c ladlefile.Column) string {
	where := b.Name.Value + "." + c.Name.Value
	for _, of := range t.Columns {
		if source.FoldName(of.Name) == source.FoldName(c.Name.Value) {
			return of.Name
		}
	}
	for _, x := range fit.fed {
		from := cmp.Or(x.column, x.single())
		known := slices.ContainsFunc(b.Columns, func(o ladlefile.Column) bool { return o.Name.Value == x.of.Name })
		if from != nil && !known && source.FoldName(from.Name) == source.FoldName(c.Source.From.Value) {
			u.edit(ladlefile.Setting{At: []string{"tables", b.Name.Value, "columns"}, Key: c.Name.Value,
				Rename: x.of.Name},
				where, fmt.Sprintf("%s has no such column; it goes into %s: %s", t.Name, x.of.Name, x.Why),
				x.Score < sure)
			return x.of.Name
		}
	}
	u.open(where, fmt.Sprintf("%s has no such column; %s", t.Name, fault.DidYouMean(c.Name.Value, t.Names())))
	return ""
}

// source gives a line of a block another source where the file has no column of that name any more.
func (u *updater) source(in *ladlefile.Input, b *ladlefile.Block, fit *block, c ladlefile.Column) {
	from := c.Source.From
	if !from.Given() || u.has(in, fit.file, from.Value) {
		return
	}
	where := b.Name.Value + "." + c.Name.Value
	for _, x := range fit.fed {
		now := cmp.Or(x.column, x.single())
		if x.of.Name != c.Name.Value || now == nil || u.mentioned(in, now) && u.renamed[now] != from.Value {
			continue
		}
		u.renamed[now], u.used[now] = from.Value, true
		u.edit(ladlefile.Setting{At: []string{"tables", b.Name.Value, "columns", c.Name.Value}, Key: "from",
			Value: now.ref},
			where, fmt.Sprintf("%s has no column %q; %q takes its place: %s", in.Name.Value, from.Value, now.Name,
				x.Why), x.Score < sure)
		return
	}
	u.open(where, fmt.Sprintf("%s has no column %q; %s", in.Name.Value, from.Value,
		fault.DidYouMean(from.Value, fit.file.names())))
}

func (f *file) names() (all []string) {
	for _, c := range f.columns {
		all = append(all, c.Name)
	}
	return all
}

// has reports whether an input has a column, of its file or made from those.
func (u *updater) has(in *ladlefile.Input, f *file, name string) bool {
	same := func(o string) bool { return source.FoldName(o) == source.FoldName(name) }
	if source.ByPosition(name) || slices.ContainsFunc(f.names(), same) {
		return true
	}
	for _, m := range in.Made {
		if same(m.Name.Text) {
			return true
		}
	}
	for _, r := range in.Rules {
		if s := r.Rule.Split; s != nil {
			for _, c := range s.Columns {
				if same(c.Text) {
					return true
				}
			}
		}
	}
	return false
}

// mentioned reports whether the ladle file says anything of a column, be it in a comment.
func (u *updater) mentioned(in *ladlefile.Input, c *column) bool {
	if u.said[in] == nil {
		u.said[in] = u.linesOf(in)
	}
	return slices.ContainsFunc(u.said[in], func(line string) bool {
		return hasWords(line, source.FoldName(c.Name)) || hasWords(line, source.FoldName(c.ref))
	})
}

// linesOf are the lines of the ladle file about an input: its own, and those of blocks that it feeds.
func (u *updater) linesOf(in *ladlefile.Input) (all []string) {
	type section struct {
		line int
		of   bool
	}
	var sections []section
	for _, o := range u.file.Inputs {
		sections = append(sections, section{o.Name.Line, o == in})
	}
	for _, b := range u.file.Blocks {
		sections = append(sections, section{b.Name.Line, b.From.Value == in.Name.Value})
	}
	slices.SortFunc(sections, func(a, b section) int { return cmp.Compare(a.line, b.line) })
	of := false
	for i, line := range strings.Split(string(u.before), "\n") {
		for len(sections) > 0 && sections[0].line <= i+1 {
			of, sections = sections[0].of, sections[1:]
		}
		if of || strings.Contains(line, "#") && strings.Contains(line, in.Name.Value) {
			all = append(all, source.FoldName(line))
		}
	}
	return all
}

// hasWords reports whether a text has words that no letter or digit touches.
func hasWords(text, words string) bool {
	within := func(r rune) bool { return unicode.IsLetter(r) || unicode.IsDigit(r) }
	for from := 0; words != ""; {
		at := strings.Index(text[from:], words)
		if at < 0 {
			return false
		}
		at += from
		before, _ := utf8.DecodeLastRuneInString(text[:at])
		behind, _ := utf8.DecodeRuneInString(text[at+len(words):])
		if !within(before) && !within(behind) {
			return true
		}
		from = at + len(words)
	}
	return false
}

// add puts in what new columns of the file feed, and says which required columns have no source.
func (u *updater) add(in *ladlefile.Input, b *ladlefile.Block, fit *block, fed map[string]bool) {
	for _, x := range fit.fed {
		from := cmp.Or(x.column, x.single())
		if fed[x.of.Name] || from == nil || u.renamed[from] != "" || u.mentioned(in, from) {
			continue
		}
		w := &writer{matcher: u.matcher, files: u.files, blocks: u.blocks}
		w.column(fit, b.Name.Value, x)
		m := w.made.Matches[0]
		fed[x.of.Name], u.used[from] = true, true
		u.edit(ladlefile.Setting{At: []string{"tables", b.Name.Value, "columns"}, Value: dedent(w.lines)},
			b.Name.Value+"."+x.of.Name, fmt.Sprintf("%q is new in %s: %s", from.Name, in.Name.Value, m.Why), m.Doubt)
		u.rule(in, fit, from)
	}
	var names []string
	for name := range fed {
		names = append(names, name)
	}
	for _, missing := range fit.table.Missing(names) {
		u.open(b.Name.Value, fmt.Sprintf("%s is required, and has no source", missing))
	}
}

// rule puts in how the cells of a new column are read, where that must be said.
func (u *updater) rule(in *ladlefile.Input, fit *block, from *column) {
	one, of := *fit.file, *fit
	one.columns, of.file = []*column{from}, &one
	w := &writer{matcher: u.matcher, files: u.files, blocks: []*block{&of}}
	if w.rules(&one); len(w.lines) < 2 {
		return
	}
	u.edit(ladlefile.Setting{At: []string{"inputs", in.Name.Value, "columns"}, Value: dedent(w.lines[1:])},
		in.Name.Value, fmt.Sprintf("a rule for %q", from.Name), w.made.Doubts != nil)
}

// dedent takes the indent of the first line off all.
func dedent(lines []string) ladlefile.Lines {
	deep := len(lines[0]) - len(strings.TrimLeft(lines[0], " "))
	made := ladlefile.Lines{}
	for _, l := range lines {
		made = append(made, l[min(deep, len(l)):])
	}
	return made
}

// rules gives rules the new names of their columns, and says which columns of the file are new and not used.
func (u *updater) rules(in *ladlefile.Input, f *file) {
	for _, r := range in.Rules {
		if u.has(in, f, r.Name.Text) {
			continue
		}
		now := slices.IndexFunc(f.columns, func(c *column) bool {
			return source.FoldName(u.renamed[c]) == source.FoldName(r.Name.Text) && u.renamed[c] != ""
		})
		if now < 0 {
			u.open(in.Name.Value, fmt.Sprintf("there is a rule for %q, and no such column; %s", r.Name.Text,
				fault.DidYouMean(r.Name.Text, f.names())))
			continue
		}
		u.edit(ladlefile.Setting{At: []string{"inputs", in.Name.Value, "columns"}, Key: r.Name.Text,
			Rename: f.columns[now].ref}, in.Name.Value, fmt.Sprintf("the rule of %q is that of %q", r.Name.Text,
			f.columns[now].Name), false)
	}
	for _, c := range f.columns {
		if !u.mentioned(in, c) && !u.used[c] {
			u.made.LeftOut = append(u.made.LeftOut, UnusedColumn{f.input, c.Name})
		}
	}
}

// more puts in inputs and blocks for files that the ladle file doesn't know.
func (u *updater) more(ctx context.Context, files []*file) error {
	if len(files) == 0 {
		return nil
	}
	blocks := u.matcher.blocks(files)
	if err := u.prove(ctx, blocks); err != nil {
		return err
	}
	w := &writer{matcher: u.matcher, files: files, blocks: append(slices.Clone(u.blocks), blocks...)}
	for _, f := range files {
		w.input(f)
	}
	u.edit(ladlefile.Setting{At: []string{"inputs"}, Value: dedent(w.lines)}, "inputs",
		fmt.Sprintf("%d more", len(files)), w.made.Doubts != nil)
	w.lines = nil
	for _, b := range blocks {
		w.block(b)
	}
	for _, f := range files {
		w.unused(f)
	}
	if len(blocks) > 0 {
		u.edit(ladlefile.Setting{At: []string{"tables"}, Value: dedent(w.lines)}, "tables",
			fmt.Sprintf("%d more", len(blocks)), w.made.Doubts != nil)
	}
	u.made.Errors = append(u.made.Errors, w.made.Errors...)
	u.made.LeftOut = append(u.made.LeftOut, w.made.LeftOut...)
	return nil
}
