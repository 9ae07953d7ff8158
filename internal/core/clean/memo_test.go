package clean_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/source"
	"ladle/internal/core/value"
	"ladle/internal/seeded"
)

// TestWhatIsRememberedIsWhatWouldBeCleaned: cells that are remembered, read plainly or cleaned alone become what they
// become where another column needs them, which makes them go the long way.
func TestWhatIsRememberedIsWhatWouldBeCleaned(t *testing.T) {
	const rules = `
    columns:
      Name: {blank_is: none, clean: [squeeze, title], recode: {Tern: Little Tern}}
      Dues: {number: "€1.234,5", round: 1}
      Day: {date: dd/MM/yyyy}
      Tons: {clean: {drop_suffix: " t"}, number: "1,234.5", round: 1, default: 0}
      Note: {clean: [squeeze, upper, {replace: {"&": and}}, {regex: '^(\d+)-(\d+)$', becomes: $2/$1}], default: none}
      Berth: {clean: [trim, title, {drop_prefix: Berth}, {without: "()"}, {add_prefix: "B "}, {pad: 6}]}
      Quay: {clean: [{add_suffix: " é"}, upper, {replace: {n: ñ}}, title, {without: "É"}, squeeze]}
`
	r := seeded.Rand(t)
	var csv strings.Builder
	const header = "Name;Dues;Day;Tons;Note;Berth;Quay\n"
	csv.WriteString(header)
	pick := func(words ...string) string { return words[r.IntN(len(words))] }
	for range 30_000 {
		name := pick(" tern", "GREY  heron", "none", "", fmt.Sprintf("vessel %d", r.IntN(40_000)),
			fmt.Sprint("x", strings.Repeat("y", r.IntN(3)*700)))
		dues := pick("€1.234,50", "-7", "0", "", "1.23", "012",
			fmt.Sprintf("%d.%03d,%02d", 1+r.IntN(99), r.IntN(1000), r.IntN(100)), fmt.Sprint(r.Uint64()))
		day := pick("14/03/2026", "31/02/2026", "1/1/26", "",
			fmt.Sprintf("%02d/%02d/%04d", r.IntN(32), r.IntN(13), r.IntN(9999)))
		note := pick(" a  b ", "", "  ", "#N/A", "#1", "Ærø  quay", "1.23457E+11", "quill & daughters",
			fmt.Sprintf("%d-%d", r.IntN(1000), r.IntN(99)))
		berth := pick("berth N1", " o'NEILL quay(3)", "BERTH", "(", "", "Ærø", fmt.Sprint("n", r.IntN(1000)))
		fmt.Fprintf(&csv, "%s;%s;%s;%s;%s;%s;%s\n", name, dues, day, pick("1,234.56 t", "12", "", "x t"), note, berth, berth)
	}
	k := folder{t, t.TempDir()}
	const joined = rules + "    new_columns: {All: {join: [Name, Dues, Day, Tons, Note, Berth, Quay]}}\n"
	typed := map[string]value.Type{"Dues": {Kind: value.Fixed, Precision: 9, Scale: 2}, "Tons": {Kind: value.Fixed, Precision: 9, Scale: 2}}
	alone := k.cleaned(csv.String(), rules, k.columns(header, rules, typed)...)
	needed := k.cleaned(csv.String(), joined, k.columns(header, joined, typed)...)
	require.Len(t, needed, len(alone))
	bad := 0
	for i := range alone {
		short, problems, _ := strings.Cut(needed[i], " <")
		short = short[:strings.LastIndex(short, "|")]
		if problems != "" {
			short, bad = short+" <"+problems, bad+1
		}
		require.Equal(t, alone[i], short, "row %d", i)
	}
	assert.Greater(t, bad, 1000)

	short, _, _ := k.rows(csv.String(), rules, k.columns(header, rules, typed)...)
	long, _, _ := k.rows(csv.String(), joined, k.columns(header, joined, typed)...)
	defer short.Close()
	defer long.Close()
	assert.Len(t, short.Effects(), 6)
	assert.Equal(t, long.Effects(), short.Effects(), "what the rules did")
}

// TestChainsOfCleanings holds any cleanings in any order, of the cells of a block together, against each cell going the long way.
func TestChainsOfCleanings(t *testing.T) {
	all := []string{"trim", "squeeze", "upper", "lower", "title", "digits", "letters", "nfc", "ascii", `{without: "-é"}`, "{add_prefix: B-}",
		"{add_prefix: é}", "{add_suffix: ' ñ'}", "{drop_prefix: b}", "{drop_suffix: ' n'}", "{replace: {a: aa}}", "{replace: {n: ñ, é: e}}", "{pad: 7}",
		"{pad: 7, using: ß}", `{part: 1, at: "-"}`, `{regex: '^(\w+)-(\w+)$', becomes: '$2 é'}`, `{regex: 'a', becomes: ''}`}
	r := seeded.Rand(t)
	for range 150 {
		var cells, chain strings.Builder
		cells.WriteString("Cell;No\n")
		words := []string{"Berth n1", " a-b ", "an  ban", "BAN-an", "o'neill", "n", "17-3", "#N/A", "", "1.23457E+11", "a\tb"}
		if r.IntN(3) == 0 {
			words = append(words, "Ærø", "é", "bé")
		}
		for i := range 300 {
			fmt.Fprintf(&cells, "%s;%d\n", words[r.IntN(len(words))], i)
		}
		for i := range 1 + r.IntN(4) {
			chain.WriteString(strings.Repeat(", ", min(i, 1)) + all[r.IntN(len(all))])
		}
		rules := "    columns: {Cell: {clean: [" + chain.String() + "]}}\n"
		k := folder{t, t.TempDir()}
		alone := k.cleaned(cells.String(), rules)
		for i, needed := range k.cleaned(cells.String(), rules+"    new_columns: {All: {join: [Cell, No], between: ' & '}}\n") {
			short, problems, _ := strings.Cut(needed, " <")
			if short = short[:strings.LastIndex(short, "|")]; problems != "" {
				short += " <" + problems
			}
			require.Equal(t, alone[i], short, "%s, row %d", chain.String(), i)
		}
	}
}

// TestEffects: what each part of a rule changed is counted, in the lines that the input keeps, with the first cells.
func TestEffects(t *testing.T) {
	k := folder{t, t.TempDir()}
	csv := "Name,Tons,Note,Flag,Kind\n" +
		"Tern,12.345,a long note,mw,T\nHeron,n/a,x,MERROW,\nGull,7.50,-,zz,T\nTern,n/a,yy,mw,B\n" +
		"left out,n/a,a long note,mw,\nbad,x1,yy,mw,T\n"
	rows, recipe, _ := k.rows(csv, `
    only: Name != "left out"
    columns:
      Tons: {blank_is: [n/a], number: "1,234.5", round: 1, default: 0}
      Note: {blank_is: ["-"], shorten_to: 6}
      Flag: {recode: {mw: MERROW, MERROW: MERROW}, recode_others: blank}
      Kind: {if_blank: [{formula: '"K"'}]}
`)
	defer rows.Close()
	var got []string
	for _, e := range rows.Effects() {
		line := fmt.Sprintf("%s %s %d:", recipe.Name(e.Column), e.Deed, e.Cells)
		for _, c := range e.First {
			_, at := source.PositionIn(c.Position)
			after := "NULL"
			if c.After != nil {
				after = *c.After
			}
			line += fmt.Sprintf(" %d %s>%s", at, c.Before, after)
		}
		got = append(got, line)
	}
	assert.Equal(t, []string{"Tons blank_is 2: 3 n/a>0", "Tons default 2: 3 n/a>0", "Tons round 1: 2 12.345>12.3",
		"Note blank_is 1: 4 ->NULL", "Note shorten_to 1: 2 a long note>a long", "Flag recode 3: 2 mw>MERROW",
		"Flag recode_others 1: 4 zz>NULL", "Kind if_blank 1: 3 >K"}, got)
}

// FuzzRules: whatever rule and cell there are, a cell that is cleaned is in its canonical text, which stays the same,
// and the cell in the file is never changed.
func FuzzRules(f *testing.F) {
	for _, rule := range []string{"{clean: [squeeze, upper]}", "{number: '1.234,5', round: 1}", "{date: dd/MM/yyyy}",
		"{clean: {regex: '(.)b', becomes: '$1'}, shorten_to: 3}",
		"{recode: {a: b}, recode_others: set_aside}", "{if_blank: {formula: 'join(\"-\", other, 1/3)'}, default: x}",
		"{yes_is: y, no_is: n}", "{split: {at: a, columns: [P, Q]}}"} {
		f.Add(rule, " ab\u00a0", "7")
		f.Add(rule, "1.234,56", "")
	}
	f.Fuzz(func(t *testing.T, rule, cell, other string) {
		recipe, err := recipeOf("    columns: {Cell: "+rule+"}\n",
			source.Header{Names: []string{"Cell", "Other"}, Line: 1})
		if err != nil {
			return
		}
		cells := recipe.NewCells()
		var before []string
		for range 2 {
			record := source.Record{Fields: [][]byte{[]byte(cell), []byte(other)}}
			cells.Clean(&record)
			require.Equal(t, []string{cell, other}, []string{string(record.Fields[0]), string(record.Fields[1])},
				"%s changed its cell", rule)
			var now []string
			for i := range recipe.Names() {
				text, kind, state := cells.Append(nil, i)
				now = append(now, fmt.Sprint(string(text), kind, state))
			}
			for _, b := range cells.Bad() {
				require.NotEmpty(t, b.Why)
				now = append(now, fmt.Sprint(b))
			}
			if before != nil {
				require.Equal(t, before, now, "%s of %q", rule, cell)
			}
			before = now
		}
	})
}
