package mysql

import (
	"context"
	"database/sql"
	"fmt"
	"strings"

	"ladle/internal/core/engine"
	"ladle/internal/core/fault"
	"ladle/internal/core/schema"
)

// Rights are those on tables, and those to lock them and to make temporary ones, in which rows wait. Whether somebody
// has them is told by the server's lists, in which a user finds only himself, unless he administers others; what
// comes with a role is not in them.
func (d *Database) Rights(ctx context.Context, user string, needs []engine.Need) (engine.Rights, error) {
	account, host, found := strings.Cut(user, "@")
	if !found {
		host = "%"
	}
	to := " TO " + quote(account) + "@" + quote(host)
	held, err := d.held(ctx, "'"+account+"'@'"+host+"'")
	if err != nil {
		return nil, err
	}
	if len(held) == 0 { // an account that may do nothing has USAGE
		return nil, fault.At(fault.Wrong, fault.Problem{File: d.name,
			What: fmt.Sprintf("there is no account %s@%s that this user can see", account, host),
			Do: "write it as NAME@HOST as in its CREATE USER, and connect as it or as a user who may read the " +
				"database mysql"})
	}
	var all engine.Rights
	for _, n := range needs {
		word := engine.Words[n.Do]
		table := quote(d.schema) + "." + quote(n.Table.Name)
		r := all.Add(n.Table.Name, engine.Acts[n.Do], "GRANT "+word+" ON "+table+to, n.For)
		r.Has = held[word] || held[word+" "+strings.ToLower(n.Table.Name)]
		for _, x := range [][2]string{{"LOCK TABLES", "lock tables"}, {"CREATE TEMPORARY TABLES", "make temporary tables"}} {
			if d.node != nil && x[0] == "LOCK TABLES" {
				continue
			}
			r := all.Add("database "+d.schema, x[1], fmt.Sprintf("GRANT %s ON %s.*%s", x[0], quote(d.schema), to), n.For)
			r.Has = held[x[0]]
		}
	}
	return all, nil
}

// held are the privileges that an account has: on all tables of the database by their names, on one with its name
// behind.
func (d *Database) held(ctx context.Context, grantee string) (map[string]bool, error) {
	held := map[string]bool{}
	take := func(row *sql.Rows) error {
		var privilege, table string
		err := row.Scan(&privilege, &table)
		held[strings.TrimSpace(privilege+" "+strings.ToLower(table))] = true
		return err
	}
	err := d.each(ctx, `SELECT privilege_type, '' FROM information_schema.user_privileges WHERE grantee = ?
		UNION SELECT privilege_type, '' FROM information_schema.schema_privileges WHERE grantee = ? AND database() LIKE table_schema
		UNION SELECT privilege_type, table_name FROM information_schema.table_privileges
		WHERE grantee = ? AND table_schema = database()`, take, grantee, grantee, grantee)
	return held, err
}

// Definitions are the statements that make those of the tables which are missing.
func (d *Database) Definitions(ctx context.Context, own []*schema.Table) ([]string, error) {
	return engine.Missing(ctx, d, own, definition, addition)
}
