package clean

import (
	"strings"
	"testing"

	"ladle/internal/core/text"
	"ladle/internal/seeded"

	"github.com/stretchr/testify/require"
)

// TestCellsTogetherBecomeWhatEachDoesAlone goes through all cleanings of cells of ASCII, some of which stand half in one cell
// and half in the next.
func TestCellsTogetherBecomeWhatEachDoesAlone(t *testing.T) {
	all := map[string]Cleaning{"without": Without("-( \x01"), "add_prefix": AddPrefix("PM-"), "drop_prefix": DropPrefix("ab"),
		"replace": Replace("ab", "and so on"), "replace by nothing": Replace("aa", ""), "replace a blank": Replace(" ", "ab"),
		"add_suffix": AddSuffix("b"), "pad": Pad(5, '0'), "part": Part(2, "b")}
	for _, name := range PlainNames() {
		all[name], _ = Plain(name)
	}
	r := seeded.Rand(t)
	const characters = "aabbAZz09'- \t\n\x00\x1f@[`{"
	for name, c := range all {
		for range 400 {
			var cells text.Cells
			var alone []string
			memory := make([]byte, 0, 1<<10) // cells with others behind them, and the last without
			for range r.IntN(30) {
				cell := make([]byte, r.IntN(2+r.IntN(40)))
				for i := range cell {
					cell[i] = characters[r.IntN(len(characters))]
				}
				alone = append(alone, string(cell))
				memory = append(memory, cell...)
			}
			cells.Reset(len(memory))
			for rest, i := memory[:len(memory):len(memory)], 0; i < len(alone); i++ {
				cells.Add(rest[:len(alone[i])])
				rest = rest[len(alone[i]):]
			}
			if c.together != nil {
				c.together(&cells)
			} else {
				cells.Each(c.Change)
			}
			var memoryOfOne []byte
			from := uint32(0)
			for i, end := range cells.Ends {
				want := string(c.Change(memoryOfOne, []byte(alone[i])))
				require.Equal(t, want, string(cells.Data[from:end]), "%s of %q, the one with number %d of %q", name, alone[i], i, alone)
				from = end
			}
			require.Len(t, cells.Ends, len(alone))
			require.Len(t, cells.Data, int(from))
		}
	}
}

// TestCellsThatGrowTogether: cells that become too many bytes together are cleaned alone.
func TestCellsThatGrowTogether(t *testing.T) {
	for _, c := range []Cleaning{Replace("a", strings.Repeat("x", 1<<16)), AddPrefix(strings.Repeat("x", 1<<16)), Pad(1<<16, 'x')} {
		var cells text.Cells
		cells.Reset(100)
		for range 40 {
			cells.Add([]byte("a"))
		}
		if c.together != nil {
			c.together(&cells)
		} else {
			cells.Each(c.Change)
		}
		require.True(t, cells.TooMany())
		require.Less(t, len(cells.Data), 4<<20)
	}
}
