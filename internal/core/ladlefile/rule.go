package ladlefile

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"
	_ "time/tzdata" // zones are known on machines that have none

	"github.com/goccy/go-yaml/ast"

	"ladle/internal/core/clean"
	"ladle/internal/core/fault"
	"ladle/internal/core/notation"
)

// Said is the text as package clean takes it.
func (t Text) Said() clean.Located {
	return clean.Located{Text: t.Value, Line: t.Line, Column: t.Column}
}

// took tells of a scalar that can't be taken.
func (d *decoder) took(t Text, key string, err error) {
	var advised fault.InvalidValue
	if errors.As(err, &advised) {
		d.problem(t.Place, key+" "+advised.What, advised.Do)
	} else if err != nil {
		d.problem(t.Place, fmt.Sprintf("%s can't be %q: %s", key, t.Value, err), "")
	}
}

// list decodes one scalar or several.
func (d *decoder) list(n ast.Node, key string) []Text {
	nodes := []ast.Node{n}
	if list, ok := n.(*ast.SequenceNode); ok {
		nodes = list.Values
	}
	var all []Text
	for _, n := range nodes {
		all = append(all, d.scalar(n, key))
	}
	return all
}

func (d *decoder) saidList(n ast.Node, key string) (all []clean.Located) {
	for _, t := range d.list(n, key) {
		all = append(all, t.Said())
	}
	return all
}

func values(all []Text) []string {
	words := make([]string, len(all))
	for i, t := range all {
		words[i] = t.Value
	}
	return words
}

// number decodes a whole number from least on, of a size that makes sense.
func (d *decoder) number(n ast.Node, key string, least int) int {
	const most = 10_000
	t := d.scalar(n, key)
	i, err := strconv.Atoi(t.Value)
	if err != nil || i < least || i > most {
		d.problem(t.Place, fmt.Sprintf("%s can't be %q", key, t.Value),
			fmt.Sprintf("write a whole number from %d to %d", least, most))
	}
	return i
}

// ruling is a rule while it is decoded: what others of its keys must know first.
type ruling struct {
	clean.Rule
	dates   []datePattern
	yes, no []Text
	pivot   int
	values  map[string]string
	file    Text
	others  clean.Others
}

// rule decodes the keys of a rule, and those in more.
func (d *decoder) rule(n ast.Node, what string, zone *time.Location, more map[string]func(ast.Node)) clean.Rule {
	r := &ruling{Rule: clean.Rule{Zone: zone}, pivot: notation.NoPivot}
	keys := map[string]func(ast.Node){
		"blank_is":    func(n ast.Node) { r.BlankIs = clean.NewWords(values(d.list(n, "blank_is:"))...) },
		"clean":       func(n ast.Node) { r.Clean = d.cleanings(n) },
		"recode":      func(n ast.Node) { r.values = d.recode(n) },
		"recode_file": d.into(&r.file, "recode_file:"),
		"recode_others": choice(d, &r.others, "recode_others:", clean.KeepOthers, clean.SetAsideOthers,
			clean.BlankOthers),
		"number":               func(n ast.Node) { r.Number = d.numbers(n) },
		"date":                 func(n ast.Node) { r.dates = d.dates(n) },
		"two_digit_years_from": func(n ast.Node) { r.pivot = d.number(n, "two_digit_years_from:", 1) },
		"time_zone":            func(n ast.Node) { r.Zone = d.zone(n) },
		"yes_is":               func(n ast.Node) { r.yes = d.list(n, "yes_is:") },
		"no_is":                func(n ast.Node) { r.no = d.list(n, "no_is:") },
		"if_blank":             func(n ast.Node) { r.IfBlank = d.fills(n) },
		"default":              func(n ast.Node) { said := d.scalar(n, "default:").Said(); r.Default = &said },
		"round":                func(n ast.Node) { r.Rounded, r.Round = true, d.number(n, "round:", 0) },
		"shorten_to":           func(n ast.Node) { r.ShortenTo = d.number(n, "shorten_to:", 1) },
	}
	for key, decode := range more {
		keys[key] = decode
	}
	d.fields(n, what, keys)
	d.together(r, placeOf(n))
	return r.Rule
}

// together makes what several keys of a rule say as one.
func (d *decoder) together(r *ruling, at Place) {
	if r.values != nil || r.file.Given() {
		r.Recode = &clean.Recode{Values: r.values, Others: clean.KeepOthers}
		if r.file.Given() {
			r.Recode.File = r.file.Said()
			r.Recode.Path = d.beside(r.file.Value)
		}
		if r.others != "" {
			r.Recode.Others = r.others
		}
	} else if r.others != "" {
		d.problem(at, "recode_others: needs recode: or recode_file:", "add one of them, or delete the key")
	}
	if r.dates != nil {
		r.Dates = d.patterns(r.dates, r.pivot)
	}
	if r.yes != nil || r.no != nil {
		var err error
		if r.Truths, err = clean.NewTruths(values(r.yes), values(r.no)); err != nil {
			d.problem(at, err.Error(), "delete it from yes_is: or no_is:")
		}
	}
	kinds := count(r.Number != nil, r.Dates != nil, r.Truths != nil)
	switch {
	case kinds > 1:
		d.problem(at, "a column has only one of number:, date:, and yes_is: with no_is:", "keep one of them")
	case r.Rounded && (r.Dates != nil || r.Truths != nil):
		d.problem(at, "round: is for numbers", "delete it")
	case r.ShortenTo > 0 && (kinds > 0 || r.Rounded):
		d.problem(at, "shorten_to: is for texts", "delete it")
	}
}

// beside is a path as the ladle file means it: relative to itself.
func (d *decoder) beside(path string) string {
	switch {
	case d.resolve != nil:
		return d.resolve(path)
	case filepath.IsAbs(path):
		return path
	}
	return filepath.Join(filepath.Dir(d.path), path)
}

// datePattern is a pattern, and the language of its months.
type datePattern struct{ Text, language Text }

// dates decodes one pattern or several, each by itself or with its language.
func (d *decoder) dates(n ast.Node) (all []datePattern) {
	nodes := []ast.Node{n}
	if list, ok := n.(*ast.SequenceNode); ok {
		nodes = list.Values
	}
	for _, n := range nodes {
		var p datePattern
		switch text := n.String(); {
		case (n.Type() == ast.MappingType || n.Type() == ast.MappingValueType) && (strings.Contains(text, "pattern:") ||
			strings.Contains(text, "language:")):
			d.fields(n, "date:", map[string]func(ast.Node){"pattern": d.into(&p.Text, "pattern:"),
				"language": d.into(&p.language, "language:")})
			if !p.Text.Given() {
				d.problem(placeOf(n), "date: needs pattern:", "write for example date: {pattern: d MMMM yyyy, "+
					"language: fr}")
			}
		default:
			p.Text = d.scalar(n, "date:")
		}
		all = append(all, p)
	}
	return all
}

func (d *decoder) patterns(said []datePattern, pivot int) *notation.Dates {
	var all []*notation.Pattern
	for _, s := range said {
		t := s.Text
		if t.Value == "" {
			continue // told already
		}
		if s.language.Given() {
			if _, err := notation.NewPatternIn(s.language.Value, "d.M.yyyy", pivot); err != nil {
				d.took(s.language, "language:", err)
				continue
			}
		}
		p, err := notation.NewPatternIn(s.language.Value, t.Value, pivot)
		d.took(t, "date:", err)
		if err == nil {
			all = append(all, p)
		}
	}
	return notation.NewDates(all...)
}

// numbers decodes one notation of numbers, or several that are tried in order.
func (d *decoder) numbers(n ast.Node) *notation.Numbers {
	var all []*notation.Number
	said := d.list(n, "number:")
	if len(said) == 0 {
		d.problem(placeOf(n), "number: has no value", "give it one or delete the key")
	}
	for _, t := range said {
		made, err := notation.NumberLike(t.Value)
		if d.took(t, "number:", err); err == nil {
			all = append(all, made)
		}
	}
	if all == nil {
		return nil
	}
	return notation.NewNumbers(all...)
}

func (d *decoder) zone(n ast.Node) *time.Location {
	t := d.scalar(n, "time_zone:")
	zone, err := time.LoadLocation(t.Value)
	if err != nil || t.Value == "Local" || t.Value == "" {
		d.problem(t.Place, fmt.Sprintf("there is no time zone %q", t.Value),
			"write a name of the IANA time zone database, for example Europe/Lisbon, or UTC")
		return nil
	}
	return zone
}

// recode decodes a map of values.
func (d *decoder) recode(n ast.Node) map[string]string {
	made := map[string]string{}
	for _, e := range d.mapping(n, "recode:") {
		if _, there := made[e.key.Value]; there {
			d.problem(e.key.Place, fmt.Sprintf("recode: has %q twice", e.key.Value), "keep one of them")
		}
		if _, null := e.value.(*ast.NullNode); null {
			made[e.key.Value] = ""
			continue
		}
		made[e.key.Value] = d.scalar(e.value, "a value of recode:").Value
	}
	return made
}

func (d *decoder) split(n ast.Node) *clean.Split {
	s := &clean.Split{}
	d.fields(n, "split:", map[string]func(ast.Node){
		"at":      func(n ast.Node) { s.At = d.scalar(n, "at:").Value },
		"columns": func(n ast.Node) { s.Columns = d.saidList(n, "columns:") },
	})
	if s.At == "" || len(s.Columns) < 2 {
		d.problem(placeOf(n), "split: needs at: and columns:",
			`write for example split: {at: "/", columns: [Quay, Place]}`)
	}
	return s
}

// fills decodes if_blank: one way to fill blanks or several, which are tried in order.
func (d *decoder) fills(n ast.Node) (all []clean.Fill) {
	nodes := []ast.Node{n}
	if list, ok := n.(*ast.SequenceNode); ok {
		nodes = list.Values
	}
	for _, n := range nodes {
		var f clean.Fill
		if t, ok := n.(*ast.StringNode); ok && t.Value == "above" {
			f.Above = d.scalar(n, "if_blank:").Said()
			all = append(all, f)
			continue
		}
		said := 0
		saying := func(decode func(ast.Node)) func(ast.Node) { return func(n ast.Node) { said++; decode(n) } }
		d.fields(n, "if_blank:", map[string]func(ast.Node){
			"formula":               saying(func(n ast.Node) { f.Formula = d.scalar(n, "formula:").Said() }),
			"as_in_lines_with_same": saying(func(n ast.Node) { f.Same = d.saidList(n, "as_in_lines_with_same:") }),
		})
		if said != 1 {
			d.problem(placeOf(n), "if_blank: needs above, formula: or as_in_lines_with_same:",
				"write several as a list, which is tried in order; default: sets a fixed value")
			continue
		}
		all = append(all, f)
	}
	return all
}

// cleanings decodes clean: a list of names, and of mappings with one key for those that need more.
func (d *decoder) cleanings(n ast.Node) (all []clean.Cleaning) {
	nodes := []ast.Node{n}
	if list, ok := n.(*ast.SequenceNode); ok {
		nodes = list.Values
	}
	for _, n := range nodes {
		switch n.(type) {
		case *ast.MappingNode, *ast.MappingValueNode:
			all = append(all, d.cleaning(n)...)
			continue
		}
		t := d.scalar(n, "a cleaning")
		if c, ok := clean.Plain(t.Value); ok {
			all = append(all, c)
			continue
		}
		do := fault.DidYouMean(t.Value, append(clean.PlainNames(), furtherCleanings...))
		if slices.Contains(furtherCleanings, t.Value) {
			do = fmt.Sprintf("write it with its argument: {%s: ...}", t.Value)
		}
		d.problem(t.Place, fmt.Sprintf("there is no cleaning %q", t.Value), do)
	}
	return all
}

// furtherCleanings are those that need more than their name.
var furtherCleanings = []string{"without", "add_prefix", "add_suffix", "drop_prefix", "drop_suffix", "replace", "regex",
	"pad", "part"}

// cleaning decodes a cleaning that needs more than its name.
func (d *decoder) cleaning(n ast.Node) (all []clean.Cleaning) {
	var regex, becomes, using, at Text
	width, number, before := 0, 0, len(d.problems)
	taking := func(make func(string) clean.Cleaning) func(ast.Node) {
		return func(n ast.Node) { all = append(all, make(d.scalar(n, "a cleaning").Value)) }
	}
	d.fields(n, "a cleaning", map[string]func(ast.Node){
		"without":     taking(clean.Without),
		"add_prefix":  taking(clean.AddPrefix),
		"add_suffix":  taking(clean.AddSuffix),
		"drop_prefix": taking(clean.DropPrefix),
		"drop_suffix": taking(clean.DropSuffix),
		"replace": func(n ast.Node) {
			for _, e := range d.mapping(n, "replace:") {
				all = append(all, clean.Replace(e.key.Value, d.scalar(e.value, "a value of replace:").Value))
			}
		},
		"regex":   d.into(&regex, "regex:"),
		"becomes": d.into(&becomes, "becomes:"),
		"using":   d.into(&using, "using:"),
		"pad":     func(n ast.Node) { width = d.number(n, "pad:", 1) },
		"part":    func(n ast.Node) { number = d.number(n, "part:", -1000) },
		"at":      d.into(&at, "at:"),
	})
	place := placeOf(n)
	fill := '0'
	switch ways := count(regex.Given(), width > 0, number != 0, len(all) > 0); {
	case len(d.problems) > before:
		return nil
	case ways != 1, becomes.Given() != regex.Given(), using.Given() && width == 0, (at.Value != "") != (number != 0):
		d.problem(place, "this is not one cleaning", `write one at a time, for example {without: "()-"}, `+
			`{regex: '^(\d+)-(\d+)$', becomes: '$2/$1'}, {pad: 6}, {part: 2, at: "/"}`)
		return nil
	case regex.Given():
		c, err := clean.Regex(regex.Value, becomes.Value)
		d.took(regex, "regex:", err)
		return []clean.Cleaning{c}
	case width > 0:
		if using.Given() {
			var one bool
			if fill, one = clean.FirstOf(using.Value); !one {
				d.problem(using.Place, "pad: needs a single character", "")
			}
		}
		return []clean.Cleaning{clean.Pad(width, fill)}
	case number != 0:
		return []clean.Cleaning{clean.Part(number, at.Value)}
	}
	return all
}

// count is how many of its arguments are true.
func count(all ...bool) (n int) {
	for _, is := range all {
		if is {
			n++
		}
	}
	return n
}

// rules decodes columns: of an input.
func (d *decoder) rules(in *Input, n ast.Node) {
	for _, e := range d.mapping(n, "columns: of an input") {
		var split *clean.Split
		rule := d.rule(e.value, "the rule of a column", in.Zone,
			map[string]func(ast.Node){"split": func(n ast.Node) { split = d.split(n) }})
		rule.Split = split
		if split != nil && (rule.Number != nil || rule.Dates != nil || rule.Truths != nil || rule.Rounded) {
			d.problem(e.key.Place, "a cell that is split is a text",
				"set number: or date: for the columns that it is split into")
		}
		in.Rules = append(in.Rules, clean.NamedRule{Name: e.key.Said(), Rule: rule})
	}
}

// made decodes new_columns.
func (d *decoder) made(in *Input, n ast.Node) {
	for _, e := range d.mapping(n, "new_columns:") {
		m := clean.DerivedColumn{Name: e.key.Said()}
		switch e.value.(type) {
		case *ast.MappingNode, *ast.MappingValueNode:
			m.Rule = d.rule(e.value, "a new column", in.Zone, map[string]func(ast.Node){
				"formula": func(n ast.Node) { m.Formula = d.scalar(n, "formula:").Said() },
				"join":    func(n ast.Node) { m.Join = d.saidList(n, "join:") },
				"between": func(n ast.Node) { m.Between = d.scalar(n, "between:").Value },
			})
		default:
			m.Formula = d.scalar(e.value, "a formula").Said()
		}
		if (m.Formula.Line > 0) == (m.Join != nil) {
			d.problem(e.key.Place, fmt.Sprintf("the new column %s needs a formula or a join", e.key.Value),
				"write formula: or join:")
		}
		in.Made = append(in.Made, m)
	}
}
