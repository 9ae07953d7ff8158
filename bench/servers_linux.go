package main

import (
	"bytes"
	"os"
	"path/filepath"
	"strconv"
)

// serversCPU is the CPU time, in seconds, that the database servers of this machine have taken so far (proc_pid_stat(5)): of
// their processes, and of those that ended and belonged to them.
func serversCPU() (seconds float64) {
	const ticks = 100 // a second: USER_HZ, on all usual machines
	all, _ := filepath.Glob("/proc/[0-9]*/stat")
	for _, path := range all {
		stat, err := os.ReadFile(path)
		open, closed := bytes.IndexByte(stat, '('), bytes.LastIndexByte(stat, ')')
		if err != nil || open < 0 || closed < open {
			continue // it has ended
		}
		switch string(stat[open+1 : closed]) {
		case "postgres", "mariadbd", "mysqld":
		default:
			continue
		}
		const first, last = 11, 14 // utime, stime, cutime and cstime, behind the name
		for i, field := range bytes.Fields(stat[closed+1:]) {
			if n, err := strconv.ParseFloat(string(field), 64); err == nil && i >= first && i <= last {
				seconds += n / ticks
			}
		}
	}
	return seconds
}
