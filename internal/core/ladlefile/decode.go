package ladlefile

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"ladle/internal/core/fault"
)

// Named tells whether a path is named as ladle files are: NAME.ladle.yaml.
func Named(path string) bool {
	low := strings.ToLower(path)
	return strings.HasSuffix(low, ".ladle.yaml") || strings.HasSuffix(low, ".ladle.yml")
}

// Read decodes the ladle file at path. All that is wrong with it comes in one error, a *fault.Fault.
func Read(path string) (*File, error) {
	source, err := os.ReadFile(path)
	if err != nil {
		return nil, fault.Because(fault.Failed, err, fault.Problem{File: path, What: "the ladle file can't be read: " +
			cause(err), Do: "check the path"})
	}
	return Decode(path, source)
}

func cause(err error) string {
	if errors.Is(err, os.ErrNotExist) {
		return "there is no such file"
	}
	var p *os.PathError
	if errors.As(err, &p) {
		return p.Err.Error()
	}
	return err.Error()
}

// Decode decodes source, the contents of the ladle file at path.
func Decode(path string, source []byte) (*File, error) {
	d := &decoder{path: path}
	sum := sha256.Sum256(source)
	f := &File{Path: path, Sum: hex.EncodeToString(sum[:])}
	parsed, err := parser.ParseBytes(source, 0)
	switch {
	case err != nil:
		d.syntax(err)
	case len(parsed.Docs) == 0 || parsed.Docs[0].Body == nil:
		d.problem(Place{}, "the ladle file is empty", "it needs ladle:, inputs: and tables:")
	default:
		d.file(f, parsed.Docs[0].Body)
	}
	if d.problems != nil {
		return nil, fault.At(fault.Wrong, d.problems...)
	}
	return f, nil
}

// decoder collects the problems of one ladle file.
type decoder struct {
	path     string
	problems []fault.Problem
}

func (d *decoder) problem(at Place, what, do string) {
	d.problems = append(d.problems, fault.Problem{File: d.path, Line: at.Line, Column: at.Column, What: what, Do: do})
}

func (d *decoder) syntax(err error) {
	var syntax yaml.Error
	if errors.As(err, &syntax) && syntax.GetToken() != nil {
		at := syntax.GetToken().Position
		d.problem(Place{at.Line, at.Column}, "this is not YAML: "+syntax.GetMessage(), "correct the line or the one before")
		return
	}
	d.problem(Place{}, "this is not YAML: "+err.Error(), "")
}

func placeOf(n ast.Node) Place {
	if m, ok := n.(*ast.MappingNode); ok && len(m.Values) > 0 && !m.IsFlowStyle {
		return placeOf(m.Values[0].Key)
	}
	at := n.GetToken().Position
	return Place{at.Line, at.Column}
}

// entry is a key of a mapping and what stands behind it.
type entry struct {
	key   Text
	value ast.Node
}

// mapping gives the entries of n, which stands for what.
func (d *decoder) mapping(n ast.Node, what string) []entry {
	if n == nil {
		return nil
	}
	var values []*ast.MappingValueNode
	switch n := n.(type) {
	case *ast.MappingNode:
		values = n.Values
	case *ast.MappingValueNode:
		values = []*ast.MappingValueNode{n}
	default:
		d.problem(placeOf(n), what+" must be a mapping (key: value)", "")
		return nil
	}
	entries := make([]entry, len(values))
	for i, v := range values {
		entries[i] = entry{d.scalar(v.Key, "a key"), v.Value}
	}
	return entries
}

// fields hands the entries of the mapping n to the decoders of their keys.
func (d *decoder) fields(n ast.Node, what string, decoders map[string]func(ast.Node)) {
	for _, e := range d.mapping(n, what) {
		decode, known := decoders[e.key.Value]
		if !known {
			keys := make([]string, 0, len(decoders))
			for k := range decoders {
				keys = append(keys, k)
			}
			slices.Sort(keys)
			do := fault.DidYouMean(e.key.Value, keys)
			if strings.ContainsAny(e.key.Value, `()[]"'`) { // the rest of a formula
				do = "put quotes around a formula or value that has a comma in it"
			}
			d.problem(e.key.Place, fmt.Sprintf("%s has no key %q", what, e.key.Value), do)
			continue
		}
		if _, null := e.value.(*ast.NullNode); null {
			d.problem(e.key.Place, fmt.Sprintf("nothing is said behind %s:", e.key.Value), "say it, or take the key out")
			continue
		}
		decode(e.value)
	}
}

// scalar gives n as it is written.
func (d *decoder) scalar(n ast.Node, what string) Text {
	at := placeOf(n)
	switch n := n.(type) {
	case *ast.StringNode:
		return Text{n.Value, at}
	case *ast.LiteralNode:
		return Text{n.Value.Value, at}
	case *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode, *ast.InfinityNode, *ast.NanNode, *ast.NullNode:
		return Text{n.GetToken().Value, at}
	case *ast.MergeKeyNode:
		return Text{"<<", at}
	}
	do := "anchors, tags and nested values are not used here"
	switch n.(type) {
	case *ast.MappingNode, *ast.MappingValueNode:
		do = `put quotes around a value that has a colon in it: "HH:mm"`
	}
	d.problem(at, what+" must be a single value", do)
	return Text{Place: at}
}

func (d *decoder) into(t *Text, what string) func(ast.Node) {
	return func(n ast.Node) { *t = d.scalar(n, what) }
}

// choice decodes one of the given words.
func choice[T ~string](d *decoder, to *T, what string, words ...T) func(ast.Node) {
	return func(n ast.Node) {
		t := d.scalar(n, what)
		if slices.Contains(words, T(t.Value)) {
			*to = T(t.Value)
			return
		}
		names := make([]string, len(words))
		for i, w := range words {
			names[i] = string(w)
		}
		d.problem(t.Place, fmt.Sprintf("%s can't be %q", what, t.Value), "write one of: "+strings.Join(names, ", "))
	}
}

func (d *decoder) file(f *File, body ast.Node) {
	var version Text
	d.fields(body, "a ladle file", map[string]func(ast.Node){
		"ladle":           d.into(&version, "ladle:"),
		"inputs":          func(n ast.Node) { d.inputs(f, n) },
		"tables":          func(n ast.Node) { d.tables(f, n) },
		"checks":          func(n ast.Node) { d.checks(f, n) },
		"set_aside_limit": d.limit(&f.Limit, "set_aside_limit:", "lines"),
	})
	if d.problems != nil {
		return
	}
	switch {
	case !version.Given():
		d.problem(Place{1, 1}, "the version of the format is missing", "start the file with: ladle: "+Version)
	case version.Value != Version:
		d.problem(version.Place, "this program reads version "+Version+" of the format, not "+version.Value, "")
	}
	if len(f.Inputs) == 0 {
		d.problem(Place{1, 1}, "no input is named", "add inputs: with a name and a file: for each")
	}
	if len(f.Blocks) == 0 {
		d.problem(Place{1, 1}, "no table is named", "add tables: with a block for each table to fill")
	}
}

// limit decodes a number of what, a share of them, or any.
func (d *decoder) limit(l *Limit, key, what string) func(ast.Node) {
	return func(n ast.Node) {
		t := d.scalar(n, key)
		number, share := strings.CutSuffix(t.Value, "%")
		value, err := strconv.ParseFloat(number, 64)
		switch {
		case t.Value == "any":
			l.Any = true
		case err == nil && share && value > 0 && value <= 100:
			l.Share = value / 100
		case err == nil && !share && value >= 0 && value == float64(int64(value)):
			l.Count = int64(value)
		default:
			d.problem(t.Place, fmt.Sprintf("%s can't be %q", key, t.Value), "write a number of "+what+", a share like 2%, or any")
		}
	}
}

func (d *decoder) tables(f *File, n ast.Node) {
	for _, e := range d.mapping(n, "tables:") {
		b := &Block{Name: e.key, There: KeepThere, NotThere: AddNotThere, Blank: BlankKeeps, BlankKey: RefuseBlankKey, Repeats: RefuseRepeats}
		d.fields(e.value, "a block", map[string]func(ast.Node){
			"from":                d.into(&b.From, "from:"),
			"into":                d.into(&b.Into, "into:"),
			"key":                 func(n ast.Node) { d.key(b, n) },
			"already_there":       choice(d, &b.There, "already_there:", KeepThere, UpdateThere, RefuseThere),
			"not_there":           choice(d, &b.NotThere, "not_there:", AddNotThere, LeaveNotThere, RefuseNotThere),
			"blank":               choice(d, &b.Blank, "blank:", BlankKeeps, BlankClears),
			"blank_key":           choice(d, &b.BlankKey, "blank_key:", RefuseBlankKey, MatchBlankKey),
			"repeats":             choice(d, &b.Repeats, "repeats:", RefuseRepeats, FirstRepeat, LastRepeat),
			"gone_from_file":      func(n ast.Node) { b.Gone = d.gone(n) },
			"columns":             func(n ast.Node) { b.Columns = d.columns(n) },
			"only":                d.into(&b.Only, "only:"),
			"changed_by_database": func(n ast.Node) { b.Changed = d.list(n, "changed_by_database:") },
		})
		if !b.From.Given() {
			d.problem(e.key.Place, fmt.Sprintf("block %s has no from:", e.key.Value), "add from: with the name of an input")
		}
		if len(b.Columns) == 0 {
			d.problem(e.key.Place, fmt.Sprintf("block %s feeds no column", e.key.Value), "add columns: with a source for each")
		}
		f.Blocks = append(f.Blocks, b)
	}
}

// gone decodes what is done with rows that the input no longer has.
func (d *decoder) gone(n ast.Node) *Gone {
	g := &Gone{Place: placeOf(n)}
	capped := false
	d.fields(n, "gone_from_file:", map[string]func(ast.Node){
		"remove": func(n ast.Node) { capped = true; d.limit(&g.Most, "remove:", "rows")(n) },
		"among":  d.into(&g.Among, "among:"),
	})
	if !capped || g.Most.Any {
		d.problem(g.Place, "gone_from_file: doesn't say how many rows may be removed at most",
			"add remove: with a number of rows, or a share like 5%")
	}
	return g
}

func (d *decoder) key(b *Block, n ast.Node) {
	b.KeyAt = placeOf(n)
	if list, ok := n.(*ast.SequenceNode); ok {
		for _, v := range list.Values {
			b.Key = append(b.Key, d.scalar(v, "a column of key:"))
		}
		return
	}
	t := d.scalar(n, "key:")
	if t.Value == "none" {
		b.Keyless = true
		return
	}
	b.Key = []Text{t}
}

func (d *decoder) columns(n ast.Node) []Column {
	var columns []Column
	for _, e := range d.mapping(n, "columns:") {
		columns = append(columns, Column{Name: e.key, Source: d.source(e)})
	}
	return columns
}

func (d *decoder) source(e entry) Source {
	s := Source{Place: placeOf(e.value)}
	switch e.value.(type) {
	case *ast.MappingNode, *ast.MappingValueNode:
	default:
		s.From = d.scalar(e.value, "a source")
		return s
	}
	find := Find{NotFound: RefuseNotFound, Several: RefuseSeveral}
	said := false // one of the keys that go with a find
	saying := func(decode func(ast.Node)) func(ast.Node) {
		return func(n ast.Node) { said = true; decode(n) }
	}
	d.fields(e.value, "a source", map[string]func(ast.Node){
		"from":      d.into(&s.From, "from:"),
		"constant":  d.into(&s.Constant, "constant:"),
		"find":      func(n ast.Node) { s.Find = &find; d.find(&find, n) },
		"not_found": saying(choice(d, &find.NotFound, "not_found:", RefuseNotFound, AddNotFound, BlankNotFound)),
		"several":   saying(choice(d, &find.Several, "several:", RefuseSeveral, BlankSeveral)),
		"similar":   saying(choice(d, &find.Similar, "similar:", AcceptSimilar, RefuseSimilar)),
	})
	d.judgeSource(e.key, &s, said)
	return s
}

// judgeSource holds the keys of a source against each other, and gives a find by one column its source.
func (d *decoder) judgeSource(name Text, s *Source, said bool) {
	switch {
	case s.Constant.Given() && (s.From.Given() || s.Find != nil):
		d.problem(name.Place, name.Value+" has a constant and another source", "keep one of them")
	case said && s.Find == nil:
		d.problem(name.Place, name.Value+" has not_found:, several: or similar: without find:", "add find:, or take it out")
	case s.Find == nil && !s.From.Given() && !s.Constant.Given():
		d.problem(name.Place, name.Value+" has no source", "give the name of a column of the input, or from:, constant: or find:")
	case s.Find == nil:
	case s.Find.Similar != "" && s.Find.NotFound != AddNotFound:
		d.problem(name.Place, name.Value+" has similar:, but adds no names", "add not_found: add, or take it out")
	case len(s.Find.By) == 1 && !s.Find.By[0].Source.Place.valid():
		if !s.From.Given() {
			d.problem(name.Place, name.Value+" finds a row, but by nothing", "add from: with a column of the input")
		}
		s.Find.By[0].Source = Source{Place: s.Place, From: s.From}
	case s.From.Given():
		d.problem(s.From.Place, "from: stands beside by:", "the sources of this find stand in by:")
	}
}

func (p Place) valid() bool { return p.Line > 0 }

// find decodes TABLE.COLUMN, or a mapping with table: and by:, or with table: or block: and by_old_id:.
func (d *decoder) find(f *Find, n ast.Node) {
	f.Place = placeOf(n)
	switch n.(type) {
	case *ast.MappingNode, *ast.MappingValueNode:
		d.fields(n, "a find", map[string]func(ast.Node){
			"table":     d.into(&f.Table, "table:"),
			"block":     d.into(&f.Block, "block:"),
			"by":        func(n ast.Node) { f.By = d.columns(n) },
			"by_old_id": func(n ast.Node) { d.oldID(f, n) },
		})
		switch {
		case f.Old.Given() && len(f.By) > 0:
			d.problem(f.Place, "a find has by: and by_old_id:", "keep one of them")
		case f.Old.Given() && f.Table.Given() == f.Block.Given():
			d.problem(f.Place, "a find by an old id needs either table: or block:", "name the table, or, where several blocks fill it, the block that made the row")
		case !f.Old.Given() && (!f.Table.Given() || len(f.By) == 0 || f.Block.Given()):
			d.problem(f.Place, "a find needs table: and by:", "or write find: TABLE.COLUMN")
		}
		return
	}
	t := d.scalar(n, "find:")
	dot := strings.LastIndexByte(t.Value, '.')
	if dot <= 0 || dot == len(t.Value)-1 {
		d.problem(t.Place, fmt.Sprintf("find: can't be %q", t.Value), "write it as TABLE.COLUMN, for example berth.code")
		return
	}
	f.Table = Text{t.Value[:dot], t.Place}
	f.By = []Column{{Name: Text{t.Value[dot+1:], t.Place}}}
}

// oldID decodes {COLUMN OF THE OTHER INPUT: COLUMN OF THIS ONE}.
func (d *decoder) oldID(f *Find, n ast.Node) {
	all := d.mapping(n, "by_old_id:")
	if len(all) != 1 {
		d.problem(placeOf(n), "by_old_id: needs one pair of columns", "write by_old_id: {COLUMN OF THE OTHER INPUT: COLUMN OF THIS INPUT}")
		return
	}
	f.Old, f.Is = all[0].key, d.scalar(all[0].value, "by_old_id:")
}
