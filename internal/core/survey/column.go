package survey

import (
	"bytes"
	"math/bits"
	"unicode"
	"unicode/utf8"

	"ladle/internal/core/clean"
	"ladle/internal/core/source"
)

// numbers is what was seen of a column read as numbers in one way.
type numbers struct {
	least, most             decimal
	leastNumber, mostNumber float64 // the same, where both are exact
	exact                   bool
	any                     bool
	whole, fraction         int // the most digits before and after the point
}

func (n *numbers) add(d decimal) {
	w, f := len(bytes.TrimLeft(d.whole, "0")), len(d.fraction)
	n.whole, n.fraction = max(n.whole, w), max(n.fraction, f)
	if !n.any || d.compare(n.least) < 0 {
		n.extend(&n.least, d)
	}
	if !n.any || d.compare(n.most) > 0 {
		n.extend(&n.most, d)
	}
	n.any = true
}

// extend sets the least or the greatest number.
func (n *numbers) extend(end *decimal, d decimal) {
	*end = d.clone()
	n.exact = n.least.exact() && n.most.exact()
	n.leastNumber, n.mostNumber = n.least.float(), n.most.float()
}

func (n *numbers) merge(o *numbers) {
	if !o.any {
		return
	}
	n.whole, n.fraction = max(n.whole, o.whole), max(n.fraction, o.fraction)
	if !n.any || o.least.compare(n.least) < 0 {
		n.extend(&n.least, o.least)
	}
	if !n.any || o.most.compare(n.most) > 0 {
		n.extend(&n.most, o.most)
	}
	n.any = true
}

// moments is what was seen of a column read as dates in one way.
type moments struct {
	least, most int64
	any         bool
}

func (m *moments) add(at int64) {
	if !m.any || at < m.least {
		m.least = at
	}
	if !m.any || at > m.most {
		m.most = at
	}
	m.any = true
}

// stats is what was seen of a column in a chunk, or in all of them.
type stats struct {
	given, empty         int64
	blankWords           map[string]*places
	groups               map[forms]*places // cells by what they fit
	group                *places           // the one of groups that was used last
	groupFits            forms
	known                []knownCell // by hash; nil where it doesn't help
	met, metAgain        int         // cells that were not known, and those that were
	odd, numeric         bool        // of the cell last taken: something is odd in it; it has a bucket
	number, length       int32       // of the cell last taken: its bucket, and that of its length
	kind                 uint8       // of the bucket
	short                int64       // dates with days or months of a single digit
	clocks               map[string]int64
	writings             map[writing]int64
	whole, dot, comma    numbers // without marks, and with those of either reading
	dates                [15]moments
	times                moments
	leastText, mostText  string
	anyText              bool
	lengths              [lengthBuckets]int64 // of characters: see lengthBucket
	shortest, longest    int
	longestAt            int64  // the position of the first cell of that length
	zeros                places // digits that start with a zero
	outer, doubled, hard places // blanks around, doubled ones, no-break ones
	controls             places // characters that don't show
	looks                [looks]int64
	faulty               places // cells that can't be trusted
	numberTexts          places // of a sheet: numbers that are stored as texts
	lost                 places // numbers whose last digits a spreadsheet has dropped
	stored               [8]int64
	buckets              [bucketKinds]map[int32]*int64
	bucketLast           *int64 // the one of buckets that was used last
	coarse               int32  // bits of the numbers of buckets that are left out, to have fewer of them
	clockLast            string // the pattern of times that was met last, and how often since
	clockCount           int64
}

// The kinds of buckets: of whole numbers, of others with a decimal point or comma, and of dates and times.
const (
	wholeBuckets = iota
	dotBuckets
	commaBuckets
	momentBuckets
	bucketKinds
)

// newStats is for a column of a table with so many.
func newStats(columns int) *stats {
	s := &stats{blankWords: map[string]*places{}, groups: map[forms]*places{}, clocks: map[string]int64{},
		writings: map[writing]int64{}}
	for i := range s.buckets {
		s.buckets[i] = map[int32]*int64{}
	}
	if columns <= fewColumns {
		s.known = make([]knownCell, knownCells)
	} else {
		s.coarse = 1<<5 - 1
	}
	return s
}

// add takes the distinct cells of a chunk.
func (s *stats) add(t *tally) {
	for i := range t.entries {
		e := &t.entries[i]
		var known *knownCell
		if s.known != nil {
			known = &s.known[e.hash>>8%knownCells]
			if known.hash == e.hash && known.stored == e.stored && known.group != nil && known.group.full(e.first) {
				s.again(known, int64(e.count))
				continue
			}
		}
		s.odd = false
		if text := t.text(e); e.stored != uint8(source.StoredBlank) || !s.plain(text, int64(e.count), e.first) {
			s.cell(text, source.Stored(e.stored), int64(e.count), e.first)
		}
		if !s.odd && known != nil {
			*known = knownCell{hash: e.hash, group: s.group, length: s.length, stored: e.stored}
			if s.numeric {
				known.bucket = s.bucketLast
			}
		}
	}
	if s.met += len(t.entries); s.met > 4*knownCells && s.met > 4*s.metAgain {
		s.known = nil
	}
}

// again takes a cell that was met before, with nothing odd in it.
func (s *stats) again(k *knownCell, n int64) {
	s.metAgain++
	s.given += n
	s.stored[k.stored] += n
	s.lengths[k.length] += n
	k.group.count += n
	if k.bucket != nil {
		*k.bucket += n
	}
}

// knownCell is a cell with nothing odd in it that was met.
type knownCell struct {
	hash   uint64
	group  *places
	length int32 // that of its length
	stored uint8
	bucket *int64 // of a number or moment
}

const (
	knownCells = 1 << 14
	fewColumns = 64 // of a table whose cells are remembered
)

// cell takes a cell that came n times, first at position.
func (s *stats) cell(cell []byte, stored source.Stored, n, position int64) {
	if stored == source.StoredFault {
		return // it is told as such
	}
	text := cell
	if len(cell) > 0 && (cell[0] <= ' ' || cell[len(cell)-1] <= ' ' || cell[0] >= 0x80 || cell[len(cell)-1] >= 0x80) {
		text = bytes.TrimSpace(cell)
	}
	s.numeric = false
	if len(text) == 0 {
		s.odd = true
		s.empty += n
		if len(cell) > 0 {
			s.outer.add(n, position, cell)
		}
		return
	}
	s.stored[stored] += n
	of := classesOf(cell)
	s.shape(cell, text, of, n, position)
	if isBlankWord(text) {
		word := s.blankWords[string(text)]
		if word == nil {
			word = &places{}
			s.blankWords[string(text)] = word
		}
		word.add(n, position, cell)
		s.odd = true
		return
	}
	s.given += n
	r := readCell(text, of)
	if r.fits == 0 {
		s.text(text, of, n)
	} else {
		s.reading(&r, n)
	}
	if s.group == nil || s.groupFits != r.fits {
		s.groupFits, s.group = r.fits, s.groups[r.fits]
		if s.group == nil {
			s.group = &places{}
			s.groups[r.fits] = s.group
		}
	}
	s.group.add(n, position, cell)
	if r.zeros {
		s.odd = true
		s.zeros.add(n, position, cell)
	}
	if stored != source.StoredNumber && clean.HasLostDigits(text) {
		s.odd = true
		s.lost.add(n, position, cell)
	}
	if stored == source.StoredText && r.fits&(fitDot|fitComma) != 0 {
		s.odd = true
		s.numberTexts.add(n, position, cell)
	}
	if !s.anyText || string(text) < s.leastText {
		s.leastText = string(text)
	}
	if !s.anyText || string(text) > s.mostText {
		s.mostText = string(text)
	}
	s.anyText = true
}

// shape notes length and blanks.
func (s *stats) shape(cell, text []byte, of class, n, position int64) {
	if len(text) < len(cell) {
		s.odd = true
		s.outer.add(n, position, cell)
	}
	length := len(cell)
	if of.has(classWide) {
		length = utf8.RuneCount(cell)
		if bytes.Contains(cell, []byte("\u00a0")) || bytes.Contains(cell, []byte("\u202f")) {
			s.odd = true
			s.hard.add(n, position, cell)
		}
	}
	if of.has(classBlank) && bytes.Contains(text, []byte("  ")) {
		s.odd = true
		s.doubled.add(n, position, cell)
	}
	if of.has(classControl) || of.has(classWide) && bytes.IndexFunc(cell, unicode.IsControl) >= 0 {
		s.odd = true
		s.controls.add(n, position, cell)
	}
	s.length = int32(lengthBucket(length))
	s.lengths[s.length] += n
	if s.longest == 0 || length < s.shortest {
		s.shortest = length
	}
	s.longer(length, position)
}

// longer notes the length of a cell, or of the longest that was seen elsewhere.
func (s *stats) longer(length int, position int64) {
	if length > s.longest || length == s.longest && position < s.longestAt {
		s.longest, s.longestAt = length, position
	}
}

const lengthBuckets = 64 + 32

// lengthBucket is the bucket of a length: one for each up to 63, then one for each power of two.
func lengthBucket(n int) int {
	if n < 64 {
		return n
	}
	return min(64+bits.Len(uint(n))-7, lengthBuckets-1)
}

// reading takes a cell that could be a number, a date or the like.
func (s *stats) reading(r *cellForm, n int64) {
	switch {
	case r.fits&fitWhole != 0:
		s.whole.add(r.dot)
		s.bucket(wholeBuckets, r.dot.float(), n)
	case r.fits&(fitDot|fitComma) != 0:
		if r.fits&fitDot != 0 {
			s.dot.add(r.dot)
			s.bucket(dotBuckets, r.dot.float(), n)
		}
		if r.fits&fitComma != 0 {
			s.odd = true
			s.comma.add(r.comma)
			s.bucket(commaBuckets, r.comma.float(), n)
		}
	case r.fits&anyDate != 0:
		s.bucket(momentBuckets, float64(r.moment[0]), n)
	case r.fits&fitTime != 0:
		s.bucket(momentBuckets, float64(r.micros), n)
	}
	for i, p := range r.patterns {
		if p >= 0 {
			s.dates[p].add(r.moment[i])
		}
	}
	if r.short {
		s.short += n
	}
	if r.fits&fitTime != 0 {
		s.times.add(r.micros)
	}
	if r.clock != "" {
		s.odd = true
		if r.clock != s.clockLast {
			s.clocks[s.clockLast] += s.clockCount
			s.clockLast, s.clockCount = r.clock, 0
		}
		s.clockCount += n
	}
	if r.writing != (writing{}) && r.fits&(fitDot|fitComma) != 0 {
		s.odd = true
		r.writing.as = r.fits & (fitDot | fitComma)
		s.writings[r.writing] += n
		if r.writing.before+r.writing.behind != "" {
			s.looks[lookOf(r.writing)] += n
		}
	}
}

// bucket counts a value for a histogram.
func (s *stats) bucket(kind int, f float64, n int64) {
	number := bucketOf(f) &^ s.coarse
	if s.bucketLast == nil || number != s.number || uint8(kind) != s.kind {
		s.bucketLast = s.buckets[kind][number]
		if s.bucketLast == nil {
			s.bucketLast = new(int64)
			s.buckets[kind][number] = s.bucketLast
		}
	}
	s.number, s.kind, s.numeric = number, uint8(kind), true
	*s.bucketLast += n
}

// settle counts what was put off.
func (s *stats) settle() {
	if s.clockCount > 0 {
		s.clocks[s.clockLast] += s.clockCount
		s.clockCount = 0
	}
}

// merge adds what was seen elsewhere.
func (s *stats) merge(o *stats) {
	o.settle()
	s.given, s.empty, s.short = s.given+o.given, s.empty+o.empty, s.short+o.short
	mergeSpots(s.blankWords, o.blankWords, 50)
	mergeSpots(s.groups, o.groups, 1000)
	mergeCounts(s.clocks, o.clocks)
	mergeCounts(s.writings, o.writings)
	for i := range s.lengths {
		s.lengths[i] += o.lengths[i]
	}
	if o.longest > 0 && (s.longest == 0 || o.shortest < s.shortest) {
		s.shortest = o.shortest
	}
	s.longer(o.longest, o.longestAt)
	for i := range s.buckets {
		for k, n := range o.buckets[i] {
			if mine := s.buckets[i][k]; mine != nil {
				*mine += *n
			} else {
				s.buckets[i][k] = n
			}
		}
	}
	s.whole.merge(&o.whole)
	s.dot.merge(&o.dot)
	s.comma.merge(&o.comma)
	for i := range s.dates {
		s.dates[i].merge(o.dates[i])
	}
	s.times.merge(o.times)
	if o.anyText {
		if !s.anyText || o.leastText < s.leastText {
			s.leastText = o.leastText
		}
		if !s.anyText || o.mostText > s.mostText {
			s.mostText = o.mostText
		}
		s.anyText = true
	}
	for _, pair := range [][2]*places{{&s.zeros, &o.zeros}, {&s.outer, &o.outer}, {&s.doubled, &o.doubled},
		{&s.hard, &o.hard},
		{&s.controls, &o.controls}, {&s.faulty, &o.faulty}, {&s.numberTexts, &o.numberTexts}, {&s.lost, &o.lost}} {
		pair[0].merge(pair[1])
	}
	for i := range s.looks {
		s.looks[i] += o.looks[i]
	}
	for i := range s.stored {
		s.stored[i] += o.stored[i]
	}
}

func (m *moments) merge(o moments) {
	if o.any {
		m.add(o.least)
		m.add(o.most)
	}
}

func mergeCounts[K comparable](to, from map[K]int64) {
	for k, n := range from {
		to[k] += n
	}
}
