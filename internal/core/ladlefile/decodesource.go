package ladlefile

import (
	"fmt"
	"strings"

	"github.com/goccy/go-yaml/ast"
)

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
	lookup := Lookup{NotFound: SetAsideNotFound, Several: SetAsideSeveral}
	said := false // one of the keys that go with a lookup
	saying := func(decode func(ast.Node)) func(ast.Node) {
		return func(n ast.Node) { said = true; decode(n) }
	}
	d.fields(e.value, "a source", map[string]func(ast.Node){
		"from":     d.into(&s.From, "from:"),
		"constant": d.into(&s.Constant, "constant:"),
		"lookup":   func(n ast.Node) { s.Lookup = &lookup; d.lookup(&lookup, n) },
		"not_found": saying(choice(d, &lookup.NotFound, "not_found:", SetAsideNotFound, AddNotFound,
			BlankNotFound)),
		"several":   saying(choice(d, &lookup.Several, "several:", SetAsideSeveral, BlankSeveral)),
		"points_at": func(n ast.Node) { s.PointsAt = d.target(n, "points_at:") },
		"store_as": func(n ast.Node) {
			s.StoreAt = placeOf(n)
			choice(d, &s.StoreAs, "store_as:", StoreNumbers, StoreTexts)(n)
		},
		"on_update":     choice(d, &s.OnUpdate, "on_update:", KeepThere, FillBlanksThere, UpdateThere),
		"similar_names": saying(d.similar(&lookup.Similar)),
	})
	d.judgeSource(e.key, &s, said)
	return s
}

// judgeSource holds the keys of a source against each other, and returns a lookup by one column its source.
func (d *decoder) judgeSource(name Text, s *Source, said bool) {
	switch {
	case s.Constant.Given() && (s.From.Given() || s.Lookup != nil):
		d.problem(name.Place, name.Value+" has a constant and another source", "keep one of them")
	case s.PointsAt != nil && s.Lookup != nil:
		d.problem(name.Place, name.Value+" has points_at: and a lookup", "delete points_at:; the lookup says it")
	case said && s.Lookup == nil:
		d.problem(name.Place, name.Value+" has not_found:, several: or similar_names:, but no lookup:",
			"add lookup:, or delete the key")
	case s.Lookup == nil && !s.From.Given() && !s.Constant.Given():
		d.problem(name.Place, name.Value+" has no source", "give the name of a column of the input, or from:, "+
			"constant: or lookup:")
	case s.Lookup == nil:
	case s.Lookup.Similar.Given() && s.Lookup.NotFound != AddNotFound:
		d.problem(name.Place, name.Value+" has similar_names:, but adds no names",
			"add not_found: add, or delete the key")
	case len(s.Lookup.By) == 1 && !s.Lookup.By[0].Source.Place.valid():
		if !s.From.Given() {
			d.problem(name.Place, name.Value+" has a lookup, but no value to look up",
				"add from: with a column of the input")
		}
		s.Lookup.By[0].Source = Source{Place: s.Place, From: s.From}
	case s.From.Given():
		d.problem(s.From.Place, "from: can't be combined with by:", "the sources of this lookup are in by:")
	}
}

func (p Place) valid() bool { return p.Line > 0 }

// lookup decodes TABLE.COLUMN, or a mapping with table: and by:, or with table: or block: and by_old_id:.
func (d *decoder) lookup(l *Lookup, n ast.Node) {
	l.Place = placeOf(n)
	switch n.(type) {
	case *ast.MappingNode, *ast.MappingValueNode:
		d.fields(n, "a lookup", map[string]func(ast.Node){
			"table":     d.into(&l.Table, "table:"),
			"block":     d.into(&l.Block, "block:"),
			"by":        func(n ast.Node) { l.By = d.columns(n) },
			"by_old_id": func(n ast.Node) { d.oldID(l, n) },
		})
		switch {
		case l.There.Given() && len(l.By) > 0:
			d.problem(l.Place, "a lookup has by: and by_old_id:", "keep one of them")
		case l.There.Given() && l.Table.Given() == l.Block.Given():
			d.problem(l.Place, "a lookup by an old id needs either table: or block:",
				"name the table, or, where several blocks fill it, the block that made the row")
		case !l.There.Given() && (!l.Table.Given() || len(l.By) == 0 || l.Block.Given()):
			d.problem(l.Place, "a lookup needs table: and by:", "or write lookup: TABLE.COLUMN")
		}
		return
	}
	if t := d.target(n, "lookup:"); t != nil {
		l.Table, l.By = t.Table, []Column{{Name: t.Column}}
	}
}

// target decodes TABLE.COLUMN; nil when it is something else.
func (d *decoder) target(n ast.Node, what string) *Target {
	t := d.scalar(n, what)
	dot := strings.LastIndexByte(t.Value, '.')
	if dot <= 0 || dot == len(t.Value)-1 {
		d.problem(t.Place, fmt.Sprintf("%s can't be %q", what, t.Value),
			"write it as TABLE.COLUMN, for example berth.code")
		return nil
	}
	return &Target{Text{t.Value[:dot], t.Place}, Text{t.Value[dot+1:], t.Place}}
}

// oldID decodes {there: COLUMN OF THE OTHER INPUT, here: COLUMN OF THIS ONE}.
func (d *decoder) oldID(l *Lookup, n ast.Node) {
	if all := d.mapping(n, "by_old_id:"); len(all) == 1 && all[0].key.Value != "there" && all[0].key.Value != "here" {
		here := d.scalar(all[0].value, "by_old_id:").Value
		d.problem(placeOf(n), "by_old_id: names its columns as there: and here:",
			fmt.Sprintf("write by_old_id: {there: %s, here: %s}", Flow(all[0].key.Value), Flow(here)))
		return
	}
	d.fields(n, "by_old_id:", map[string]func(ast.Node){"there": d.into(&l.There, "there:"),
		"here": d.into(&l.Here, "here:")})
	if !l.There.Given() || !l.Here.Given() {
		d.problem(placeOf(n), "by_old_id: needs there: and here:",
			"write by_old_id: {there: COLUMN OF THE INPUT THAT MADE THE ROW, here: COLUMN OF THIS INPUT}")
	}
}
