package logbook

import (
	"bytes"
	"compress/flate"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/schema"
)

// Made is a table that a run made.
type Made struct {
	Table      string   `json:"table"`
	Definition []string `json:"definition"` // how it was read once it was made; see schema.Table.Definition
	Statements []string `json:"statements"` // that made it
}

// MakeTables makes tables, all of them or none, and notes that as a run, whose number it returns; 0 where it is not
// noted.
func MakeTables(ctx context.Context, db engine.Database, scripts []engine.TableScript, r *Run, noted bool,
	reopen Reopen) (id int64, err error) {
	if err := db.MayMake(ctx); err != nil {
		return 0, err
	}
	var own []*schema.Table
	if noted {
		own = Tables()
		if _, err := Ready(ctx, db); err != nil {
			return 0, err
		}
	}
	r.Started, r.Token, r.Kind = time.Now(), NewToken(), Make
	tx, err := db.Restructure(ctx, engine.Restructuring{Own: own, Statements: engine.MakeAll(scripts)})
	if err != nil {
		return 0, err
	}
	if noted {
		id, err = note(ctx, db, tx, scripts, r)
	}
	if err != nil {
		return 0, errors.Join(err, tx.Rollback())
	}
	c := Commitment{Tx: tx, Token: r.Token, Database: r.Database}
	if noted {
		c.Reopen = reopen
	}
	return id, c.Commit(ctx)
}

// note writes the run with the tables that it made.
func note(ctx context.Context, db engine.Database, tx engine.Tx, scripts []engine.TableScript, r *Run) (int64, error) {
	s, err := db.Schema(ctx)
	if err != nil {
		return 0, err
	}
	w := NewWriter(tx, r.Token)
	for turn, script := range scripts {
		called := s.Called(script.Table)
		if len(called) == 0 {
			return 0, fault.New(fault.Failed, fmt.Sprintf("the table %s was made, but can't be found", script.Table),
				"nothing was changed; look whether a trigger of the database prevents it")
		}
		t := called[0]
		r.Steps = append(r.Steps, Step{Name: "make", Table: t.Name})
		if err := w.made(ctx, turn, Made{t.Name, t.Definition(), script.Statements}); err != nil {
			return 0, err
		}
	}
	if err := w.Close(ctx); err != nil {
		return 0, err
	}
	return Write(ctx, tx, r)
}

// made keeps a table.
func (w *Writer) made(ctx context.Context, turn int, m Made) error {
	data, err := json.Marshal(m)
	if err != nil {
		return err
	}
	w.chunk, w.data = &Chunk{Turn: turn, What: MadeTable, Table: m.Table}, data
	return w.finish(ctx)
}

// Made lists the tables that the run made, in the order of making.
func (r *Run) Made(ctx context.Context, db engine.Reader) (all []Made, err error) {
	kept, err := chunks(ctx, db, r.Token)
	for _, c := range slices.Backward(kept) {
		if c.What != MadeTable || err != nil {
			continue
		}
		var full *Chunk
		if full, err = c.load(ctx, db, r.Token); err != nil {
			break
		}
		var m Made
		if err = json.NewDecoder(flate.NewReader(bytes.NewReader(full.Data))).Decode(&m); err != nil {
			return nil, damaged(err)
		}
		all = append(all, m)
	}
	return all, err
}

// Altered says how the table is not as it was made: what it has that it hadn't, and what it has no more.
func (m *Made) Altered(s *schema.Schema) (differences []string) {
	t := s.Table(m.Table)
	if t == nil {
		return []string{"the table " + m.Table + " no longer exists"}
	}
	now := t.Definition()
	for _, line := range m.Definition {
		if !slices.Contains(now, line) {
			differences = append(differences, m.Table+" no longer has: "+line)
		}
	}
	for _, line := range now {
		if !slices.Contains(m.Definition, line) {
			differences = append(differences, m.Table+" now has: "+line)
		}
	}
	return differences
}
