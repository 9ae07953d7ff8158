package main

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"time"

	"ladle/demo"
)

// cluster measures a load of a million flat lines on a node of LADLE_TEST_CLUSTER against LOAD DATA LOCAL there, and one
// while another node takes single rows into the same table.
func (b *bench) cluster(_ string, runs int) error {
	nodes := strings.Fields(os.Getenv("LADLE_TEST_CLUSTER"))
	if len(nodes) < 2 {
		return fmt.Errorf("LADLE_TEST_CLUSTER names no cluster: make bench-cluster")
	}
	if err := os.Setenv("LADLE_TEST_MYSQL", nodes[0]); err != nil {
		return err
	}
	s, folder := servers()["mysql"], filepath.Join(b.folder, fmt.Sprint(million))
	if err := demo.NewHarbour(0, million, 1).Generate(folder); err != nil {
		return err
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	create := func() (database string, err error) { // the first rows name ids one after the other, and a node gives others
		step := func(n int) error {
			return mariadb{nodes[0]}.run("", fmt.Sprintf("SET GLOBAL auto_increment_increment = %d, auto_increment_offset = 1", n))
		}
		if err = step(1); err == nil {
			if database, err = s.create(); err == nil {
				err = step(len(nodes))
			}
		}
		for _, n := range nodes { // what was measured before is done everywhere, not only where it was asked for
			if err == nil {
				err = mariadb{n}.run("", "SET SESSION wsrep_sync_wait = 15; SELECT count(*) FROM ladle_bench.port_call")
			}
		}
		return database, err
	}
	var quiet, crowded pairs
	for range runs {
		database, err := create()
		if err != nil {
			return err
		}
		floor, _, err := run(self, "server-floor", "mysql", fmt.Sprint(million))
		if err != nil {
			return err
		}
		if _, err = create(); err != nil {
			return err
		}
		load, memory, err := run(b.program, "load", filepath.Join(folder, demo.FlatLadle), "--db", database, "--yes", "--json")
		if err != nil {
			return err
		}
		if _, err = create(); err != nil {
			return err
		}
		ctx, stop := context.WithCancel(context.Background())
		foreign := make(chan int)
		go func() { foreign <- writes(ctx, nodes[1]) }()
		among, attempts, err := b.attempts(filepath.Join(folder, demo.FlatLadle), database)
		stop()
		rows := <-foreign
		if err != nil {
			return err
		}
		fmt.Printf("  cluster: floor %.1f s, load %.1f s, %.0f MB; among %d rows of others %.1f s, %d attempts more\n", floor, load,
			memory, rows, among, attempts)
		quiet.floor, quiet.load, quiet.memory = append(quiet.floor, floor), append(quiet.load, load), append(quiet.memory, memory)
		crowded.floor, crowded.load = append(crowded.floor, load), append(crowded.load, among)
	}
	figures("cluster_1m_time", quiet.ratios(), "x floor", "1.6")
	figure("cluster_1m_memory", largest(quiet.memory), "MB", "200")
	figures("cluster_1m_among_others", crowded.ratios(), "x quiet", "-")
	return nil
}

// writes adds calls of a vessel one by one on a node, and returns how many.
func writes(ctx context.Context, node string) (rows int) {
	u, err := url.Parse(node)
	if err != nil {
		return 0
	}
	db, err := sql.Open("mysql", fmt.Sprintf("root@tcp(%s)/ladle_bench", u.Host))
	if err != nil {
		return 0
	}
	defer db.Close()
	day := time.Date(1970, 1, 1, 0, 0, 0, 0, time.UTC)
	for ; ctx.Err() == nil; day = day.Add(time.Hour) {
		_, err := db.ExecContext(ctx, "INSERT INTO port_call (vessel_id, arrived, berth_id, entered_by) SELECT min(v.id), ?, "+
			"min(b.id), 'other' FROM vessel v, berth b", day.Format(time.DateTime))
		if err == nil {
			rows++
		}
	}
	return rows
}

var earlier = regexp.MustCompile(`(\d+) attempts? before this one failed`)

// attempts is a load, and how often it was judged anew.
func (b *bench) attempts(ladle, database string) (seconds float64, attempts int, err error) {
	begun := time.Now()
	out, err := exec.Command(b.program, "load", ladle, "--db", database, "--yes", "--json").Output()
	if err != nil {
		return 0, 0, err
	}
	seconds = time.Since(begun).Seconds()
	var document struct{ Notes []string }
	if err := json.Unmarshal(out, &document); err != nil {
		return 0, 0, err
	}
	if m := earlier.FindStringSubmatch(strings.Join(document.Notes, "\n")); m != nil {
		_, err = fmt.Sscan(m[1], &attempts)
	}
	return seconds, attempts, err
}
