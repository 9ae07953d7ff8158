package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"ladle/internal/core/engine"
	"ladle/internal/core/engine/mysql"
	"ladle/internal/core/engine/postgres"
	"ladle/internal/core/engine/sqlite"
	"ladle/internal/core/fault"
	"ladle/internal/core/schema"
	"ladle/internal/term"
)

func databaseOption() option {
	return option{name: "db", value: "DATABASE", group: groupDatabase, variable: "LADLE_DB", needed: true,
		does: "the path of an SQLite file, or a URL: postgres://USER@HOST/NAME or mysql://USER@HOST/NAME"}
}

// openWithSchema opens the database of the command line and reads its catalogue.
func openWithSchema(ctx context.Context, c *cli.Command) (engine.Database, *schema.Schema, error) {
	db, err := open(ctx, c.String("db"), waits(c))
	if err != nil {
		return nil, nil, err
	}
	s, err := db.Schema(ctx)
	if err != nil {
		db.Close()
		return nil, nil, err
	}
	return db, s, nil
}

func waitOption() option {
	return option{name: "wait", value: "TIME", group: groupDatabase, fallback: "5s", check: isTime,
		does: "wait that long for tables that another session has locked: 30s, 10m"}
}

func retriesOption() option {
	return option{name: "retries", value: "N", group: groupDatabase, check: retriesCheck,
		does: "judge and write anew, up to N times, where a lock can't be had in time, or the database ended the " +
			"transaction for that of another session (default: none; on a Galera cluster 10)"}
}

// progressOptions say how far the work is in which way, and whether its end is told.
func progressOptions() []option {
	return []option{
		{name: "progress", value: "FORMAT", group: groupOutput, choose: []string{string(term.Plain), string(term.JSON),
			string(term.None)}, fallback: string(term.Plain), does: "show on standard error how far the work is as text, as " +
			"json (an object a line: what, done, of, unit), or none"},
		{name: "quiet", short: "q", group: groupOutput, does: "print nothing unless something is wrong or set aside"}}
}

// showProgress shows progress in the way that the command line asks for.
func showProgress(c *cli.Command) {
	term.ProgressIn = term.Manner(c.String("progress"))
	if c.Bool("quiet") && !c.IsSet("progress") {
		term.ProgressIn = term.None
	}
}

// retries is how often a load is done anew that others stood in the way of; below zero where that isn't said.
func retries(c *cli.Command) int {
	if n, err := strconv.Atoi(c.String("retries")); err == nil {
		return n
	}
	return -1
}

func retriesCheck(text string) error {
	if n, err := strconv.ParseUint(text, 10, 16); err != nil || n > 1000 {
		return fault.InvalidValue{What: fmt.Sprintf("can't be %q", text), Do: "give a whole number, up to 1000"}
	}
	return nil
}

func timeoutOption() option {
	return option{name: "statement-timeout", value: "TIME", group: groupDatabase, fallback: "1h", check: isTime,
		does: "give up when the server gives no sign of life for that long"}
}

// isTime is an error for what is no length of time.
func isTime(word string) error {
	if d, err := time.ParseDuration(word); err != nil || d <= 0 {
		return fault.InvalidValue{What: fmt.Sprintf("%q is not a length of time", word), Do: "write 30s, 10m or 2h"}
	}
	return nil
}

// waits are how long the command waits for the database.
func waits(c *cli.Command) engine.Waits {
	w := engine.UsualWaits
	if d, err := time.ParseDuration(c.String("wait")); err == nil {
		w.Lock = d
	}
	if d, err := time.ParseDuration(c.String("statement-timeout")); err == nil {
		w.Statement = d
	}
	return w
}

// open connects to a database by its path or URL.
func open(ctx context.Context, database string, waits engine.Waits) (engine.Database, error) {
	if database == "" {
		return nil, fault.New(fault.Wrong, "no database is named", "give --db, or set LADLE_DB")
	}
	switch kindOf(database) {
	case "sqlite":
		return sqlite.Open(database, waits)
	case "postgres":
		return postgres.Open(ctx, database, waits)
	case "mysql":
		return mysql.Open(ctx, database, waits)
	}
	scheme, _, _ := strings.Cut(database, "://")
	return nil, fault.New(fault.Wrong, fmt.Sprintf("%q is not a kind of database that ladle knows", scheme),
		"give the path of an SQLite file, or a URL like postgres://USER@HOST/NAME or mysql://USER@HOST/NAME")
}

// kindOf is the kind of a database by its path or URL: sqlite, postgres or mysql; "" for any other URL.
func kindOf(database string) string {
	scheme, _, isURL := strings.Cut(database, "://")
	switch {
	case !isURL:
		return "sqlite"
	case scheme == "postgres" || scheme == "postgresql":
		return "postgres"
	case scheme == "mysql" || scheme == "mariadb":
		return "mysql"
	}
	return ""
}
