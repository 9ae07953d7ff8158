package inbox

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/fault"
	"ladle/internal/core/ladlefile"
)

// ladles are ladle files with inputs, each said as name=pattern.
func ladles(t *testing.T, folder string, inputs ...string) (all []*ladlefile.File) {
	t.Helper()
	for i, said := range inputs {
		text := "ladle: 1\ninputs:\n"
		for _, in := range strings.Fields(said) {
			name, pattern, _ := strings.Cut(in, "=")
			text += fmt.Sprintf("  %s: {file: \"%s\"}\n", name, pattern)
		}
		f, err := ladlefile.Decode(filepath.Join(folder, "rules", fmt.Sprintf("l%d.ladle.yaml", i)), []byte(text+"tables: {t: {from: x, columns: {a: A}}}\n"))
		require.NoError(t, err)
		all = append(all, f)
	}
	return all
}

func TestFind(t *testing.T) {
	cases := []struct {
		name    string
		inputs  []string // of each ladle file
		files   string
		young   string // files that changed just now
		beside  string // a file beside the ladle files
		marker  string
		jobs    []string
		waiting []string
	}{
		{name: "each file by itself, in order", inputs: []string{"x=calls-*.csv"}, files: "calls-b.csv calls-a.csv",
			jobs: []string{"x: calls-a.csv", "x: calls-b.csv"}},
		{name: "files that belong together", inputs: []string{"x=calls-*.csv y=cargo-*.csv"},
			files: "calls-1.csv calls-2.csv cargo-2.csv cargo-3.csv", jobs: []string{"x: calls-2.csv, y: cargo-2.csv"},
			waiting: []string{"calls-1.csv: it waits for cargo-*.csv", "cargo-3.csv: it waits for calls-*.csv"}},
		{name: "a file that has no wildcard goes with the first that lacks it", inputs: []string{"x=calls-*.csv y=berths.csv"},
			files: "berths.csv calls-1.csv calls-2.csv", jobs: []string{"x: calls-1.csv, y: berths.csv"},
			waiting: []string{"calls-2.csv: it waits for berths.csv"}},
		{name: "a file that is there once and for all", inputs: []string{"x=calls-*.csv y=berths.csv"}, beside: "berths.csv",
			files: "calls-1.csv calls-2.csv", jobs: []string{"x: calls-1.csv", "x: calls-2.csv"}},
		{name: "without wildcards", inputs: []string{"x=calls.csv y=berths.csv"}, files: "berths.csv calls.csv",
			jobs: []string{"x: calls.csv, y: berths.csv"}},
		{name: "two sheets of a workbook", inputs: []string{"x=port-?.xlsx y=port-?.xlsx"}, files: "port-1.xlsx port-22.xlsx",
			jobs: []string{"x: port-1.xlsx, y: port-1.xlsx"}, waiting: []string{"port-22.xlsx: no ladle file has an input for it"}},
		{name: "a file for two", inputs: []string{"x=c*.csv", "x=ca*.csv"}, files: "calls.csv cx.csv", jobs: []string{"x: cx.csv"},
			waiting: []string{"calls.csv: it could be for input x of l0.ladle.yaml, or for x of l1.ladle.yaml"}},
		{name: "one that is still written", inputs: []string{"x=*.csv"}, files: "a.csv b.csv", young: "a.csv",
			jobs: []string{"x: b.csv"}, waiting: []string{"a.csv: it changed less than 5s ago"}},
		{name: "one without its marker", inputs: []string{"x=*.csv"}, files: "a.csv b.csv b.csv.done", marker: ".done",
			jobs: []string{"x: b.csv"}, waiting: []string{"a.csv: there is no a.csv.done yet, which says that it is whole"}},
		{name: "a marker without its file", inputs: []string{"x=*.csv"}, files: "a.csv.done", marker: ".done",
			waiting: []string{"a.csv.done: it is a marker, and there is no a.csv"}},
		{name: "letters in brackets", inputs: []string{"x=p[ab].csv"}, files: "pa.csv pc.csv", jobs: []string{"x: pa.csv"},
			waiting: []string{"pc.csv: no ladle file has an input for it"}},
		{name: "nothing", inputs: []string{"x=*.csv"}},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			folder := t.TempDir()
			require.NoError(t, os.MkdirAll(filepath.Join(folder, "rules"), 0o755))
			old := time.Now().Add(-time.Hour)
			for _, name := range strings.Fields(c.files + " " + c.young) {
				require.NoError(t, os.WriteFile(filepath.Join(folder, name), []byte("A\n"), 0o600))
				if name != c.young {
					require.NoError(t, os.Chtimes(filepath.Join(folder, name), old, old))
				}
			}
			if c.beside != "" {
				require.NoError(t, os.WriteFile(filepath.Join(folder, "rules", c.beside), []byte("A\n"), 0o600))
			}
			jobs, waiting, err := Find(folder, ladles(t, folder, c.inputs...), Options{Rest: 5 * time.Second, Marker: c.marker, Now: time.Now()})
			require.NoError(t, err)
			var found, waits []string
			for _, j := range jobs {
				var parts []string
				for _, name := range []string{"x", "y"} {
					for _, f := range j.Files[name] {
						parts = append(parts, name+": "+filepath.Base(f))
					}
				}
				found = append(found, strings.Join(parts, ", "))
			}
			for _, w := range waiting {
				waits = append(waits, strings.ReplaceAll(filepath.Base(w.File)+": "+w.Why, folder+"/rules/", ""))
			}
			assert.Equal(t, c.jobs, found)
			assert.Equal(t, c.waiting, waits)
		})
	}
	_, _, err := Find("/nowhere", nil, Options{})
	assert.Equal(t, fault.Failed, fault.ClassOf(err))
}

func TestWorkIsPutInOrder(t *testing.T) {
	path := t.TempDir()
	write := func(name string) string {
		require.NoError(t, os.WriteFile(filepath.Join(path, name), []byte(name), 0o600))
		return filepath.Join(path, name)
	}
	f, err := Open(path)
	require.NoError(t, err)
	_, err = Open(path)
	assert.ErrorContains(t, err, "another ladle works in this folder")
	job := &Job{Files: map[string][]string{"x": {write("calls.csv")}, "y": {write("cargo.csv")}}}
	write("calls.csv.done")
	w, err := f.Begin(job)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(w.Place, "report.html"), nil, 0o600))
	w, err = f.Begin(job) // the first was killed, behind its commit
	require.NoError(t, err)
	again, err := f.Begin(job) // so was the second, which found that there was nothing to do
	require.NoError(t, err)
	assert.NotEqual(t, w.Place, again.Place)
	w = again
	w.Earlier()
	to, err := w.End(12, time.Now())
	require.NoError(t, err)
	require.NoError(t, f.Sweep(".done"))
	assert.NoFileExists(t, filepath.Join(path, "calls.csv.done"))
	assert.Equal(t, filepath.Join(path, "loaded", "run-12"), to)
	for _, name := range []string{"berths.csv", "berths.csv.done"} { // a file that ends as markers do, an early marker
		other := write(name)
		require.NoError(t, f.Sweep(filepath.Ext(name)))
		require.FileExists(t, other)
		require.NoError(t, os.Remove(other))
	}
	var left []string
	require.NoError(t, filepath.WalkDir(path, func(p string, d os.DirEntry, err error) error {
		if !d.IsDir() {
			left = append(left, strings.TrimPrefix(p, path+"/"))
		}
		return err
	}))
	assert.Equal(t, []string{".ladle-lock", "loaded/run-12/calls.csv", "loaded/run-12/cargo.csv", "loaded/run-12/report.html"}, left)
	job = &Job{Files: map[string][]string{"x": {write("calls.csv")}}}
	w, err = f.Begin(job)
	require.NoError(t, err)
	to, err = w.End(0, time.Date(2026, 3, 1, 2, 3, 4, 5e6, time.UTC))
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(path, "refused", "calls-20260301-020304.005"), to)
	require.NoError(t, f.Close())
	f, err = Open(path)
	require.NoError(t, err)
	job = &Job{Files: map[string][]string{"x": {write("calls.csv")}}}
	w, err = f.Begin(job)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(w.Place, "not committed"), nil, 0o600))
	w, err = f.Begin(job)
	require.NoError(t, err)
	require.NoError(t, w.Fresh())
	w.Earlier()
	require.NoError(t, os.WriteFile(filepath.Join(w.Place, "committed"), nil, 0o600))
	failed, err := f.Begin(job) // the database can't be reached
	require.NoError(t, err)
	require.NoError(t, failed.Leave())
	assert.FileExists(t, filepath.Join(w.Place, "committed"), "what an earlier attempt has left stays")
	write("calls.csv.done")
	require.NoError(t, f.Sweep(".done"))
	assert.FileExists(t, filepath.Join(path, "calls.csv.done"), "its file is there")
	to, err = w.End(13, time.Now())
	require.NoError(t, err)
	assert.NoFileExists(t, filepath.Join(to, "not committed"))
	require.NoError(t, f.Close())
	_, err = Open(filepath.Join(path, "nowhere"))
	assert.ErrorContains(t, err, "there is no such folder")
}

// TestChanges: what arrives is told of long before the time is over; what the program does itself is not.
func TestChanges(t *testing.T) {
	const never = time.Hour
	path := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(path, ".ladle-working"), 0o755))
	f, err := Open(path)
	require.NoError(t, err)
	defer f.Close()
	changes, err := f.Changes()
	require.NoError(t, err)
	put := func(name string) {
		assert.NoError(t, os.WriteFile(filepath.Join(path, name), []byte(name), 0o600))
	}
	for name, c := range map[string]struct {
		change func()
		told   bool
	}{
		"a file that is written":  {func() { put("calls.csv") }, true},
		"a marker":                {func() { put("calls.csv.done") }, true},
		"a file that is moved in": {func() { assert.NoError(t, os.Rename(path+"/.ladle-working/x", path+"/cargo.csv")) }, true},
		"a file of the program":   {func() { put(".ladle-lock") }, false},
		"a file that is taken away": {func() {
			assert.NoError(t, os.Rename(path+"/berths.csv", path+"/.ladle-working/y"))
		}, false},
		"nothing": {func() {}, false},
	} {
		t.Run(name, func(t *testing.T) {
			put(".ladle-working/x")
			put("berths.csv")
			changes.Wait(t.Context(), 4*settle) // for what was put there
			ctx, stop := context.WithTimeout(t.Context(), 10*time.Second)
			defer stop()
			if !c.told {
				ctx, stop = context.WithTimeout(t.Context(), 5*settle)
				defer stop()
			}
			go c.change()
			changes.Wait(ctx, never)
			assert.Equal(t, c.told, ctx.Err() == nil)
		})
	}
	require.NoError(t, changes.Close())
	deaf := &Changes{}
	deaf.Wait(t.Context(), never) // a second
	assert.NoError(t, deaf.Close())
	require.NoError(t, os.RemoveAll(path))
	_, err = f.Changes()
	assert.ErrorContains(t, err, "the system can't tell when files arrive")
}
