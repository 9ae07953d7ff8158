package ladlefile

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"

	"ladle/internal/core/fault"
)

// Named reports whether a path is named as ladle files are: NAME.ladle.yaml.
func Named(path string) bool {
	low := strings.ToLower(path)
	return strings.HasSuffix(low, ".ladle.yaml") || strings.HasSuffix(low, ".ladle.yml")
}

// Read decodes the ladle file at path. All that is wrong with it comes in one error, a *fault.Fault.
func Read(path string) (*File, error) {
	source, err := readSmall(path)
	if err != nil {
		return nil, fault.Because(fault.Failed, err, fault.Problem{File: path, What: "the ladle file can't be read: " +
			fault.OfSystem(err), Do: "check the path"})
	}
	return Decode(path, source)
}

// Bounds of ladle files, far beyond any that a person would write.
const (
	mostBytes = 4 << 20
	mostDepth = 100
)

// readSmall reads a file, but not much more than a ladle file may have.
func readSmall(path string) ([]byte, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(io.LimitReader(f, mostBytes+1))
}

// unreasonable is a problem of a source that is too large, or nested too deep, to be taken apart in reasonable time.
func unreasonable(source []byte) *fault.Problem {
	if len(source) > mostBytes {
		return &fault.Problem{What: fmt.Sprintf("a ladle file has at most %d MB", mostBytes>>20),
			Do: "check that this is the right file; long lists of values to recode belong into a file for recode_file:"}
	}
	depth, line := 0, 1
	for _, c := range source {
		switch c {
		case '[', '{':
			depth++
		case ']', '}':
			depth = max(0, depth-1)
		case '\n':
			line++
		}
		if depth > mostDepth {
			return &fault.Problem{Line: line, What: fmt.Sprintf("brackets are nested more than %d deep", mostDepth),
				Do: "close them"}
		}
	}
	return nil
}

// Decode decodes source, the contents of the ladle file at path.
func Decode(path string, source []byte) (*File, error) { return DecodeWith(path, source, nil) }

// DecodeWith is Decode for a ladle file that stands in something else than a folder: resolve tells where the files are that
// it names; nil for beside it.
func DecodeWith(path string, source []byte, resolve func(name string) string) (*File, error) {
	d := &decoder{path: path, resolve: resolve}
	if p := unreasonable(source); p != nil {
		p.File = path
		return nil, fault.At(fault.Wrong, *p)
	}
	sum := sha256.Sum256(source)
	f := &File{Path: path, Sum: hex.EncodeToString(sum[:]), Kept: filepath.Dir(path)}
	parsed, err := parser.ParseBytes(bytes.ReplaceAll(source, []byte("\r\n"), []byte("\n")),
		0) // it miscounts lines else
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
	resolve  func(name string) string
	problems []fault.Problem
}

func (d *decoder) problem(at Place, what, do string) {
	d.problems = append(d.problems, fault.Problem{File: d.path, Line: at.Line, Column: at.Column, What: what, Do: do})
}

func (d *decoder) syntax(err error) {
	var syntax yaml.Error
	if errors.As(err, &syntax) && syntax.GetToken() != nil {
		at := syntax.GetToken().Position
		d.problem(Place{at.Line, at.Column}, "this is not YAML: "+syntax.GetMessage(),
			"correct the line or the one before")
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

// mapping returns the entries of n, which stands for what.
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
			do := cmp.Or(now(renamed, what, e.key.Value), fault.DidYouMean(e.key.Value, keys))
			if strings.ContainsAny(e.key.Value, `()[]"' `) { // the rest of a formula or query
				do = "put quotes around a formula, query or value that has a comma in it"
			}
			d.problem(e.key.Place, fmt.Sprintf("%s has no key %q", what, e.key.Value), do)
			continue
		}
		if _, null := e.value.(*ast.NullNode); null {
			d.problem(e.key.Place, fmt.Sprintf("%s: has no value", e.key.Value), "give it one, or delete the key")
			continue
		}
		decode(e.value)
	}
}

// scalar returns n as it is written.
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
		d.problem(t.Place, fmt.Sprintf("%s can't be %q", what, t.Value),
			cmp.Or(now(renamedWords, what, t.Value), "write one of: "+strings.Join(names, ", ")))
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
		"set_aside_as":    choice(d, &f.SetAsideAs, "set_aside_as:", SetAsideCSV, SetAsideWorkbook),
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
		d.problem(Place{1, 1}, "there are no inputs", "add inputs: with a name and a file: for each")
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
			d.problem(t.Place, fmt.Sprintf("%s can't be %q", key, t.Value),
				"write a number of "+what+", a share like 2%, or any")
		}
	}
}

func (d *decoder) tables(f *File, n ast.Node) {
	for _, e := range d.mapping(n, "tables:") {
		b := &Block{Name: e.key, AlreadyThere: KeepThere, NotThere: AddNotThere, Blank: KeepBlank,
			BlankKey: SetAsideBlankKey, Contradictions: SetAsideContradictions}
		d.fields(e.value, "a block", map[string]func(ast.Node){
			"from": d.into(&b.From, "from:"),
			"into": d.into(&b.Into, "into:"),
			"key":  func(n ast.Node) { d.key(b, n) },
			"already_there": choice(d, &b.AlreadyThere, "already_there:", KeepThere, UpdateThere, FillBlanksThere,
				SetAsideThere),
			"not_there": choice(d, &b.NotThere, "not_there:", AddNotThere, LeaveOutNotThere,
				SetAsideNotThere),
			"blank":     choice(d, &b.Blank, "blank:", KeepBlank, ClearBlank),
			"blank_key": choice(d, &b.BlankKey, "blank_key:", SetAsideBlankKey, MatchBlankKey),
			"contradictions": choice(d, &b.Contradictions, "contradictions:", SetAsideContradictions,
				FirstOfContradictions, LastOfContradictions, MostOfContradictions),
			"similar_names":       func(n ast.Node) { b.SimilarAt = placeOf(n); d.similar(&b.Similar)(n) },
			"gone_from_file":      func(n ast.Node) { b.Gone = d.gone(n) },
			"columns":             func(n ast.Node) { b.Columns = d.columns(n) },
			"in_order_of":         func(n ast.Node) { b.InOrderOf = d.list(n, "in_order_of:") },
			"only":                d.into(&b.Only, "only:"),
			"changed_by_database": func(n ast.Node) { b.Changed = d.list(n, "changed_by_database:") },
		})
		if !b.From.Given() {
			d.problem(e.key.Place, fmt.Sprintf("block %s has no from:", e.key.Value),
				"add from: with the name of an input")
		}
		if len(b.Columns) == 0 {
			d.problem(e.key.Place, fmt.Sprintf("block %s fills no columns", e.key.Value),
				"add columns: with a source for each")
		}
		f.Blocks = append(f.Blocks, b)
	}
}

// similar decodes what becomes of new names that look like others: one word for all, or lists of names.
func (d *decoder) similar(to *SimilarNames) func(ast.Node) {
	return func(n ast.Node) {
		switch n.(type) {
		case *ast.MappingNode, *ast.MappingValueNode:
		default:
			choice(d, &to.All, "similar_names:", AcceptSimilar, SetAsideSimilar)(n)
			return
		}
		to.Names = map[string]Similar{}
		names := func(what Similar) func(ast.Node) {
			return func(n ast.Node) {
				for _, name := range d.list(n, string(what)+":") {
					if to.Names[name.Value] != "" && to.Names[name.Value] != what {
						d.problem(name.Place, fmt.Sprintf("%q is both accepted and set aside", name.Value),
							"delete it from one of the lists")
					}
					to.Names[name.Value] = what
				}
			}
		}
		d.fields(n, "similar_names:", map[string]func(ast.Node){
			"accept":    names(AcceptSimilar),
			"set_aside": names(SetAsideSimilar),
		})
	}
}

// gone decodes what becomes of rows that the input no longer has.
func (d *decoder) gone(n ast.Node) *Gone {
	g := &Gone{Place: placeOf(n)}
	var remove Text
	capped := false
	d.fields(n, "gone_from_file:", map[string]func(ast.Node){
		"remove":    d.into(&remove, "remove:"),
		"mark":      func(n ast.Node) { g.Mark = d.marks(n, "mark:") },
		"mark_back": func(n ast.Node) { g.Back = d.marks(n, "mark_back:") },
		"at_most":   func(n ast.Node) { capped = true; d.limit(&g.AtMost, "at_most:", "rows")(n) },
		"where_sql": d.into(&g.Where, "where_sql:"),
	})
	does := "removed"
	if g.Mark != nil {
		does = "marked"
	}
	switch {
	case remove.Given() && remove.Value != "yes":
		d.problem(remove.Place, fmt.Sprintf("remove: can't be %q", remove.Value),
			"write remove: yes, and the cap as at_most: "+remove.Value)
	case remove.Given() && g.Mark != nil:
		d.problem(remove.Place, "rows that are gone can't be both removed and marked", "delete remove: or mark:")
	case g.Back != nil && g.Mark == nil:
		d.problem(g.Back[0].Column.Place, "mark_back: has no effect without mark:", "add mark:, or delete mark_back:")
	case !remove.Given() && g.Mark == nil:
		d.problem(g.Place, "gone_from_file: doesn't say what becomes of the rows",
			"add remove: yes, or mark: with columns and their values, for example mark: {status: withdrawn}")
	case !capped || g.AtMost.Any:
		d.problem(g.Place, "gone_from_file: doesn't say how many rows may be "+does,
			"add at_most: with a number of rows, or a share like 5%")
	}
	return g
}

// marks decodes columns with what rows are given in them: a value, or a formula.
func (d *decoder) marks(n ast.Node, key string) (all []Mark) {
	for _, e := range d.mapping(n, key) {
		m := Mark{Column: e.key}
		switch e.value.(type) {
		case *ast.NullNode:
			m.Value.Place = placeOf(e.value)
		case *ast.MappingNode, *ast.MappingValueNode:
			d.fields(e.value, m.Column.Value+":", map[string]func(ast.Node){"formula": d.into(&m.Formula, "formula:")})
			if !m.Formula.Given() {
				d.problem(m.Column.Place, fmt.Sprintf("%s %s has no value", key, m.Column.Value),
					"write a value, or {formula: today()}")
			}
		default:
			m.Value = d.scalar(e.value, m.Column.Value+":")
		}
		all = append(all, m)
	}
	return all
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
	switch t.Value {
	case "none":
		b.Keyless = true
	case "all_columns":
		b.AllColumns = true
	default:
		b.Key = []Text{t}
	}
}
