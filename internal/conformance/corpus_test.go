package conformance

import (
	"encoding/json"
	"maps"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// draftCase is files and tables with the sources that a careful person would write.
type draftCase struct {
	name, tables string
	files        map[string]string
	sources      []string // TABLE.COLUMN: SOURCE
}

func draftCases(t *testing.T) (all []*draftCase) {
	content, err := os.ReadFile("testdata/drafts.txt")
	require.NoError(t, err)
	var c *draftCase
	var file string
	for line := range strings.Lines(string(content)) {
		text := strings.TrimSuffix(line, "\n")
		switch mark, rest, _ := strings.Cut(text, " "); {
		case mark == "#" || text == "":
		case mark == "==":
			c, file = &draftCase{name: rest, files: map[string]string{}}, ""
			all = append(all, c)
		case mark == "--":
			file = rest
		case mark == "=>":
			c.sources = append(c.sources, rest)
		case file == "":
			c.tables += line
		default:
			c.files[file] += line
		}
	}
	return all
}

// sources lists what a ladle file says of columns, and which of them it marks.
func sources(ladleFile string) (all []string, marked map[string]bool) {
	marked = map[string]bool{}
	block, tables, doubted := "", false, false
	for line := range strings.Lines(ladleFile) {
		text, why, _ := strings.Cut(strings.TrimRight(line, "\n"), "  # ")
		deep := len(text) - len(strings.TrimLeft(text, " "))
		switch text = strings.TrimSpace(text); {
		case text == "tables:":
			tables = true
		case strings.Contains(line, "# ?") && strings.Contains(line, "draft --table says"):
			doubted = true // of the whole block
		case !tables || text == "" || text[0] == '#':
		case deep == 2:
			block, doubted = strings.TrimSuffix(text, ":"), false
		case deep == 6:
			all = append(all, block+"."+text)
			marked[all[len(all)-1]] = doubted || strings.HasPrefix(why, "?")
		case deep > 6:
			last := len(all) - 1
			was := marked[all[last]]
			all[last] += " " + text
			marked[all[last]] = was
		}
	}
	return all, marked
}

// TestDraftsOfManyKinds: of columns of many kinds of files, a draft finds nearly all, and is never wrong without saying
// so.
func TestDraftsOfManyKinds(t *testing.T) {
	var right, wrong, doubtful, columns int
	kinds := slices.Sorted(maps.Keys(servers))
	for i, c := range draftCases(t) {
		kind := kinds[i%len(kinds)]
		t.Run(c.name+" on "+kind, func(t *testing.T) {
			w := newWorld(t, servers[kind], c.tables)
			arguments := []string{"draft", "--db", w.db, "--json"}
			for name, content := range c.files {
				w.write(name, content)
				arguments = append(arguments, name)
			}
			slices.Sort(arguments[4:])
			r := w.run(arguments...)
			require.Equal(t, 0, r.status, r.stderr)
			var d drafted
			require.NoError(t, json.Unmarshal([]byte(r.stdout), &d))
			made, marked := sources(d.Text)
			columns += len(c.sources)
			for _, source := range made {
				switch {
				case slices.Contains(c.sources, source):
					right++
				case marked[source]:
					doubtful++
				default:
					wrong++
					assert.Fail(t, "wrong, and not marked: "+source, d.Text)
				}
			}
			for _, s := range c.sources {
				if !slices.Contains(made, s) {
					t.Logf("not found: %s\n%s", s, d.Text)
				}
			}
		})
	}
	t.Logf("%d columns: %d right, %d wrong without a mark, %d others marked", columns, right, wrong, doubtful)
	assert.GreaterOrEqual(t, right*100, columns*90)
}
