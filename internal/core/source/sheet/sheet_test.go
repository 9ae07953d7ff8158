package sheet

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestNumbersAreWhatTheCellHolds(t *testing.T) {
	for text, want := range map[string]string{"0.125": "0.125", "007": "007", "1.1000000000000001": "1.1", "0.1": "0.1",
		"12345678901234567":   "12345678901234567",
		"0.30000000000000004": "0.30000000000000004", "1E3": "1000", "-1.5e-7": "-0.00000015", ".5": "0.5", "5.": "5",
		" 7 ": "7", "-0": "-0", "0": "0",
		"2.2999999999999998": "2.3", "": "", "1e999": "", "NaN": "", "12a": "", "1.2.3": "", "--1": ""} {
		got, ok := number([]byte(text))
		assert.Equal(t, want != "", ok, text)
		assert.Equal(t, want, string(got), text)
	}
}

func TestFormatsOfNumbers(t *testing.T) {
	for code, want := range map[string]display{"General": asNumber, "0.00": asNumber, "#,##0.00 [$€-407]": asNumber,
		"0.00E+00": asNumber, `"day" 0`: asNumber, "@": asNumber,
		"0%": asNumber, `\d0`: asNumber, "[Red]0": asNumber, "dd/mm/yyyy": asDate, "mmm": asDate,
		"[$-409]mmmm d, yyyy;@": asDate, "hh:mm": asTime, "h AM/PM": asTime,
		"yyyy-mm-dd hh:mm": asDateTime, "[h]:mm": asDuration, "[mm]:ss": asDuration, "ggge": asDate,
		"0;[h]:mm": asNumber, `"open`: asNumber, `General" kg"`: asNumber, "[Red]General": asNumber,
		"General;-General": asNumber, "General_)": asNumber, `"Generald" d`: asDate} {
		assert.Equal(t, want, judgeFormat(code), code)
	}
	for id, want := range map[int]display{0: asNumber, 9: asNumber, 14: asDate, 18: asTime, 22: asDateTime,
		46: asDuration, 49: asNumber} {
		assert.Equal(t, want, builtIn(id), id)
	}
}

func TestAreas(t *testing.T) {
	for text, want := range map[string]Area{"B4:K900": {4, 2, 900, 11}, "$B$4:$K$900": {4, 2, 900, 11},
		"b4": {4, 2, 4, 2}, "B:K": {1, 2, 0, 11}, "4:9": {4, 1, 9, 0}, "XFD1048576": {1048576, 16384, 1048576, 16384}} {
		got, ok := ParseArea(text)
		assert.True(t, ok, text)
		assert.Equal(t, want, got, text)
	}
	for _, text := range []string{"", "B", "4", "K4:B9", "B9:K4", "XFE1", "A1048577", "B4:K", "B4:K9:M7", "fleet",
		"A-1"} {
		_, ok := ParseArea(text)
		assert.False(t, ok, text)
	}
	for n, want := range map[int]string{1: "A", 26: "Z", 27: "AA", 702: "ZZ", 703: "AAA", 16384: "XFD"} {
		assert.Equal(t, want, ColumnName(n))
	}
	assert.Equal(t, "B4:K9 B:K 4:9", fmt.Sprint(Area{4, 2, 9, 11}, Area{1, 2, 0, 11}, Area{4, 1, 9, 0}))
}

func TestDurationsOfODF(t *testing.T) {
	for text, want := range map[string]string{"PT26H30M00S": "26:30:00", "PT0S": "00:00:00", "P1DT1H": "25:00:00",
		"-PT30M": "-00:30:00", "PT1.5S": "00:00:01.5", "PT00H00M01,25S": "00:00:01.25"} {
		got, ok := isoDuration(text)
		assert.True(t, ok, text)
		assert.Equal(t, want, got, text)
	}
	for _, text := range []string{"", "26:30", "PTH", "PT5X", "P1Y"} {
		_, ok := isoDuration(text)
		assert.False(t, ok, text)
	}
}

// TestSharedStringsOnDisk: texts beyond what memory holds come back the same, short, long and at borders of blocks.
func TestSharedStringsOnDisk(t *testing.T) {
	s := &sharedStrings{}
	defer s.Close()
	text := func(i int) string { return fmt.Sprintf("%d %s", i, strings.Repeat("x", i*7919%9000)) }
	const texts = 24_000
	for i := range texts {
		require.NoError(t, s.add([]byte(text(i))))
	}
	require.NotNil(t, s.disk, "there must be more than memory holds")
	for i := 0; i < texts; i += 13 {
		got, err := s.get(i)
		require.NoError(t, err)
		require.Equal(t, text(i), string(got))
	}
}

func TestMarkup(t *testing.T) {
	w := newWindow(strings.NewReader(
		`<?xml version="1.0"?><!-- <a> --><x:a b = 'it"s' c:d="1>2"><![CDATA[<b>]]></x:a><e/>`))
	var seen []string
	for {
		tag, err := w.tag()
		if err != nil {
			break
		}
		words := string(tag.name)
		for name, value, more := tag.attr(); more; name, value, more = tag.attr() {
			words += fmt.Sprintf(" %s=%s", name, value)
		}
		seen = append(seen, fmt.Sprint(words, tag.close, tag.empty))
	}
	assert.Equal(t, []string{`a b=it"s d=1>2false false`, "atrue false", "efalse true"}, seen)
	assert.Equal(t, "a<b>\n\n&x;é&", string(unescape(nil, []byte("a&lt;b&gt;\r\n\r&x;&#233;&amp;"))))
	assert.Equal(t, "x\r_x00_", string(unescapeHex([]byte("x_x000D__x00_"), 0)))
	assert.Equal(t, []bool{true, false, false}, []bool{hasSections([]byte("a<!-")), hasSections([]byte("!<a!>")),
		hasSections(nil)})
}
