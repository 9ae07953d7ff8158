package survey

import (
	"cmp"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"time"

	"ladle/internal/core/notation"
	"ladle/internal/core/source"
)

// Column is what was learnt of a column.
type Column struct {
	Name   string `json:"name"`
	Number int    `json:"number"` // from 1
	// text, whole number, decimal number, date, date and time, time, yes/no, or blank
	Type    string `json:"type"`
	Fit     int64  `json:"fitting_cells"` // cells of that type
	Misfits Oddity `json:"exceptions"`
	// a number by example, a date by its LDML pattern, as the ladle file says it
	Written string `json:"written,omitempty"`
	Unclear string `json:"unclear,omitempty"` // why Written is not sure
	// the first cell that decides between two ways to read dates or numbers
	Decided  *Place   `json:"decided,omitempty"`
	Also     []Count  `json:"also_written"` // other ways to write that were met
	Blank    int64    `json:"blank"`
	Words    []Oddity `json:"blank_words"` // cells that say that there is nothing
	Distinct int64    `json:"distinct"`
	Exact    bool     `json:"distinct_exact"`
	Least    string   `json:"least"`
	Most     string   `json:"greatest"`
	Shortest int      `json:"shortest"`         // characters
	Longest  int      `json:"longest"`          // characters
	LongLine int64    `json:"longest_line"`     // the first line with a cell of that length; 0 for none
	Digits   int      `json:"digits,omitempty"` // of numbers, before and after the point
	Scale    int      `json:"scale,omitempty"`  // of numbers, after the point
	Frequent []Count  `json:"frequent"`
	// the number of distinct values, the first of the file, that Frequent is of
	Counted  int      `json:"frequent_among"`
	Oddities []Oddity `json:"oddities"`
	Looks    string   `json:"looks_like,omitempty"`
	Lengths  []Bar    `json:"lengths"`
	Values   []Bar    `json:"values"` // of numbers, dates and times
}

// NotOfType says of the misfits of c, after their number, what they are not: "is not a date".
func (c *Column) NotOfType() string {
	verb := "are"
	if c.Misfits.Count == 1 {
		verb = "is"
	}
	if c.Type == typeTruth {
		return verb + " neither yes nor no"
	}
	return verb + " not a " + c.Type
}

// Count is a value and how often it came.
type Count struct {
	Value string `json:"value"`
	Count int64  `json:"count"`
}

// Bar is a bar of a histogram, from and to included.
type Bar struct {
	From  string `json:"from"`
	To    string `json:"to"`
	Count int64  `json:"count"`
}

const (
	enough       = 0.9 // of the cells, that a type must fit
	mostFrequent = 10
	bars         = 10
)

// The types of columns.
const (
	typeText     = "text"
	typeWhole    = "whole number"
	typeDecimal  = "decimal number"
	typeDate     = "date"
	typeDateTime = "date and time"
	typeTime     = "time"
	typeTruth    = "yes/no"
	typeBlank    = "blank"
)

// column says what was seen of a column.
func (r *reading) column(i int, name string) *Column {
	s, v := r.stats[i], r.values[i]
	c := &Column{Name: name, Number: i + 1, Blank: s.empty, Shortest: s.shortest, Longest: s.longest,
		Counted: len(v.kept)}
	if s.longest > 0 {
		_, c.LongLine = source.PositionIn(s.longestAt)
	}
	c.Distinct, c.Exact = v.distinct()
	if s.empty > 0 && c.Distinct > 0 {
		c.Distinct-- // the blank one
	}
	for _, w := range slices.Sorted(maps.Keys(s.blankWords)) {
		c.Words = append(c.Words, r.oddity(w, s.blankWords[w], i))
	}
	for _, f := range v.frequent(mostFrequent + 1) {
		if strings.TrimSpace(f.text) != "" && len(c.Frequent) < mostFrequent {
			c.Frequent = append(c.Frequent, Count{shorten(f.text), f.count})
		}
	}
	want := s.decide(c)
	misfits := &places{}
	for _, mask := range slices.Sorted(maps.Keys(s.groups)) {
		if mask&want != want {
			misfits.merge(s.groups[mask])
		}
	}
	if want != 0 {
		c.Misfits = r.oddity("", misfits, i)
	}
	c.Fit = s.given - c.Misfits.Count
	if strings.Contains(c.Written, "MMM") {
		c.nameMonths(v)
	}
	r.settled(c, s, want, i)
	r.oddities(c, s, i)
	c.cases(v)
	s.looksLike(c)
	c.Lengths = s.lengthBars()
	return c
}

// nameMonths says how dates with the names of months are written, by the cells themselves: with a comma or without, the
// names in full or not.
func (c *Column) nameMonths(v *values) {
	var cells []string
	for _, k := range v.kept {
		if text := strings.TrimSpace(k.text); text != "" && !isBlankWord([]byte(text)) {
			cells = append(cells, text)
		}
	}
	if patterns, _, _ := notation.Covering(cells, 1); patterns != nil {
		c.Written = patterns[0]
	}
}

func (s *stats) count(bits forms) (n int64) {
	for mask, group := range s.groups {
		if mask&bits == bits {
			n += group.count
		}
	}
	return n
}

// decide finds the type that fits, and returns the reading that cells of it have; 0 for text.
func (s *stats) decide(c *Column) forms {
	c.Type, c.Least, c.Most = typeText, shorten(s.leastText), shorten(s.mostText)
	if s.given == 0 {
		c.Type = typeBlank
		return 0
	}
	least := int64(math.Ceil(enough * float64(s.given)))
	date, pattern := s.bestDate()
	dot, comma := s.count(fitDot), s.count(fitComma)
	switch {
	case s.count(fitTruth) >= least:
		c.Type = typeTruth
		return fitTruth
	case date >= least && (pattern != 7 || date == s.given && date > 2):
		return s.decideDate(c, pattern)
	case dot >= least && dot >= comma:
		return s.decideNumber(c, fitDot, &s.dot, '.')
	case comma >= least:
		return s.decideNumber(c, fitComma, &s.comma, ',')
	case s.count(fitTime) >= least:
		c.Type, c.Written = typeTime, commonest(s.clocks)
		c.Least, c.Most = clock(s.times.least), clock(s.times.most)
		c.Values = valueBars(s.buckets[momentBuckets:], float64(s.times.least), float64(s.times.most),
			func(f float64) string { return clock(int64(f)) })
		return fitTime
	}
	return 0
}

// bestDate is the pattern that fits most cells, of several the first.
func (s *stats) bestDate() (n int64, pattern int) {
	for p := range datePatterns {
		if m := s.count(dateFit(p)); m > n {
			n, pattern = m, p
		}
	}
	return n, pattern
}

func (s *stats) decideDate(c *Column, pattern int) forms {
	c.Type, c.Written = typeDate, datePatterns[pattern]
	want := dateFit(pattern)
	if s.short > 0 {
		c.Written = strings.NewReplacer("dd", "d", "MMM", "MMM", "MM", "M").Replace(c.Written)
	}
	show := func(micros int64) string { return time.UnixMicro(micros).UTC().Format(time.DateOnly) }
	if timed := s.count(want | fitClock); 2*timed > s.count(want) {
		c.Type = typeDateTime
		c.Written += " " + commonest(s.clocks)
		want |= fitClock
		show = func(micros int64) string { return time.UnixMicro(micros).UTC().Format(time.DateTime) }
	}
	d := s.dates[pattern]
	c.Least, c.Most = show(d.least), show(d.most)
	c.Values = valueBars(s.buckets[momentBuckets:], float64(d.least), float64(d.most),
		func(f float64) string { return show(int64(f)) })
	return want
}

func (s *stats) decideNumber(c *Column, want forms, marked *numbers, point byte) forms {
	all := s.whole
	all.merge(marked)
	c.Type = typeWhole
	if all.fraction > 0 {
		c.Type = typeDecimal
	}
	c.Digits, c.Scale = all.whole+all.fraction, all.fraction
	c.Least, c.Most = all.least.String(), all.most.String()
	buckets := []map[int32]*int64{s.buckets[wholeBuckets], s.buckets[dotBuckets]}
	if want == fitComma {
		buckets[1] = s.buckets[commaBuckets]
	}
	c.Values = valueBars(buckets, all.least.float(), all.most.float(), func(f float64) string { return trimmed(f) })
	s.written(c, want, point)
	return want
}

// written says how numbers are written: the commonest way with marks; and that there are others, where they differ in
// more than the grouping of thousands.
func (s *stats) written(c *Column, want forms, point byte) {
	fraction := c.Scale > 0
	plain, other := s.count(want), false
	var common writing
	for _, w := range sortedWritings(s.writings) {
		if w.as&want == 0 {
			continue
		}
		if common == (writing{}) {
			common = w
		}
		plain -= s.writings[w]
		other = other || w.before+w.behind != "" || w.bracketed || w.trailing
		c.Also = append(c.Also, Count{w.example(point, fraction), s.writings[w]})
	}
	if common != (writing{}) || point == ',' && fraction {
		c.Written = common.example(point, fraction)
	}
	if plain > 0 {
		c.Also = append(c.Also, Count{writing{}.example(point, fraction), plain})
	}
	if !other || len(c.Also) < 2 {
		c.Also = nil
	}
}

func sortedWritings(all map[writing]int64) []writing {
	return slices.SortedFunc(maps.Keys(all), func(a, b writing) int {
		return cmp.Or(cmp.Compare(all[b], all[a]), cmp.Compare(a.example('.', true), b.example('.', true)))
	})
}

func commonest(counts map[string]int64) string {
	best := ""
	for _, k := range slices.Sorted(maps.Keys(counts)) {
		if best == "" || counts[k] > counts[best] {
			best = k
		}
	}
	return best
}

func clock(micros int64) string { return time.UnixMicro(micros).UTC().Format("15:04:05") }

// settled tells by which cell it is decided how numbers and dates are read, or that it isn't.
func (r *reading) settled(c *Column, s *stats, want forms, i int) {
	other := forms(0)
	if want&fitDot != 0 {
		other = fitComma
	} else if want&fitComma != 0 {
		other = fitDot
	}
	for p := range datePatterns {
		if want&dateFit(p) != 0 && swapped[p] >= 0 {
			other = want&^dateFit(p) | dateFit(swapped[p])
		}
	}
	if other == 0 {
		return
	}
	var first *place
	both := int64(0) // cells that read both ways
	for mask, group := range s.groups {
		number := mask&(fitDot|fitComma) != 0 && want&anyDate == 0
		switch {
		case mask&want != want:
		case number && mask&fitSwap != 0, !number && mask&other == other:
			both += group.count
		case number && mask&other == other:
		case first == nil || group.first[0].position < first.position:
			first = &group.first[0]
		}
	}
	switch {
	case both == 0:
	case first != nil:
		at := r.place(first.position, i, first.cell)
		c.Decided = &at
	case want&anyDate != 0:
		c.Unclear = "day and month could be swapped in every cell"
	default:
		c.Unclear = "point and comma could be swapped in every cell"
	}
}

// What the oddities of a column are called that are blanks too many.
const (
	OuterBlanks   = "with leading or trailing blanks"
	DoubledBlanks = "with doubled blanks"
)

// oddities lists what is odd in the cells.
func (r *reading) oddities(c *Column, s *stats, i int) {
	for _, o := range []struct {
		what string
		of   *places
	}{{"with an error", &s.faulty}, {"with leading zeros", &s.zeros}, {OuterBlanks, &s.outer}, {DoubledBlanks, &s.doubled},
		{"with no-break blanks", &s.hard}, {"with invisible characters", &s.controls},
		{"that hold a number as text", &s.numberTexts},
		{"with a number that a spreadsheet wrote in few digits, so that others are lost", &s.lost}} {
		if o.of.count > 0 {
			c.Oddities = append(c.Oddities, r.oddity(o.what, o.of, i))
		}
	}
}

// cases finds words that differ only in capitals and blanks.
func (c *Column) cases(v *values) {
	groups := map[string][]value{}
	for _, k := range v.kept {
		if plain := source.FoldName(k.text); plain != "" && strings.ContainsFunc(plain,
			func(c rune) bool { return c > '9' }) {
			groups[plain] = append(groups[plain], k)
		}
	}
	for _, plain := range slices.Sorted(maps.Keys(groups)) {
		group := groups[plain]
		if len(group) < 2 {
			continue
		}
		o := Oddity{What: "spellings of one word"}
		for _, k := range group {
			o.Count += k.count
			_, line := source.PositionIn(k.first)
			o.Places = append(o.Places, Place{Line: line, Says: shorten(k.text)})
		}
		c.Oddities = append(c.Oddities, o)
		if len(c.Oddities) > 2*mostFrequent {
			return
		}
	}
}

// looksLike says what most cells look like.
func (s *stats) looksLike(c *Column) {
	for l, n := range s.looks {
		if 2*n > s.given {
			c.Looks = lookNames[l]
		}
	}
}

// lengthBars is the histogram of the lengths.
func (s *stats) lengthBars() []Bar {
	width := max(1, (min(s.longest, 63)-s.shortest+bars)/bars)
	var all []Bar
	for from := s.shortest; from <= min(s.longest, 63); from += width {
		b := Bar{From: trimmed(float64(from)), To: trimmed(float64(min(from+width-1, s.longest)))}
		for n := from; n < min(from+width, 64); n++ {
			b.Count += s.lengths[n]
		}
		all = append(all, b)
	}
	for i := 64; i < lengthBuckets; i++ {
		if s.lengths[i] > 0 {
			from := 64 << (i - 64)
			all = append(all, Bar{trimmed(float64(from)), trimmed(float64(min(2*from-1, s.longest))), s.lengths[i]})
		}
	}
	return all
}

// valueBars is the histogram of numbers from least to most.
func valueBars(buckets []map[int32]*int64, least, most float64, show func(float64) string) []Bar {
	if !(most > least) {
		return nil
	}
	width := (most - least) / bars
	all := make([]Bar, bars)
	for i := range all {
		all[i] = Bar{From: show(least + float64(i)*width), To: show(least + float64(i+1)*width)}
	}
	for _, kind := range buckets {
		for b, n := range kind {
			f := bucketStart(b)
			if f < 0 {
				f = bucketStart(b + 1)
			}
			if at := (f - least) / width; at > -1 && at < bars+1 {
				all[min(max(int(at), 0), bars-1)].Count += *n
			}
		}
	}
	return all
}

// trimmed writes a number for people.
func trimmed(f float64) string {
	d := 0
	if math.Abs(f) < 100 && f != math.Trunc(f) {
		d = 2
	}
	return strconv.FormatFloat(f, 'f', d, 64)
}
