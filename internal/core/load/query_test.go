package load_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/changes"
	"ladle/internal/core/load"
	"ladle/internal/core/reason"
	"ladle/internal/core/report"
)

const registers = `
	CREATE TABLE flag (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE);
	CREATE TABLE register (id INTEGER PRIMARY KEY, reg TEXT NOT NULL UNIQUE, flag TEXT, flag_id INTEGER REFERENCES flag (id));
	INSERT INTO flag (name) VALUES ('Norway');
	INSERT INTO register (reg, flag) VALUES ('A1', 'Norway'), ('A2', 'Denmark'), ('A3', NULL);
`

const relink = `ladle: 1
inputs: {old: {query: "SELECT reg, flag FROM register WHERE flag IS NOT NULL"}}
tables:
  register:
    from: old
    key: reg
    already_there: update
    not_there: set_aside
    columns: {reg: reg, flag_id: {from: flag, lookup: flag.name, not_found: add}}
`

// TestAQueryIsHeldAgainstWhatIsThereWhenRowsAreWritten: rows that changed since they were read refuse the load; those
// that only come in another order, or are of other tables, don't.
func TestAQueryIsHeldAgainstWhatIsThereWhenRowsAreWritten(t *testing.T) {
	for name, c := range map[string]struct {
		meanwhile string
		outcome   report.Outcome
	}{
		"nothing happens":       {"", report.Loaded},
		"a value changes":       {"UPDATE register SET flag = 'Sweden' WHERE reg = 'A1'", report.Refused},
		"a row comes":           {"INSERT INTO register (reg, flag) VALUES ('A4', 'Norway')", report.Refused},
		"a row goes":            {"DELETE FROM register WHERE reg = 'A2'", report.Refused},
		"a row that isn't read": {"INSERT INTO register (reg) VALUES ('A5')", report.Loaded},
		"the order of rows":     {"UPDATE register SET id = 9 WHERE reg = 'A1'", report.Loaded},
		"a blank for a text":    {"UPDATE register SET flag = '' WHERE reg = 'A1'", report.Refused},
		"two rows exchange texts": {"UPDATE register SET flag = iif(reg = 'A1', 'Denmark', 'Norway') WHERE flag IS " +
			"NOT NULL", report.Refused},
	} {
		t.Run(name, func(t *testing.T) {
			s := newStage(t, registers, relink, "")
			got, err := s.load(load.Options{Ask: func(context.Context, *report.Report, changes.Walk) (bool, error) {
				s.exec(c.meanwhile)
				return true, nil
			}})
			require.NoError(t, err)
			require.Equal(t, c.outcome, got.Outcome, got.Why)
			if c.outcome == report.Refused {
				assert.Equal(t, reason.QueryChanged, got.Why.Kind)
				assert.Equal(t, []string{"1"}, s.rows("SELECT count(*) FROM flag"))
				assert.Empty(t, s.rows("SELECT reg FROM register WHERE flag_id IS NOT NULL"))
				return
			}
			assert.Equal(t, []string{"A1|Norway", "A2|Denmark"},
				s.rows("SELECT reg, name FROM register r JOIN flag f ON f.id = r.flag_id ORDER BY reg"))
		})
	}
}
