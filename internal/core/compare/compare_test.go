package compare

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/source"
)

// compared compares two texts, and returns the differences too.
func compared(t *testing.T, before, after string, o Options) (*Comparison, []Difference, error) {
	t.Helper()
	var tables [2]source.Table
	dir := t.TempDir()
	for i, text := range []string{before, after} {
		path := filepath.Join(dir, []string{"old.csv", "new.csv"}[i])
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		table, err := source.Open([]string{path}, source.ReadOptions{})
		require.NoError(t, err)
		defer table.Close()
		tables[i] = table
	}
	var all []Difference
	o.Each = func(d Difference) error {
		all = append(all, d)
		return nil
	}
	o.Dir = t.TempDir()
	made, err := Compare(context.Background(), tables[0], tables[1], o)
	left, readErr := os.ReadDir(o.Dir)
	require.NoError(t, readErr)
	assert.Empty(t, left, "no temporary file stays")
	return made, all, err
}

func TestWhatDiffers(t *testing.T) {
	const register = "No,Name,Flag\n1,Skua,Norway\n2,Tern,Iceland\n3,Auk,\n"
	for _, c := range []struct {
		name, before, after, key string
		same, changed            int64
		came, went, repeated     int64
		differences              []string
	}{
		{"the same", register, register, "No", 3, 0, 0, 0, 0, nil},
		{"columns in another order", register, "flag,NAME,No\nNorway,Skua,1\nIceland,Tern,2\n,Auk,3\n", "No", 3, 0, 0,
			0, 0, nil},
		{"a cell, a line that came, and one that went", register,
			"No,Name,Flag\n4,Gull,\n3,Auk,Norway\n1,Skua,Norway\n", "no",
			1, 1, 1, 1, 0, []string{"came 0 2 [{No  4} {Name  Gull}]", "changed 4 3 [{Flag  Norway}]",
				"went 3 0 [{No 2 } {Name Tern } {Flag Iceland }]"}},
		{"without a key", register, "No,Name,Flag\n1,Skua,Iceland\n2,Tern,Iceland\n3,Auk,\n", "", 2, 0, 1, 1, 0,
			[]string{"came 0 2 [{No  1} {Name  Skua} {Flag  Iceland}]",
				"went 2 0 [{No 1 } {Name Skua } {Flag Norway }]"}},
		{"as often as it occurs", "A,B\n1,2\n1,2\n", "A,B\n1,2\n1,2\n1,2\n", "", 2, 0, 1, 0, 0,
			[]string{"came 0 4 [{A  1} {B  2}]"}},
		{"the rest of a repeated key is one line each", "A,B\n1,2\n1,3\n", "A,B\n1,4\n1,2\n", "A", 1, 1, 0, 0, 0,
			[]string{"changed 3 2 [{B 3 4}]"}},
		{"a repeated key that can't be paired", "A,B\n1,2\n1,3\n", "A,B\n1,4\n", "A", 0, 0, 1, 2, 3,
			[]string{"came 0 2 [{A  1} {B  4}]", "went 2 0 [{A 1 } {B 2 }]", "went 3 0 [{A 1 } {B 3 }]"}},
		{"cells that would run together", "A,B\n12,3\n", "A,B\n1,23\n", "", 0, 0, 1, 1, 0,
			[]string{"came 0 2 [{A  1} {B  23}]", "went 2 0 [{A 12 } {B 3 }]"}},
		{"a line without all its cells is no line with blank ones", "A,B,C\n1,,\n2,,\n", "A,B,C\n1\n2,,\n", "A", 1, 0,
			1, 1, 0,
			[]string{"came 0 2 [{A  1}]", "went 2 0 [{A 1 }]"}},
		{"no line at all", "A,B\n", "A,B\n1,2\n", "A", 0, 0, 1, 0, 0, []string{"came 0 2 [{A  1} {B  2}]"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			var key []string
			if c.key != "" {
				key = []string{c.key}
			}
			made, all, err := compared(t, c.before, c.after, Options{Key: key})
			require.NoError(t, err)
			assert.Equal(t, []int64{c.same, c.changed, c.came, c.went, c.repeated},
				[]int64{made.Same, made.Changed, made.Came, made.Went, made.Repeated})
			var said []string
			for _, d := range all {
				said = append(said, fmt.Sprintf("%s %d %d %v", d.What, d.OldLine, d.NewLine, d.Cells))
			}
			assert.Equal(t, c.differences, said)
			assert.Equal(t, c.differences == nil, made.Alike())
		})
	}
}

func TestColumnsAndKeys(t *testing.T) {
	made, all, err := compared(t, "No,Name,Flag\n1,Skua,Norway\n", "No,Name,Berth\n1,Skua,N1\n",
		Options{Key: []string{"No"}})
	require.NoError(t, err)
	assert.Empty(t, all, "columns of one file alone say nothing of its lines")
	assert.Equal(t, [2][]string{{"Flag"}, {"Berth"}}, [2][]string{made.Old.Alone, made.New.Alone})
	assert.False(t, made.Alike())
	for key, says := range map[string]string{
		"Flag": `old.csv has the column "Flag" of the key`, "Berth": `new.csv has the column "Berth" of the key`,
		"Nmae": `there is no column "Nmae"`,
	} {
		_, _, err = compared(t, "No,Name,Flag\n1,Skua,Norway\n", "No,Name,Berth\n1,Skua,N1\n",
			Options{Key: []string{key}})
		assert.ErrorContains(t, err, says)
	}
	made, all, err = compared(t, "A,a,A,B\n1,2,3,4\n", "b,A,a,A\n4,1,2,5\n", Options{Key: []string{"B"}})
	require.NoError(t, err)
	assert.Empty(t, append(made.Old.Alone, made.New.Alone...), "names that occur twice are paired in their order")
	assert.Equal(t, []Cell{{"A", "3", "5"}}, all[0].Cells)
	_, _, err = compared(t, "A,A,B\n1,2,3\n", "A,A,B\n1,2,3\n", Options{Key: []string{"a"}})
	assert.ErrorContains(t, err, `there are several columns "A"`)
	_, _, err = compared(t, "A,B\n1,2\n", "C,D\n1,2\n", Options{})
	assert.ErrorContains(t, err, "have no column in common")
}

// TestDifferencesLeadFromOneFileToTheOther: of random files in any order, what is told makes the new lines of the old
// ones, and as few lines as possible differ, however little is in memory at a time.
func TestDifferencesLeadFromOneFileToTheOther(t *testing.T) {
	for seed := range uint64(60) {
		random := rand.New(rand.NewPCG(seed, 1))
		delivery := func() (lines []string) {
			for range random.IntN(400) {
				lines = append(lines, fmt.Sprintf("k%d,%d,%d", random.IntN(300), random.IntN(3), random.IntN(2)))
			}
			return lines
		}
		before := delivery()
		after := slices.Clone(before)
		if seed%3 == 0 {
			after = delivery()
		}
		for i := range after {
			if random.IntN(8) == 0 {
				after[i] = mended(random, after[i])
			}
		}
		if seed%2 == 0 {
			random.Shuffle(len(after), func(i, j int) { after[i], after[j] = after[j], after[i] })
		}
		made, all, err := compared(t, file(before), file(after), Options{Key: []string{"Key"}, Span: 1 +
			int64(seed%40)})
		require.NoError(t, err)
		lines := slices.Clone(before)
		for _, d := range all {
			switch d.What {
			case Went:
				lines[d.OldLine-2] = ""
			case Came:
				lines = append(lines, after[d.NewLine-2])
			case Changed:
				was := strings.Split(before[d.OldLine-2], ",")
				for _, cell := range d.Cells {
					at := slices.Index([]string{"Key", "A", "B"}, cell.Column)
					require.Equal(t, was[at], cell.Before)
					was[at] = cell.After
				}
				require.Equal(t, after[d.NewLine-2], strings.Join(was, ","))
				lines[d.OldLine-2] = after[d.NewLine-2]
			}
		}
		lines = slices.DeleteFunc(lines, func(line string) bool { return line == "" })
		assert.ElementsMatch(t, after, lines, "seed %d", seed)
		assert.Equal(t, common(before, after), made.Same, "seed %d", seed)
		assert.Equal(t, int64(len(before)), made.Same+made.Changed+made.Went)
		assert.Equal(t, int64(len(after)), made.Same+made.Changed+made.Came)
	}
}

// mended is a line with another cell.
func mended(random *rand.Rand, line string) string {
	key, _, _ := strings.Cut(line, ",")
	return fmt.Sprintf("%s,%d,%d", key, random.IntN(3), 7)
}

func file(lines []string) string {
	return "Key,A,B\n" + strings.Join(append(slices.Clone(lines), ""), "\n")
}

// common is the number of lines that both have, as often as they occur.
func common(before, after []string) (n int64) {
	there := map[string]int{}
	for _, line := range before {
		there[line]++
	}
	for _, line := range after {
		if there[line] > 0 {
			there[line]--
			n++
		}
	}
	return n
}
