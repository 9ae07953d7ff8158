package mysql

import (
	"context"
	"database/sql"
	"fmt"
	"strings"

	"ladle/internal/core/engine"
	"ladle/internal/core/schema"
	"ladle/internal/core/value"
)

// equal is a temporary table of rows that are to be removed: by the digest of their columns how many of each.
const equal = "ladle_equal"

// removeEqual removes, for each of some whole rows, one that is equal to it, and returns the number. Where some of them
// stay, all go, and those that stay are added again; where a trigger would see that, each kind of rows goes by itself,
// for only a LIMIT tells its rows apart.
func (d *Database) removeEqual(ctx context.Context, t *schema.Table, _ []string, rows *value.Batch) (removed int64,
	err error) {
	there, err := d.stageEqual(ctx, t, rows)
	if err != nil {
		return 0, err
	}
	from := fmt.Sprintf("FROM %s STRAIGHT_JOIN %s g ON g.h = %s", quote(t.Name), equal, there)
	stay, err := d.someStay(ctx, from)
	if err != nil {
		return 0, err
	}
	remove := func(statement string, arguments ...any) error {
		done, err := d.conn.ExecContext(ctx, statement, arguments...)
		if err != nil {
			return err
		}
		n, err := done.RowsAffected()
		removed += n
		return err
	}
	if len(t.Triggers) > 0 {
		for _, s := range stay {
			err := remove(fmt.Sprintf("DELETE FROM %s WHERE %s = ? LIMIT %d", quote(t.Name), there, s.gone), s.digest)
			if err == nil {
				_, err = d.conn.ExecContext(ctx, "DELETE FROM "+equal+" WHERE h = ?", s.digest)
			}
			if err != nil {
				return removed, err
			}
		}
		stay = nil
	}
	if err := remove("DELETE " + quote(t.Name) + " " + from); err != nil {
		return removed, err
	}
	n, err := d.addAgain(ctx, t, rows, stay)
	return removed - n, err
}

// stageEqual brings whole rows into the temporary table, and returns the digest of a row of t.
func (d *Database) stageEqual(ctx context.Context, t *schema.Table, rows *value.Batch) (there string, err error) {
	columns := t.Kept()
	if err := d.stage(ctx, wanted, t, columns, rows); err != nil {
		return "", err
	}
	staged, own := make([]string, len(columns)), make([]string, len(columns))
	for i, name := range columns {
		staged[i] = exactly(t.Column(name), fmt.Sprintf("w.v%d", i))
		own[i] = exactly(t.Column(name), quote(t.Name)+"."+quote(name))
	}
	for _, statement := range []string{
		"DROP TEMPORARY TABLE IF EXISTS " + equal,
		"CREATE TEMPORARY TABLE " + equal + " (h BINARY(32) PRIMARY KEY, k BIGINT NOT NULL, n BIGINT NOT NULL) ENGINE = InnoDB",
		fmt.Sprintf("INSERT INTO %s SELECT %s, COUNT(*), MIN(n) FROM %s w GROUP BY 1", equal, digest(staged), wanted),
	} {
		if err := d.exec(ctx, statement); err != nil {
			return "", err
		}
	}
	return digest(own), nil
}

// someOf are equal rows of which some go and some stay.
type someOf struct {
	digest     []byte
	row        int // the first of them among those that were staged
	gone, stay int64
}

// someStay lists the rows of which more are there than go.
func (d *Database) someStay(ctx context.Context, from string) (all []someOf, err error) {
	err = d.each(ctx, "SELECT g.h, g.n, g.k, COUNT(*) - g.k "+from+" GROUP BY g.h, g.n, g.k HAVING COUNT(*) > g.k",
		func(row *sql.Rows) error {
			var s someOf
			err := row.Scan(&s.digest, &s.row, &s.gone, &s.stay)
			all = append(all, s)
			return err
		})
	return all, err
}

// addAgain adds the rows that stay, and returns their number.
func (d *Database) addAgain(ctx context.Context, t *schema.Table, rows *value.Batch, all []someOf) (n int64,
	err error) {
	columns := t.Kept()
	kinds := engine.Types(t, columns)
	batch := value.NewBatch(kinds)
	send := func() error {
		n += int64(batch.Len())
		err := d.send(ctx, quote(t.Name), columns, kinds, batch, 0, batch.Len())
		batch.Reset()
		return err
	}
	for _, s := range all {
		for range s.stay {
			for i := range batch.Columns {
				batch.Columns[i].AppendFrom(&rows.Columns[i], s.row)
			}
			if batch.Len() < engine.BatchRows {
				continue
			}
			if err := send(); err != nil {
				return n, err
			}
		}
	}
	if batch.Len() == 0 {
		return n, nil
	}
	return n, send()
}

// exactly is a column as a text that no other value of it has.
func exactly(c *schema.Column, expression string) string {
	switch c.Type.Kind {
	case value.Bytes:
		return "HEX(" + expression + ")"
	case value.Float: // which a FLOAT would round
		return "CAST(" + expression + " + 0e0 AS CHAR)"
	}
	return "CAST(" + expression + " AS CHAR)"
}

// digest is that of a row (FIPS 180-4): of its columns in quotes, so that none runs into the next.
func digest(texts []string) string {
	quotes := make([]string, len(texts))
	for i, text := range texts {
		quotes[i] = "QUOTE(" + text + ")"
	}
	return "UNHEX(SHA2(CONCAT(" + strings.Join(quotes, ", ") + "), 256))"
}
