package load_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/load"
	"ladle/internal/seeded"
)

// TestOldIDsLeadToTheRowsThatLinesBecame, whatever became of them, with few keys in memory and with all.
func TestOldIDsLeadToTheRowsThatLinesBecame(t *testing.T) {
	const ladle = `ladle: 1
inputs: {in: {file: in.csv}}
set_aside_limit: any
tables:
  mark: {from: in, key: name, already_there: update, columns: {name: Name, size: Size}}
  light: {from: in, key: none, columns: {mark_id: {lookup: {table: mark, by_old_id: {there: Old, here: Beside}}}, n: N}}
`
	for round := range seeded.Rounds(8) {
		for _, resident := range []int64{0, 3, 20} {
			t.Run(fmt.Sprintf("round %d, %d keys in memory", round, resident), func(t *testing.T) {
				r := seeded.Rand(t)
				file := []string{"Old,Name,Size,Beside,N"}
				became := map[string]string{} // by old id, the name; "" for a line that is set aside
				twice := map[string]bool{}
				var beside []string
				for i := range 60 {
					old, name, size := fmt.Sprint("o", r.IntN(50)), fmt.Sprint("m", r.IntN(25)), "1"
					if r.IntN(10) == 0 {
						size = "large"
					}
					if other, is := became[old]; is && other != name && size != "large" && other != "" {
						twice[old] = true
					}
					if size != "large" {
						became[old] = name
					} else if became[old] == "" {
						became[old] = ""
					}
					beside = append(beside, fmt.Sprint("o", r.IntN(55)))
					file = append(file, fmt.Sprintf("%s,%s,%s,%s,%d", old, name, size, beside[i], i))
				}
				s := newStage(t, `CREATE TABLE mark (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE, size INTEGER);
					CREATE TABLE light (id INTEGER PRIMARY KEY, mark_id INTEGER NOT NULL REFERENCES mark (id), n INTEGER);
					INSERT INTO mark (name, size) VALUES ('m1', 1), ('m2', 7);`, ladle, strings.Join(file, "\n")+"\n")
				_, err := s.load(load.Options{ResidentKeys: resident})
				require.NoError(t, err)
				var want []string
				for i, old := range beside {
					if name := became[old]; name != "" && !twice[old] {
						want = append(want, fmt.Sprintf("%d|%s", i, name))
					}
				}
				slices.Sort(want)
				got := s.rows("SELECT n, name FROM light JOIN mark ON mark.id = mark_id")
				slices.Sort(got)
				assert.Equal(t, want, got)
			})
		}
	}
}
