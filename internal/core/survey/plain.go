package survey

import "ladle/internal/core/source"

// plain takes a cell of text that came n times, first at position, where it is a plain number or an ISO date that changes
// nothing but counts: most cells of columns that hardly repeat are such. It does what cell does; false, with nothing taken,
// for any other one.
func (s *stats) plain(cell []byte, n, position int64) bool {
	if len(cell) == 0 || len(cell) > 16 || cell[0] < '0' || cell[0] > '9' || !s.within(cell, position) {
		return false
	}
	fits, kind, number, ok := s.plainNumber(cell)
	if !ok {
		if fits, number, ok = s.plainMoment(cell); !ok {
			return false
		}
		kind = momentBuckets
	}
	group := s.group
	if group == nil || s.groupFits != fits {
		group = s.groups[fits]
	}
	if group == nil || !group.full(position) {
		return false
	}
	s.groupFits, s.group = fits, group
	group.count += n
	s.stored[source.StoredBlank] += n
	s.given += n
	s.length = int32(len(cell))
	s.lengths[len(cell)] += n
	s.bucket(kind, number, n)
	s.odd = fits&fitClock != 0
	if s.odd {
		s.clockCount += n
	}
	return true
}

// within reports whether a cell of ASCII is neither the first nor the last text so far, nor the shortest or longest.
func (s *stats) within(cell []byte, position int64) bool {
	length := len(cell)
	return s.anyText && string(cell) >= s.leastText && string(cell) <= s.mostText && length >= s.shortest &&
		(length < s.longest || length == s.longest && position >= s.longestAt)
}

// full reports whether a place at position is none of the first.
func (s *places) full(position int64) bool {
	return len(s.first) >= fewSpots && position >= s.first[len(s.first)-1].position
}

// plainNumber reads digits, perhaps with one point among them, that stand for a number within those that the column has;
// see readCell.
func (s *stats) plainNumber(cell []byte) (fits forms, kind int, number float64, ok bool) {
	point, digits := -1, int64(0)
	for i, c := range cell {
		if c -= '0'; c <= 9 {
			digits = digits*10 + int64(c)
			continue
		}
		if cell[i] != '.' || point >= 0 {
			return 0, 0, 0, false
		}
		point = i
	}
	whole, fraction := len(cell), 0
	of := &s.whole
	fits, kind = fitWhole|fitDot|fitComma, wholeBuckets
	if point >= 0 {
		whole, fraction = point, len(cell)-point-1
		of, fits, kind = &s.dot, fitDot, dotBuckets
	}
	switch {
	case whole+fraction > exactDigits,
		cell[0] == '0' && whole > 1,
		point < 0 && len(cell) == len("yyyyMMdd"),
		point >= 0 && (fraction == 0 || fraction == 3 && whole <= 3 && cell[0] != '0'): // it could part thousands
		return 0, 0, 0, false
	}
	number = float64(digits) / powers[fraction]
	return fits, kind, number, of.within(whole, fraction, number)
}

// within reports whether a number is no new extreme.
func (n *numbers) within(whole, fraction int, number float64) bool {
	return n.any && n.exact && number >= n.leastNumber && number <= n.mostNumber && whole <= n.whole && fraction <= n.fraction
}

// plainMoment reads an ISO date, or one with hours and minutes, within those that the column has.
func (s *stats) plainMoment(cell []byte) (fits forms, number float64, ok bool) {
	r := cellForm{patterns: [2]int{-1, -1}}
	switch {
	case len(cell) == len("yyyy-MM-dd HH:mm") && s.clockLast == clockPatterns[1]:
		if !r.minute(cell) {
			return 0, 0, false
		}
		fits = r.fits
	case len(cell) == len("yyyy-MM-dd") && cell[4] == '-' && cell[7] == '-':
		if r.day(cell); r.patterns[0] != 0 {
			return 0, 0, false
		}
		fits = dateFit(0)
	default:
		return 0, 0, false
	}
	at, seen := r.moment[0], &s.dates[0]
	return fits, float64(at), seen.any && at >= seen.least && at <= seen.most
}
