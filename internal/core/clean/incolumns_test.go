package clean_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/clean"
	"ladle/internal/core/value"
	"ladle/internal/seeded"
)

// TestBlocksBecomeWhatRecordsDo: what is cleaned a column at a time becomes what it does a line at a time, which if_blank:
// above of another column brings about.
func TestBlocksBecomeWhatRecordsDo(t *testing.T) {
	const rules = `
    only: not starts(vessel, "T") or tons > 50
    columns:
      Vessel: {clean: [squeeze, title], blank_is: none}
      Tons: {number: "1,234.5", round: 1, default: 0}
      Dues: {number: "€1.234,56"}
      Arrived: {date: dd/MM/yyyy HH:mm}
      Berth: {split: {at: "/", columns: [Quay, Place]}}
      Place: {clean: {pad: 3}}
      Status: {yes_is: [y, ja], no_is: n}
      Agent: {if_blank: {formula: 'upper(vessel)'}, default: nobody, shorten_to: 12}
    new_columns:
      Total: {formula: tons * 1.25 + dues}
      Each: {formula: 'tons * 1.155', round: 2}
      Third: {formula: 'dues / tons', round: 1, default: 9}
      Place_and_time: {formula: 'join(" ", dues / 3, arrived, line_number())', clean: {replace: {"-": "/"}}}
      Halved: {formula: dues / 2, number: "1.234,5"}
      Written: {formula: 'choose(tons > 50, "1.234,56", "€ 7")', number: "€1.234,5", round: 1, default: 3}
      Again: {formula: 'join("/", day(arrived), month(arrived), 2026)', date: d/M/yyyy}
      Later: {formula: 'add_days(again, 3)'}
      Rate: {formula: 'round(dues / tons, 3)'}
      Name: {join: [Vessel, Dues, Arrived, Status], between: " & "}
      Day: {formula: 'days_between("2026-01-01", arrived)'}
      Size: {formula: 'choose(tons > 100 and status, "large", start(agent, 3))', clean: upper, blank_is: [TER]}
      Line: {formula: 'join(":", file_name(), line_number(), today(), total)'}
      Where: {formula: 'coalesce(place, quay, "?") in ["001", "?"]'}
`
	r := seeded.Rand(t)
	pick := func(words ...string) string { return words[r.IntN(len(words))] }
	var csv strings.Builder
	const header = "Vessel;Tons;Dues;Arrived;Berth;Status;Agent;Extra\n"
	csv.WriteString(header)
	for i := range 12_000 {
		odd := func(plain string, words ...string) string {
			if r.IntN(12) == 0 {
				return pick(words...)
			}
			return plain
		}
		fmt.Fprintf(&csv, "%s;%s;%s;%s;%s;%s;%s;e\n", odd(pick("  grey  HERON", "tern", "x"), "", "none", "#N/A", "#1", "Ærø", "1.23E+11"),
			odd(fmt.Sprintf("%d.%d", r.IntN(200), r.IntN(10)), "", "1,000.25", "12.345", "99.95", "n", "0", "1234567890123456789"),
			odd(fmt.Sprintf("€%d,%02d", r.IntN(999), r.IntN(100)), "", "-7", "1.234.567,89", "€x"),
			odd(fmt.Sprintf("%02d/%02d/2026 12:%02d", 1+r.IntN(28), 1+r.IntN(12), r.IntN(60)), "", "31/02/2026 12:00", "1/1/2026"),
			odd(fmt.Sprintf("N%d / %d", r.IntN(9), r.IntN(9)), "", "S1", "a/b/c", "/"), odd(pick("y", "n", "JA"), "", "?"),
			odd("Quill", "", "a long name of an agent", "Æ"))
		if i%4000 == 100 {
			csv.WriteString(header)
		}
	}
	k := folder{t, t.TempDir()}
	fixed := value.Type{Kind: value.Fixed, Precision: 9, Scale: 2}
	typed := map[string]value.Type{"Total": fixed, "Each": fixed, "Rate": fixed, "Third": fixed, "Tons": fixed, "Day": {Kind: value.Int},
		"Arrived": {Kind: value.DateTime}, "Name": {Length: 40}}
	columns := func(rules string) []clean.Column { return k.columns(header, rules, typed) }
	lines := strings.Replace(rules, "    new_columns:", "      Extra: {if_blank: above}\n    new_columns:", 1)
	blocks, records := k.cleaned(csv.String(), rules, columns(rules)...), k.cleaned(csv.String(), lines, columns(lines)...)
	require.Len(t, blocks, len(records))
	bad, out := 0, 0
	for i := range records {
		require.Equal(t, records[i], blocks[i], "row %d", i)
		bad += strings.Count(blocks[i], "<")
		out += strings.Count(blocks[i], "left out")
	}
	assert.Greater(t, bad, 1000)
	assert.Greater(t, out, 1000)

	block, _, _ := k.rows(csv.String(), rules, columns(rules)...)
	record, _, _ := k.rows(csv.String(), lines, columns(lines)...)
	defer block.Close()
	defer record.Close()
	assert.Len(t, block.Effects(), 11)
	assert.Equal(t, record.Effects(), block.Effects(), "what the rules did")
	assert.Len(t, block.Headers, 3)
	assert.Equal(t, record.Headers, block.Headers)
	assert.Equal(t, record.LostDigits, block.LostDigits)
}
