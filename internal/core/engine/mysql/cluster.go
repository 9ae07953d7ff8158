package mysql

import (
	"context"
	"database/sql"
	"fmt"
	"strconv"
	"strings"

	"ladle/internal/core/fault"
)

// alone refuses a server that is a node of a Galera cluster with others. LOCK TABLES holds on its own node only, and
// while it does, rows that other nodes have committed can't be applied there: the load would wait behind them for its
// commit, and the whole cluster with it.
func (d *Database) alone(ctx context.Context) error {
	said := map[string]string{}
	for _, ask := range []string{"SHOW GLOBAL VARIABLES LIKE 'wsrep_on'", "SHOW GLOBAL STATUS LIKE 'wsrep_cluster_size'"} {
		err := d.each(ctx, ask, func(row *sql.Rows) error {
			var name, value string
			err := row.Scan(&name, &value)
			said[strings.ToLower(name)] = value
			return err
		})
		if err != nil {
			return err
		}
	}
	size, _ := strconv.Atoi(said["wsrep_cluster_size"]) // a server that knows of no cluster says nothing
	if said["wsrep_on"] != "ON" || size < 2 {
		return nil
	}
	return fault.At(fault.Failed, fault.Problem{File: d.name,
		What: fmt.Sprintf("this server is one of %d nodes of a Galera cluster, where a load can make all of them stand still: "+
			"its table locks hold on this node only", size),
		Do: "load into a server that is in no cluster, and copy the rows from there; what only reads works here too: survey, " +
			"tables, look, draft, verify"})
}
