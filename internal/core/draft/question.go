package draft

import (
	"fmt"
	"slices"
	"strings"

	"ladle/internal/core/ladlefile"
	"ladle/internal/core/schema"
)

// Question is a doubt that a person can settle.
type Question struct {
	Where    string   // what it is about: an input and its column, or BLOCK.COLUMN
	Why      string   // what was seen
	Choices  []Choice // the guess first
	Answer   int      // the number of the choice, from 0; -1 while there is no answer
	Typed    string   // what the answer was given, where the choice asks for something
	Harmless bool     // the guess changes no value, links no row and adds none: at worst lines are set aside

	File       int    // of a question about the table: the number of the file, from 0
	kind       string // of a question about reading
	first, end int    // its lines in the draft
	doubt      int    // its number among the doubts
	obstacle   int    // its number among the obstacles; -1 where it is none
}

// Choice is an answer to a question.
type Choice struct {
	Says    string
	Samples []string // of the column that is chosen
	Asks    string   // what the person must type for it; "" for nothing

	check    func(typed string) error // what is wrong with what is typed; nil for anything
	quotes   bool                     // what is typed is one value, written as such
	lines    []string                 // in place of those of the question; nil where they stay
	settings []ladlefile.Setting
	read     func(f *File, typed string) error // of a question about reading: how the file is read then
	again    bool                              // the file must be surveyed again
}

// typed stands in the lines of a choice for what a person types.
const typed = "\x00"

// leave is the choice to leave lines out.
var leave = []string{}

// ask makes a question of the doubt that was written last, whose lines begin at first.
func (w *writer) ask(first int, where, why string, choices ...Choice) *Question {
	q := &Question{Where: where, Why: why, Choices: choices, Answer: -1,
		first: first, end: len(w.lines), doubt: len(w.made.Doubts) - 1, obstacle: -1}
	w.made.Questions = append(w.made.Questions, q)
	return q
}

// Doubtful lists the questions whose guesses could change a value, or link or add rows, and be wrong.
func (d *Draft) Doubtful() (all []*Question) {
	for _, q := range d.Questions {
		if !q.Harmless && d.open(q) {
			all = append(all, q)
		}
	}
	return all
}

// Compose returns the draft as the answers have it. A doubt that was settled is no longer marked.
func (d *Draft) Compose() (*Draft, error) {
	made := *d
	lines := slices.Clone(d.lines)
	var settings []ladlefile.Setting
	solved := map[int]bool{}
	open := func(o *Question) bool { return o.Answer < 0 }
	for _, q := range d.Questions {
		if open(q) || q.Reading() {
			continue
		}
		c := q.Choices[q.Answer]
		if q.obstacle >= 0 && (c.lines != nil || c.Asks != "") {
			solved[q.obstacle] = true
		}
		settings = append(settings, c.settings...)
		if c.lines != nil {
			for i := q.first; i < q.end; i++ {
				lines[i] = gone
			}
			if text := strings.Join(c.lines, "\n"); text != "" {
				value := q.Typed
				if c.quotes {
					value = ladlefile.Flow(value)
				}
				lines[q.first] = strings.ReplaceAll(text, typed, value)
			}
			continue
		}
		same := func(o *Question) bool { return o.first == q.first && open(o) }
		if !slices.ContainsFunc(d.Questions, same) {
			lines[q.first] = strings.Replace(lines[q.first], "# ? ", "# ", 1)
		}
	}
	if !slices.ContainsFunc(lines, func(l string) bool { return l != lines[0] && strings.Contains(l, "# ? ") }) {
		lines[0] = settledTitle
	}
	text, err := ladlefile.Edit("draft", []byte(joined(lines)), settings...)
	made.Text, made.Doubts, made.Errors = string(text), nil, nil
	for i, doubt := range d.Doubts {
		of := func(q *Question) bool { return q.doubt == i }
		settled := slices.ContainsFunc(d.Questions, of) &&
			!slices.ContainsFunc(d.Questions, func(q *Question) bool { return of(q) && d.open(q) })
		if !settled {
			made.Doubts = append(made.Doubts, doubt)
		}
	}
	for i, e := range d.Errors {
		if !solved[i] {
			made.Errors = append(made.Errors, e)
		}
	}
	return &made, err
}

const settledTitle = "# Drafted by ladle. Each guess has its reason; what was uncertain is settled."

// gone marks a line that a choice leaves out.
const gone = "\x00gone"

// joined makes a text of lines, without those that are gone, and without the titles of rules that are all gone.
func joined(lines []string) string {
	kept := slices.DeleteFunc(lines, func(l string) bool { return l == gone })
	var b strings.Builder
	for i, l := range kept {
		if l == "    columns:" && (i+1 == len(kept) || !strings.HasPrefix(kept[i+1], "      ")) {
			continue
		}
		b.WriteString(l + "\n")
	}
	return b.String()
}

// Next returns the next question that waits for an answer; nil for none.
func (d *Draft) Next() *Question {
	if i := slices.IndexFunc(d.Questions, d.waits); i >= 0 {
		return d.Questions[i]
	}
	return nil
}

// waits reports whether a question is to be asked: one with a single answer is not.
func (d *Draft) waits(q *Question) bool { return len(q.Choices) > 1 && d.open(q) }

// open reports whether a question has no answer. One about lines that the answer to another replaced needs none.
func (d *Draft) open(q *Question) bool {
	return q.Answer < 0 && !slices.ContainsFunc(d.Questions, func(o *Question) bool {
		return o.Answer >= 0 && o.Choices[o.Answer].lines != nil && q.first >= o.first && q.first < o.end
	})
}

// Number is the number of a question among those that are asked, from 1, and how many these are.
func (d *Draft) Number(q *Question) (n, of int) {
	for _, o := range d.Questions {
		if len(o.Choices) > 1 {
			of++
		}
		if o == q {
			n = of
		}
	}
	return n, of
}

// Accepts returns what is wrong with a text that is typed for a choice; nil for nothing.
func (q *Question) Accepts(c Choice, text string) error {
	switch {
	case strings.ContainsAny(text, "\n\r\x00"):
		return fmt.Errorf("it has more than one line")
	case c.check != nil:
		return c.check(text)
	case c.read != nil:
		return c.read(&File{}, text)
	}
	return nil
}

// contradictionChoices are what can become of lines that share a key and differ.
func contradictionChoices(block string) []Choice {
	set := func(value string) []ladlefile.Setting {
		return []ladlefile.Setting{{At: []string{"tables", block}, Key: "contradictions", Value: value}}
	}
	return []Choice{{Says: "set those aside that differ from the first"},
		{Says: "keep the first of them, overrule the others", settings: set("first")},
		{Says: "keep the last of them, overrule the others", settings: set("last")},
		{Says: "keep, for each column, the value that most of them have", settings: set("most")}}
}

// keyChoices are what can be the key of a block.
func keyChoices(b *block, key []string) []Choice {
	all := []Choice{{Says: "the key is " + strings.Join(key, " and ")},
		{Says: "none: every line is added as a row", lines: []string{"    key: none  # chosen by hand"}}}
	if key == nil {
		all = []Choice{{Says: "none: every line is added as a row"}}
	}
	return append(all, Choice{Says: "other columns of the table", Asks: "their names, with commas between them",
		lines: []string{"    key: [" + typed + "]  # chosen by hand"}, check: b.mayBeKey})
}

// mayBeKey returns what is wrong with columns, with commas between them, as a key.
func (b *block) mayBeKey(columns string) error {
	for name := range strings.SplitSeq(columns, ",") {
		if name = strings.TrimSpace(name); !b.feeds(name) {
			return fmt.Errorf("nothing feeds a column %q of %s", name, b.table.Name)
		}
	}
	return nil
}

// matchChoices are what can feed a column of a table.
func (w *writer) matchChoices(b *block, x assignment) []Choice {
	guess := Choice{Says: strings.Join(x.names(b.file), " and ")}
	if c := cmpColumn(x); c != nil {
		guess.Samples = c.sample()
	}
	if x.lookup != nil {
		guess.Says += ", looked up in " + x.lookup.table.Name
	}
	all := []Choice{guess}
	for _, c := range w.candidates(b, x) {
		source := ladlefile.Scalar(c.ref)
		if x.single() != nil {
			source = fmt.Sprintf("{from: %s, lookup: %s}", ladlefile.Flow(c.ref),
				ladlefile.Flow(x.lookup.table.Name+"."+x.lookup.by[0].of.Name))
		}
		all = append(all, Choice{Says: c.Name, Samples: c.sample(),
			lines: []string{fmt.Sprintf("      %s: %s  # chosen by hand", ladlefile.Scalar(x.of.Name), source)}})
	}
	if !x.of.Required {
		return append(all, Choice{Says: "nothing: the column is left out", lines: leave})
	}
	return append(all, sameValue(x.of), Choice{Says: "none of them: leave it open for now", lines: []string{
		fmt.Sprintf("      # ? %s is required", ladlefile.OneLine(x.of.Name)),
		fmt.Sprintf("      # %s: {constant: ...}", ladlefile.Scalar(x.of.Name))}})
}

// sameValue is the choice to give all lines the same value.
func sameValue(c *schema.Column) Choice {
	check := func(text string) error {
		if !readable(text, c) {
			return fmt.Errorf("%q is no value of a column %s", text, c.Declared)
		}
		return nil
	}
	return Choice{Says: "the same value for all lines", Asks: "the value", quotes: true, check: check,
		lines: []string{fmt.Sprintf("      %s: {constant: %s}  # chosen by hand", ladlefile.Scalar(c.Name), typed)}}
}

// names are the columns of the file that feed a column.
func (f assignment) names(of *file) (all []string) {
	for _, c := range of.columns {
		if f.uses(c) {
			all = append(all, c.Name)
		}
	}
	return all
}

func cmpColumn(x assignment) *column {
	if x.column != nil {
		return x.column
	}
	return x.single()
}

// candidates are other columns of the file that could feed a column, the likeliest first.
func (w *writer) candidates(b *block, x assignment) (all []*column) {
	const most = 4
	if x.rival != nil {
		all = append(all, x.rival)
	}
	of := x.of
	if x.single() != nil {
		of = x.lookup.by[0].of
	}
	if x.lookup != nil && x.single() == nil {
		return nil
	}
	for _, c := range b.file.columns {
		free := !slices.ContainsFunc(w.blocks, func(o *block) bool { return o.file == b.file && !o.unused(c) })
		if free && c != x.rival && len(all) < most && compatible(c.Type, of) {
			all = append(all, c)
		}
	}
	return all
}

// nameChoices are what can become of names that a lookup doesn't find; adds says that the draft adds them.
func (w *writer) nameChoices(b *block, block string, x assignment, missing []string, adds bool) []Choice {
	set := func(value string) []ladlefile.Setting {
		return []ladlefile.Setting{{At: []string{"tables", block, "columns", x.of.Name}, Key: "not_found",
			Value: value}}
	}
	aside := Choice{Says: "their lines are set aside"}
	added := Choice{Says: "they are new: each becomes a row of " + x.lookup.table.Name}
	all := []Choice{aside}
	if adds {
		aside.settings = set("set_aside")
		all = []Choice{added, aside}
	}
	var pairs []ladlefile.Pair
	for _, m := range missing {
		if like := w.values.like(place{x.lookup.table, x.lookup.by[0].of.Name}, m); like != "" {
			pairs = append(pairs, ladlefile.Pair{Key: m, Value: like})
		}
	}
	if pairs != nil {
		all = append(all, Choice{Says: "they are slips: " + said(pairs), settings: []ladlefile.Setting{
			{At: []string{"inputs", b.file.input, "columns", x.single().ref}, Key: "recode", Value: pairs, Add: true}}})
	}
	if t := x.lookup.table; !adds && t.Identity() != nil && len(t.Missing([]string{x.lookup.by[0].of.Name})) == 0 &&
		isNames(t) {
		added.settings = set("add")
		all = append(all, added)
	}
	if !x.of.Required {
		all = append(all, Choice{Says: x.of.Name + " stays blank for them", settings: set("leave_blank")})
	}
	return all
}

func said(pairs []ladlefile.Pair) string {
	const most = 3
	var all []string
	for _, p := range pairs[:min(len(pairs), most)] {
		all = append(all, fmt.Sprintf("%q is %q", p.Key, p.Value))
	}
	if more := len(pairs) - most; more > 0 {
		all = append(all, fmt.Sprintf("and %d more", more))
	}
	return strings.Join(all, ", ")
}

// requiredChoices are what can feed a required column without a source.
func (w *writer) requiredChoices(b *block, name string) []Choice {
	all := []Choice{{Says: "leave it open for now"}}
	of := b.table.Column(name)
	for _, c := range w.candidates(b, assignment{of: of}) {
		all = append(all, Choice{Says: c.Name, Samples: c.sample(),
			lines: []string{fmt.Sprintf("      %s: %s  # chosen by hand", ladlefile.Scalar(name),
				ladlefile.Scalar(c.ref))}})
	}
	return append(all, sameValue(of))
}
