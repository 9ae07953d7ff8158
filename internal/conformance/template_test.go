package conformance

import (
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/xuri/excelize/v2"
)

// TestFilledTemplatesLoad: a workbook that is filled in, parents and children at once, loads as it is.
func TestFilledTemplatesLoad(t *testing.T) {
	const harbour = `CREATE TABLE kind (id ID, name WORD NOT NULL UNIQUE);
		CREATE TABLE vessel (id ID, reg_no VARCHAR(8) NOT NULL UNIQUE, name VARCHAR(12) NOT NULL, kind_id INTEGER NOT NULL REFERENCES kind (id), gt DECIMAL(8,1) CHECK (gt > 0), surveyed DATE, active BOOLEAN NOT NULL DEFAULT true, state VARCHAR(9) DEFAULT 'afloat' NOT NULL, entered TIMESTAMP DEFAULT CURRENT_TIMESTAMP NOT NULL);
		CREATE TABLE port_call (id ID, vessel_id INTEGER NOT NULL REFERENCES vessel (id), day DATE NOT NULL, state VARCHAR(6) CHECK (state IN ('due', 'gone')), UNIQUE (vessel_id, day));
		CREATE TABLE cargo (id ID, call_id INTEGER NOT NULL REFERENCES port_call (id), goods VARCHAR(20) NOT NULL, tons INTEGER, UNIQUE (call_id, goods));
		INSERT INTO kind (name) VALUES ('Tug'), ('Ferry'); INSERT INTO vessel (reg_no, name, kind_id, active) VALUES ('007', 'Auk', 1, true);`
	everyServer(t, func(t *testing.T, name string, on server) {
		w := newWorld(t, on, harbour)
		r := w.run("template", "cargo", "vessel", "port_call", "--db", w.db, "-o", "new.xlsx", "--ladle",
			"new.ladle.yaml")
		require.Equal(t, 0, r.status, r.stderr)
		book, err := excelize.OpenFile(w.path("new.xlsx"))
		require.NoError(t, err)
		assert.Equal(t, []string{"vessel", "port_call", "cargo", "lists"}, book.GetSheetList(), "parents first")
		day := time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)
		for sheet, rows := range map[string][][]any{
			"vessel": {{"Reg no", "Name", "Kind", "Gt", "Surveyed", "Active", "State"}, {"008", "Skua", "Ferry", 12.5, day,
				"yes", "laid up"},
				{"009", "Tern", "Tug"}},
			"port_call": {{"Vessel", "Day", "State"}, {"007", day, "gone"}, {"008", day.AddDate(0, 0, 1)}},
			"cargo":     {{"Call vessel", "Call day", "Goods", "Tons"}, {"008", day.AddDate(0, 0, 1), "Salt", 40}},
		} {
			header, err := book.GetRows(sheet)
			require.NoError(t, err)
			require.Len(t, header, 1)
			for i, cell := range rows[0] {
				assert.Equal(t, cell, header[0][i])
			}
			for i, row := range rows[1:] {
				for c, cell := range row {
					at, err := excelize.CoordinatesToCellName(c+1, i+2)
					require.NoError(t, err)
					require.NoError(t, book.SetCellValue(sheet, at, cell))
				}
			}
		}
		var checked []string
		for _, sheet := range []string{"vessel", "port_call"} {
			checks, err := book.GetDataValidations(sheet)
			require.NoError(t, err)
			for _, v := range checks {
				checked = append(checked, v.Sqref+" "+v.Type+" "+v.Formula1)
			}
		}
		assert.Contains(t, strings.Join(checked, "\n"), "C2:C1048576 list lists!$A$1:$A$2")
		assert.Contains(t, strings.Join(checked, "\n"), "A2:A1048576 textLength")
		assert.Contains(t, strings.Join(checked, "\n"), "D2:D1048576 decimal 0.1")
		assert.Contains(t, strings.Join(checked, "\n"), "C2:C1048576 list lists!$C$1:$C$2", "the states")
		notes, err := book.GetComments("vessel")
		require.NoError(t, err)
		require.Len(t, notes, 7, "the database fills entered")
		require.NoError(t, book.SaveAs(w.path("new.xlsx")))
		require.NoError(t, book.Close())
		r = w.run("load", "new.ladle.yaml", "--db", w.db, "--yes")
		require.Equal(t, 0, r.status, r.stdout+r.stderr+w.read("new.ladle.yaml"))
		assert.Equal(t, []string{"007|Auk|NULL|NULL", "008|Skua|Ferry|Salt"}, w.query("SELECT v.reg_no, v.name, "+
			"CASE WHEN gt > 0 "+
			"THEN k.name END, goods FROM port_call c JOIN vessel v ON v.id = c.vessel_id JOIN kind k ON k.id = "+
			"v.kind_id LEFT JOIN "+
			"cargo ON call_id = c.id ORDER BY v.reg_no"))
		assert.Equal(t, []string{"008|laid up|1", "009|afloat|1"}, w.query("SELECT reg_no, state, CASE WHEN active THEN 1 END "+
			"FROM vessel WHERE reg_no > '007' AND entered IS NOT NULL ORDER BY reg_no"), "a blank means the default")
		w.savedByOffice("new.xlsx")
		again := w.run("load", "new.ladle.yaml", "--db", w.db, "--yes")
		assert.Equal(t, 0, again.status, again.stdout)
		assert.NotContains(t, again.stdout, "differs", "the cells are the same, whoever saved them")
		assert.Equal(t, []string{"3"}, w.query("SELECT count(*) FROM vessel"), "nothing is added twice")
	})
	w := newWorld(t, sqliteFile{}, harbour)
	for arguments, says := range map[string]string{"vesel -o t.xlsx": `did you mean "vessel"?`, "vessel -o t.csv": "--output can't be",
		"vessel": "--output"} {
		r := w.run(append([]string{"template", "--db", w.db}, strings.Fields(arguments)...)...)
		assert.Equal(t, 2, r.status)
		assert.Contains(t, r.stderr, says)
	}
	r := w.run("template", "vessel", "--db", w.db, "-o", "t.xlsx", "--json")
	assert.Equal(t, 0, r.status, r.stderr)
}

// savedByOffice has an office suite open a workbook and save it again, where one is installed.
func (w *world) savedByOffice(name string) {
	w.Helper()
	office, err := exec.LookPath("soffice")
	if err != nil {
		w.Log("no office suite is installed, so the workbook stays as the library saved it")
		return
	}
	before, err := os.ReadFile(w.path(name))
	require.NoError(w, err)
	c := exec.Command(office, "-env:UserInstallation=file://"+w.path("office"), "--headless", "--convert-to", "xlsx", "--outdir",
		w.path("saved"), w.path(name))
	said, err := c.CombinedOutput()
	require.NoError(w, err, string(said))
	require.NoError(w, os.Rename(w.path("saved/"+name), w.path(name)), string(said))
	assert.NotEqual(w, string(before), w.read(name))
}
