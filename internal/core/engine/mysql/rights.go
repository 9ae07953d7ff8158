package mysql

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/go-sql-driver/mysql"

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

// May does it to no row, which the server allows only to those who may do it to some.
func (d *Database) May(ctx context.Context, do engine.Privilege, t *schema.Table, columns []string) error {
	err := d.may(ctx, do, t, columns)
	var said *mysql.MySQLError
	if errors.As(err, &said) && said.Number == errLockWaitTimeout {
		return d.locked(ctx, []*schema.Table{t}, err)
	}
	if !denies(err) {
		return err
	}
	grantee, err := d.grantee(ctx)
	return errors.Join(err, &engine.Denied{What: engine.Verbs[do] + " " + t.Name,
		Grant: fmt.Sprintf("GRANT %s ON %s.%s TO %s", engine.Words[do], quote(d.schema), quote(t.Name), grantee)})
}

// denies reports whether an error says that the user lacks a privilege.
func denies(err error) bool {
	var said *mysql.MySQLError
	return errors.As(err, &said) && slices.Contains([]uint16{errTableDenied, errColumnDenied, errDatabaseDenied,
		errPrivilegeMissing, errAccessDenied}, said.Number)
}

// grantee is the account in the words of GRANT.
func (d *Database) grantee(ctx context.Context) (string, error) {
	name, err := d.User(ctx)
	user, host, _ := strings.Cut(name, "@")
	return quote(user) + "@" + quote(host), err
}

// MayLoad asks whether the user may lock tables, and make the temporary ones in which rows wait.
func (d *Database) MayLoad(ctx context.Context, work, _ []*schema.Table) (denied []*engine.Denied, err error) {
	if err := d.fit(ctx); err != nil {
		return nil, err
	}
	var locked []string
	for _, t := range work {
		locked = append(locked, quote(t.Name)+" READ")
	}
	asked := map[string]func() error{
		"CREATE TEMPORARY TABLES": func() error {
			err := d.exec(ctx, "CREATE TEMPORARY TABLE ladle_may (n INTEGER)")
			if err == nil {
				err = d.exec(ctx, "DROP TEMPORARY TABLE ladle_may")
			}
			return err
		},
		"LOCK TABLES": func() error {
			err := d.exec(ctx, "LOCK TABLES "+strings.Join(locked, ", "))
			var said *mysql.MySQLError
			if errors.As(err, &said) && said.Number == errLockWaitTimeout { // it may; the load itself will wait
				return nil
			}
			return errors.Join(err, d.exec(ctx, "UNLOCK TABLES"))
		},
	}
	words := map[string]string{"CREATE TEMPORARY TABLES": "make temporary tables", "LOCK TABLES": "lock tables"}
	for _, privilege := range slices.Sorted(maps.Keys(asked)) {
		if privilege == "LOCK TABLES" && (locked == nil || d.node != nil) {
			continue
		}
		err := asked[privilege]()
		if err != nil && !denies(err) {
			return nil, err
		}
		if err != nil {
			grantee, err := d.grantee(ctx)
			if err != nil {
				return nil, err
			}
			denied = append(denied, &engine.Denied{What: words[privilege], Reads: privilege != "LOCK TABLES",
				Grant: fmt.Sprintf("GRANT %s ON %s.* TO %s", privilege,
					quote(d.schema), grantee)})
		}
	}
	return denied, nil
}

func (d *Database) may(ctx context.Context, do engine.Privilege, t *schema.Table, columns []string) error {
	switch do {
	case engine.Update:
		var set []string
		for _, c := range columns {
			set = append(set, quote(c)+" = "+quote(c))
		}
		return d.exec(ctx, fmt.Sprintf("UPDATE %s SET %s WHERE 1 = 0", quote(t.Name), strings.Join(set, ", ")))
	case engine.Delete:
		return d.exec(ctx, fmt.Sprintf("DELETE FROM %s WHERE 1 = 0", quote(t.Name)))
	}
	return d.exec(ctx, fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM %s WHERE 1 = 0", quote(t.Name), quoted(columns),
		quoted(columns), quote(t.Name)))
}
