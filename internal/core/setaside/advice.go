package setaside

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"ladle/internal/core/clean"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/notation"
	"ladle/internal/core/plan"
	"ladle/internal/core/reason"
	"ladle/internal/core/source"
	"ladle/internal/core/text"
	"ladle/internal/core/value"
)

// Advice is what would solve the problems of a group.
type Advice struct {
	// of the ladle file; each solves them by itself, the likeliest first
	Settings []ladlefile.Setting `json:"settings"`
	// how many of them the first setting solves, where it is not all
	Covers int64    `json:"covers,omitempty"`
	Note   Note     `json:"note,omitempty"` // what to know of the settings, or what to do where there are none
	Words  []string `json:"words"`          // that Note speaks of
	Says   string   `json:"says,omitempty"` // Note in words
}

// Note is what to know of a setting, or what a person must do.
type Note string

const (
	NoteCuts       Note = "cuts"                  // texts are cut
	NoteRounds     Note = "rounds"                // numbers are rounded
	NoteOverwrites Note = "overwrites"            // rows that differ are updated, or kept
	NoteMidnight   Note = "midnight"              // dates become the midnight that they start with
	NoteIfNothing  Note = "if_it_means_nothing"   // the cells become blank
	NoteIfZeros    Note = "if_zeros_mean_nothing" // the zeros are lost
	NoteAmbiguous  Note = "ambiguous"             // no line tells which of the settings is right
	// Covers of them are written like Words, unlike the rest of the column
	NoteGiveValue Note = "give_a_value"     // default: or if_blank:
	NoteGiveZone  Note = "give_a_zone"      // time_zone:
	NoteGiveWords Note = "give_words"       // yes_is: and no_is:, with the Words of this file
	NoteOwnBlock  Note = "block_of_its_own" // the lookup table needs more columns: a block of its own
)

var notes = map[Note]string{
	NoteCuts:       "this cuts the texts; the longest has %s",
	NoteOverwrites: "the first writes what the file says, the second leaves the rows as they are",
	NoteRounds:     "this rounds the numbers",
	NoteMidnight:   "the time becomes midnight, the start of the day",
	NoteIfNothing:  "if these cells mean blank",
	NoteIfZeros:    "if the zeros have no meaning",
	NoteAmbiguous:  "no line shows which is right",
	NoteGiveValue:  "give the column a value for blanks with default: or if_blank:",
	NoteGiveZone:   "set time_zone: in the input, for example time_zone: Europe/Lisbon",
	NoteGiveWords:  "set yes_is: and no_is: to the words that mean yes and no",
	NoteOwnBlock:   "to add new names, give %s a block of its own: its rows need %s too",
}

// advisor learns from the reasons of a group what would solve them.
type advisor struct {
	examples  []*candidate // of notations of numbers
	patterns  []*candidate // of dates
	words     []string     // cells, as long as there are few different ones
	many      bool
	tries     int              // cells that candidates were looked for in
	near      []ladlefile.Pair // names, and what they are like
	unsettled int64            // names that are like new ones only
	longest   int              // characters
	blanks    int64            // lines that lack what others with their key have
}

// candidate is a notation and how many cells are written so.
type candidate struct {
	says  string
	reads func(cell string) bool
	count int64
}

const (
	mostCandidates = 6
	mostWords      = 8
	mostTries      = 1000
)

// see learns from a reason.
func (a *advisor) see(r ColumnReason) {
	if r.Kind == reason.OddLine && r.Value == "" && r.Theirs != "" {
		a.blanks++
	}
	if r.Content == "" {
		return
	}
	a.longest = max(a.longest, utf8.RuneCountInString(r.Content))
	if !a.many && !slices.Contains(a.words, r.Content) {
		if a.words = append(a.words, r.Content); len(a.words) > mostWords {
			a.many, a.words = true, nil
		}
	}
	if r.Near != "" && r.IsNew {
		a.unsettled++ // which of the two is right, nobody knows
	}
	if r.Near != "" && !r.IsNew && len(a.near) < mostWords {
		if p := (ladlefile.Pair{Key: r.Content, Value: r.Near}); !slices.Contains(a.near, p) {
			a.near = append(a.near, p)
		}
	}
	switch {
	case aboutNumbers(r.Kind):
		a.examples = a.consider(a.examples, r.Content, numbersLike)
	case aboutDates(r.Kind):
		a.patterns = a.consider(a.patterns, r.Content, datesLike)
	}
}

func aboutNumbers(k reason.Kind) bool {
	return k == reason.NotNumber || k == reason.NotPlainNumber || k == reason.NotNumberLike
}

func aboutDates(k reason.Kind) bool {
	return slices.Contains([]reason.Kind{reason.NotDate, reason.NotDateTime, reason.NotTime, reason.NotDateLike,
		reason.MoreThanDate, reason.NoSuchMoment}, k)
}

// consider counts the cell for the candidates that read it, and adds those that it could be the first of.
func (a *advisor) consider(all []*candidate, cell string, like func(string) []*candidate) []*candidate {
	known := false
	for _, c := range all {
		if c.reads(cell) {
			c.count++
			known = true
		}
	}
	if known || len(all) >= mostCandidates || a.tries == mostTries {
		return all
	}
	a.tries++
	for _, c := range like(cell) {
		c.count = 1
		all = append(all, c)
	}
	return all
}

func numbersLike(cell string) []*candidate {
	example := notation.Guess(cell)
	n, err := notation.NumberLike(example)
	if err != nil {
		return nil
	}
	return []*candidate{{says: example, reads: func(cell string) bool {
		_, _, err := n.Scan(nil, []byte(cell))
		return err == nil
	}}}
}

func datesLike(cell string) (all []*candidate) {
	var first value.Moment
	for _, text := range notation.Fitting([]string{cell}, 2) {
		p, err := notation.NewPattern(text, notation.CenturyFrom())
		if err != nil {
			continue
		}
		dates := notation.NewDates(p)
		m, _ := dates.Scan([]byte(cell))
		if all != nil && m == first {
			continue // another way to say the same
		}
		first = m
		all = append(all, &candidate{says: text, reads: func(cell string) bool {
			_, err := dates.Scan([]byte(cell))
			return err == nil
		}})
	}
	return all
}

// best is the candidate that reads most; tied tells that another one reads as many.
func best(all []*candidate) (one, tied *candidate) {
	for _, c := range all {
		switch {
		case one == nil || c.count > one.count:
			one, tied = c, nil
		case c.count == one.count && tied == nil:
			tied = c
		}
	}
	return one, tied
}

// advise returns what to do about a group, nil where nothing is known.
func (g *group) advise(f *ladlefile.File) *Advice {
	a := g.advice(place{f, g})
	if a == nil || a.Settings == nil && a.Note == "" {
		return nil
	}
	if a.Settings == nil {
		a.Settings = []ladlefile.Setting{}
	} else if a.Covers == g.Count {
		a.Covers = 0
	}
	switch a.Note {
	case NoteCuts:
		a.Words = []string{reason.Plural(int64(g.longest), "character")}
		a.Says = fmt.Sprintf(notes[a.Note], a.Words[0])
	case NoteOwnBlock:
		a.Says = fmt.Sprintf(notes[a.Note], a.Words[0], strings.Join(a.Words[1:], ", "))
	default:
		a.Says = notes[a.Note]
	}
	return a
}

// setting is the advice of one setting.
func setting(s ladlefile.Setting, n Note) *Advice {
	return &Advice{Settings: []ladlefile.Setting{s}, Note: n}
}

func (g *group) advice(at place) *Advice {
	switch k := g.Why.Kind; {
	case k == reason.Contradiction, k == reason.OddLine, k == reason.AgainstOdd:
		return g.contradictionAdvice(at)
	case k == reason.AlreadyThere:
		return &Advice{Settings: []ladlefile.Setting{at.block("already_there", "update"), at.block("already_there",
			"keep")},
			Note: NoteOverwrites}
	case g.Column == "":
		return nil
	case k == reason.NotAmong:
		return g.amongAdvice(at)
	case aboutNumbers(k):
		return g.numberAdvice(at)
	case aboutDates(k):
		return g.dateAdvice(at)
	case k == reason.DateWithoutTime:
		return setting(at.rule("date", "yyyy-MM-dd"), NoteMidnight)
	case k == reason.TooLong && g.Why.Type == "characters":
		return setting(at.rule("shorten_to", g.Why.Limit), NoteCuts)
	case k == reason.TooManyDecimals:
		return setting(at.rule("round", g.Why.Limit), NoteRounds)
	case k == reason.HasFraction:
		return setting(at.rule("round", 0), NoteRounds)
	case k == reason.ZoneMissing:
		return &Advice{Note: NoteGiveZone}
	case k == reason.NotYesNo:
		return &Advice{Note: NoteGiveWords, Words: g.words}
	case k == reason.BlankRequired, k == reason.BlankInNew:
		return &Advice{Note: NoteGiveValue}
	case k == reason.CellError && g.words != nil:
		return setting(at.rule("blank_is", g.words), NoteIfNothing)
	case k == reason.LeadingZero:
		return setting(at.rule("number", "0001"), NoteIfZeros)
	case k == reason.NotFound || k == reason.LooksLike:
		return g.lookupAdvice(at)
	}
	return nil
}

// contradictionAdvice takes what most lines have, where one is against many, or one of the lines as it is; a blank can
// be filled from the other lines.
func (g *group) contradictionAdvice(at place) *Advice {
	a := &Advice{}
	if key := at.keyColumn(); g.Why.Kind == reason.OddLine && g.blanks == g.Count && key != "" {
		a.Settings = append(a.Settings, ladlefile.Setting{At: []string{"inputs", g.Input, "columns"},
			Under: g.Why.List.String(), Key: "if_blank",
			Value: []ladlefile.Pair{{Key: "as_in_lines_with_same", Value: key}}})
	}
	if g.Why.Kind != reason.Contradiction {
		a.Settings = append(a.Settings, at.block("contradictions", "most"))
	}
	a.Settings = append(a.Settings, at.block("contradictions", "first"), at.block("contradictions", "last"))
	return a
}

// amongAdvice recodes words to those of a list that they look like.
func (g *group) amongAdvice(at place) *Advice {
	var pairs []ladlefile.Pair
	for _, w := range g.words {
		if near := text.Nearest(w, g.Why.List.All()); near != "" {
			pairs = append(pairs, ladlefile.Pair{Key: w, Value: near})
		}
	}
	if pairs == nil {
		return nil
	}
	return setting(at.rule("recode", pairs), "")
}

// lookupAdvice is what to do about names that a lookup doesn't find, or doesn't add.
func (g *group) lookupAdvice(at place) *Advice {
	a := &Advice{}
	if trimmed := func(p ladlefile.Pair) bool { return strings.TrimSpace(p.Key) == p.Value }; g.near != nil &&
		!slices.ContainsFunc(g.near, func(p ladlefile.Pair) bool { return !trimmed(p) }) {
		return setting(at.rule("clean", "trim"), "")
	}
	if g.near != nil {
		a.Settings = append(a.Settings, at.rule("recode", g.near))
		if g.unsettled > 0 {
			a.Covers = g.Count - g.unsettled
		}
	}
	l, where := at.lookup()
	switch {
	case l == nil && g.Why.Kind == reason.LooksLike: // the key of a block
		a.Settings = append(a.Settings, at.block("similar_names", "accept"))
	case l == nil || l.Implied:
	case g.Why.Kind == reason.LooksLike:
		a.Settings = append(a.Settings, ladlefile.Setting{At: where, Key: "similar_names", Value: "accept"})
	case g.near == nil:
		if l.MayAdd() == "" {
			a.Settings = append(a.Settings, ladlefile.Setting{At: where, Key: "not_found", Value: "add"})
		} else if missing := l.Table.Missing(l.Names()); missing != nil && l.Makers == nil {
			a.Note, a.Words = NoteOwnBlock, append([]string{l.Table.Name}, missing...)
		}
		if column := g.of.Step.Table.Column(g.of.Target); column != nil && !column.Required && l == g.of.Lookup {
			a.Settings = append(a.Settings, ladlefile.Setting{At: where, Key: "not_found", Value: "leave_blank"})
		}
	}
	return a
}

// numberAdvice proposes a notation, or what to take for blank.
func (g *group) numberAdvice(at place) *Advice {
	blank := func(w string) bool { return strings.TrimSpace(w) == w || notation.Guess(strings.TrimSpace(w)) == "" }
	if g.words != nil && !slices.ContainsFunc(g.words, blank) {
		return setting(at.rule("clean", "trim"), "")
	}
	if one, _ := best(g.examples); one != nil {
		a := setting(at.rule("number", one.says), "")
		if g.Why.Kind == reason.NotNumberLike {
			a = setting(at.rule("number", append(g.Why.List.All(), one.says)), "")
		}
		a.Covers = one.count
		return a
	}
	if g.words != nil && !slices.ContainsFunc(g.words, func(w string) bool {
		return strings.ContainsAny(w,
			"0123456789")
	}) {
		return setting(at.rule("blank_is", g.words), NoteIfNothing)
	}
	return nil
}

func (g *group) dateAdvice(at place) *Advice {
	one, tied := best(g.patterns)
	k := g.Why.Kind
	switch {
	case one == nil && g.words != nil && k != reason.NoSuchMoment:
		return setting(at.rule("blank_is", g.words), NoteIfNothing)
	case one == nil:
		return nil
	case k == reason.NotDateLike:
		a := setting(at.rule("date", append(g.Why.List.All(), one.says)), "")
		a.Covers = one.count
		return a
	case tied != nil:
		return &Advice{Settings: []ladlefile.Setting{at.rule("date", one.says), at.rule("date", tied.says)},
			Note: NoteAmbiguous}
	case one.count < g.Count || k == reason.NoSuchMoment:
		a := setting(at.rule("date", one.says), "")
		a.Covers = one.count
		return a
	}
	return setting(at.rule("date", []string{one.says, iso(one.says)}), "")
}

// iso is the pattern of ISO 8601 for what another one writes: the other lines of the column are written so.
func iso(pattern string) string {
	if strings.Contains(pattern, "H") || strings.Contains(pattern, "h") {
		return "yyyy-MM-dd HH:mm"
	}
	return "yyyy-MM-dd"
}

// place is where the settings of a group stand in a ladle file.
type place struct {
	file *ladlefile.File
	of   *group
}

// rule is a setting of the rule of the column. It goes into the rule that is there, and what is there of a list or of
// pairs is added to.
func (p place) rule(key string, value any) ladlefile.Setting {
	section, rule := p.ruleThere()
	at := []string{"inputs", p.of.Input, section}
	if rule == nil {
		return ladlefile.Setting{At: at, Under: p.of.Column, Key: key, Value: value}
	}
	at = append(at, p.of.Column)
	switch added := key == "recode" && rule.Recode != nil && rule.Recode.Values != nil; {
	case added, key == "blank_is" && rule.BlankIs != nil:
		return ladlefile.Setting{At: append(at, key), Value: value}
	case key == "clean" && rule.Clean != nil:
		return ladlefile.Setting{At: append(at, key), Value: []string{value.(string)}}
	}
	return ladlefile.Setting{At: at, Key: key, Value: value}
}

// ruleThere is the rule that the column has in the ladle file, nil for none, and the key under which such rules stand.
func (p place) ruleThere() (section string, rule *clean.Rule) {
	if p.file == nil {
		return "columns", nil
	}
	for _, in := range p.file.Inputs {
		if in.Name.Value != p.of.Input {
			continue
		}
		for i := range in.Rules {
			if source.FoldName(in.Rules[i].Name.Text) == source.FoldName(p.of.Column) {
				return "columns", &in.Rules[i].Rule
			}
		}
		for i := range in.Made {
			if source.FoldName(in.Made[i].Name.Text) == source.FoldName(p.of.Column) {
				return "new_columns", &in.Made[i].Rule
			}
		}
	}
	return "columns", nil
}

// block is a setting of the block of the step.
func (p place) block(key string, value any) ladlefile.Setting {
	return ladlefile.Setting{At: []string{"tables", p.of.of.Step.Block.Written()}, Key: key, Value: value}
}

// keyColumn is the column of the file that is the key of the step; "" where it is not one alone, or the file has rules
// for the column that a reason is about.
func (p place) keyColumn() string {
	s := p.of.of.Step
	if s == nil || len(s.Key) != 1 || p.file == nil {
		return ""
	}
	odd := &group{Group: Group{Input: p.of.Input, Column: p.of.Why.List.String()}}
	if _, rule := (place{p.file, odd}).ruleThere(); rule != nil {
		return ""
	}
	return s.Columns[s.Key[0]].Source.Header
}

// lookup finds the lookup of the step that a reason is about, and where it stands in the ladle file; nil where there is
// none.
func (p place) lookup() (*plan.Lookup, []string) {
	of := p.of.of
	if of.Step == nil {
		return nil, nil
	}
	return lookupIn(of.Lookup, p.of.Why, []string{"tables", of.Step.Block.Written(), "columns", of.Target})
}

// lookupIn looks for the lookup that why is about in l and in those inside of it.
func lookupIn(l *plan.Lookup, why reason.Why, at []string) (*plan.Lookup, []string) {
	if l == nil {
		return nil, nil
	}
	if l.Table.Name == why.Table && reason.List(l.Names()...) == why.Columns {
		return l, at
	}
	for _, by := range l.By {
		if found, where := lookupIn(by.Source.Lookup, why, append(slices.Clone(at), "lookup", "by",
			by.Column.Name)); found != nil {
			return found, where
		}
	}
	return nil, nil
}
