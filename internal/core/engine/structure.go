package engine

import (
	"errors"

	"ladle/internal/core/schema"
)

// Restructuring is a change of tables.
type Restructuring struct {
	Lock       []*schema.Table    // tables that are there and change: nobody else writes to them meanwhile
	Own        []*schema.Table    // see Database.Begin
	May        func(Reader) error // is asked under the locks, before the first statement; nil where there is nothing to ask
	Statements []Statement
}

// In asks, and runs the statements by exec, in a transaction that rolls them back where one fails.
func (r Restructuring) In(tx Tx, exec func(sql string) error) (Tx, error) {
	var err error
	if r.May != nil {
		err = r.May(tx)
	}
	for i := 0; i < len(r.Statements) && err == nil; i++ {
		err = exec(r.Statements[i].SQL)
	}
	if err != nil {
		return nil, errors.Join(err, tx.Rollback())
	}
	return tx, nil
}

// Statement is a statement that changes tables, and what takes it back where the database can't roll it back.
type Statement struct {
	SQL  string
	Back []string
}

// TableScript is the statements that make a table.
type TableScript struct {
	Table      string
	Statements []string
}

// MakeAll is the statements that make tables. Taking the first of a table back drops it.
func MakeAll(scripts []TableScript) (all []Statement) {
	for _, t := range scripts {
		for i, s := range t.Statements {
			statement := Statement{SQL: s}
			if i == 0 {
				statement.Back = []string{"DROP TABLE " + t.Table}
			}
			all = append(all, statement)
		}
	}
	return all
}
