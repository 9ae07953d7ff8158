package conformance

import (
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/demo"
)

// TestAKilledLoadLeavesAllOrNothing kills loads at random moments, one in each of twenty stretches from their start to
// a little behind their end.
func TestAKilledLoadLeavesAllOrNothing(t *testing.T) {
	const moments, calls = 20, 8000
	harbour := demo.NewHarbour(0, calls, 7)
	harbour.Messy = 0.01
	w := &world{T: t, dir: t.TempDir(), db: "db", server: sqliteFile{}}
	require.NoError(t, harbour.Generate(w.dir))
	require.NoError(t, os.Rename(w.path(demo.Database), w.path("db")))
	require.NoError(t, os.Rename(w.path(demo.FlatLadle), w.path("f.ladle.yaml")))
	fresh, before := w.read("db"), w.data()

	begun := time.Now()
	doc, _ := w.load("load")
	require.Equal(t, 4, doc.Status)
	whole := time.Since(begun)
	after, aside := w.data(), w.read("calls.set-aside.csv")
	require.NotEqual(t, before, after)

	seen := map[string]int{}
	for i := range moments {
		w.write("db", fresh)
		_ = os.Remove(w.path("calls.set-aside.csv"))
		c := exec.Command(program, "load", "f.ladle.yaml", "--db", "db", "--yes")
		c.Dir = w.dir
		require.NoError(t, c.Start())
		moment := time.Duration((float64(i) + rand.Float64()) / moments * 1.2 * float64(whole))
		time.Sleep(moment)
		_ = c.Process.Kill()
		_ = c.Wait()
		switch w.data() {
		case before:
			seen["before"]++
		case after:
			seen["after"]++
			assert.Equal(t, []string{"1"}, w.query("SELECT count(*) FROM ladle_run"),
				"the logbook must tell of the load")
		default:
			t.Fatalf("killed after %s, the database is neither as before nor fully loaded", moment)
		}
		if left, err := os.ReadFile(w.path("calls.set-aside.csv")); err == nil {
			assert.Equal(t, aside, string(left), "a set-aside file is whole or absent")
		}
		for _, suffix := range []string{"-journal", "-wal"} {
			_ = os.Remove(w.path("db" + suffix))
		}
	}
	t.Logf("killed at %d moments within %s: %v", moments, whole, seen)
	assert.NotZero(t, seen["before"])

	t.Run("and loading again does the right thing", func(t *testing.T) {
		w.write("db", fresh)
		w.load("load")
		assert.Equal(t, after, w.data())
		leftovers, err := filepath.Glob(filepath.Join(w.dir, ".ladle-*"))
		require.NoError(t, err)
		assert.LessOrEqual(t, len(leftovers), moments)
	})
}

func TestAnInterruptedLoadChangesNothing(t *testing.T) {
	w := &world{T: t, dir: t.TempDir(), db: "db", server: sqliteFile{}}
	require.NoError(t, demo.NewHarbour(0, 30_000, 7).Generate(w.dir))
	require.NoError(t, os.Rename(w.path(demo.Database), w.path("db")))
	before := w.data()
	c := exec.Command(program, "load", demo.FlatLadle, "--db", "db", "--yes")
	c.Dir = w.dir
	var stderr strings.Builder
	c.Stderr = &stderr
	require.NoError(t, c.Start())
	time.Sleep(150 * time.Millisecond)
	require.NoError(t, c.Process.Signal(os.Interrupt))
	_ = c.Wait()
	assert.Equal(t, 130, c.ProcessState.ExitCode(), stderr.String())
	assert.Contains(t, stderr.String(), "interrupted, nothing was changed")
	assert.Equal(t, before, w.data())
}

// timings is what differs from run to run.
var timings = regexp.MustCompile(`\([0-9.]+ m?s: [^)]*\)`)

func TestDemo(t *testing.T) {
	w := &world{T: t, dir: t.TempDir(), db: "db", server: sqliteFile{}}
	first := w.run("demo")
	require.Equal(t, 0, first.status, first.stderr)
	assert.Contains(t, first.stdout, "Loaded as run 1")
	assert.Contains(t, first.stdout, "Loaded as run 2")
	assert.FileExists(t, w.path("port-merrow/arrivals.set-aside.csv"))

	t.Run("people read what testdata/demo.txt has", func(t *testing.T) {
		shown := timings.ReplaceAllString(strings.ReplaceAll(first.stdout, program, "ladle"), "(TIME)")
		if os.Getenv("LADLE_TEST_WRITE") != "" {
			require.NoError(t, os.WriteFile("testdata/demo.txt", []byte(shown), 0o644))
		}
		want, err := os.ReadFile("testdata/demo.txt")
		require.NoError(t, err)
		assert.Equal(t, string(want), shown, "LADLE_TEST_WRITE=1 writes it anew; read it before you commit it")
	})
	t.Run("its messy files are clean in the database, row by row", func(t *testing.T) {
		w := &world{T: t, dir: w.dir, db: "port-merrow/harbour.db", server: sqliteFile{}}
		assert.Equal(t, []string{
			"PM-0101|Grey Heron|Norway|1840.5|2026-02-11", "PM-0102|Saltire Belle|United Kingdom|8120|2025-11-30",
			"PM-0103|Low Tide|Iceland|412|2026-01-19",
			"PM-0104|Patient Hand|United Kingdom|198.3|NULL", "PM-0105|Winter Barley|Denmark|2310.2|2026-03-02",
			"PM-0106|Old Mercy|United Kingdom|3977|2025-10-07",
			"PM-0107|Cormorant|Iceland|388.6|2026-01-23", "PM-0108|Anna, of the Sound|Netherlands|121.5|NULL",
			"PM-0109|Long Reach|Portugal|11204|2026-03-15",
			"PM-0110|Skua|Norway|402|2026-02-20", "PM-0111|Bright Morrow|Denmark|4105|2026-03-14",
			"PM-0112|Tern|United Kingdom|210.4|2026-03-01",
			"PM-0113|Lanternfish|Iceland|395|2026-01-11", "PM-0114|Halcyon|Netherlands|1702|2025-12-12",
			"PM-0116|Slow Water|Netherlands|2840|2026-03-20",
		}, w.query("SELECT reg_no, vessel.name, flag_state.name, gross_tonnage, surveyed FROM vessel JOIN flag_state "+
			"ON flag_state.id = flag_id ORDER BY 1"))
		assert.Equal(t, []string{"Grebe, Son & Co.|0555 0162", "Harrowgate Agency|NULL", "Merrow Shipping|0555 0101",
			"Pilot House Agency|0555 0188", "Quill & Daughters|0555 0117",
			"Strait Ferries|0555 0140"}, w.query("SELECT name, phone FROM agent ORDER BY 1"))
		assert.Equal(t, []string{"PM-0102|2026-03-12 18:40:00|N2|4060", "PM-0104|2026-03-15 06:30:00|S1|0",
			"PM-0107|2026-03-14 03:10:00|F1|58.3", "PM-0114|2026-03-10 04:25:00|N1|851"},
			w.query("SELECT reg_no, arrived, code, dues FROM port_call JOIN vessel ON vessel.id = vessel_id JOIN "+
				"berth ON berth.id = berth_id WHERE arrived BETWEEN '2026-03-10' AND '2026-03-16' ORDER BY 1"))
		assert.Equal(t, []string{"Fish meal|82", "Gravel|7710", "Road salt|5382", "Timber|1228.4", "Wheat|2695.75"},
			w.query("SELECT name, SUM(tons) FROM call_cargo JOIN commodity ON commodity.id = commodity_id GROUP BY "+
				"name ORDER BY 1"))
	})
	t.Run("a second run over an untouched folder starts anew", func(t *testing.T) {
		r := w.run("demo")
		assert.Equal(t, 0, r.status, r.stderr)
		assert.Contains(t, r.stdout, "Loaded as run 1")
	})
	t.Run("the commands that it suggests can be typed", func(t *testing.T) {
		tried := 0
		for line := range strings.Lines(first.stdout) {
			words := strings.Fields(line)
			if len(words) < 3 || words[0] != program {
				continue
			}
			tried++
			may := []int{0, 1, 4}
			if strings.HasSuffix(words[len(words)-1], "--fix") {
				may = []int{2} // there is no terminal to ask on
			}
			assert.Contains(t, may, w.run(words[1:]...).status, line)
		}
		assert.Equal(t, 14, tried)
	})
	t.Run("a file that was changed is kept, and a changed database ends it", func(t *testing.T) {
		assert.Equal(t, 2, w.run("demo").status, "the suggested commands changed the database")
		require.NoError(t, os.Remove(w.path("port-merrow/harbour.db")))
		w.write("port-merrow/berths.csv", "Code,Name,Depth\nZ9,New Mole,3.0\n")
		r := w.run("demo")
		assert.Equal(t, 0, r.status)
		assert.Contains(t, r.stderr, "berths.csv was changed, so it is kept")
		assert.Contains(t, w.read("port-merrow/berths.csv"), "New Mole")
	})
}
