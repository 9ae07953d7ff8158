package main

import (
	"fmt"

	"zombiezen.com/go/sqlite"
	"zombiezen.com/go/sqlite/sqlitex"

	"ladle/demo"
)

// floor inserts what the flat file becomes, already cleaned and with all ids found, with nothing but prepared
// statements in one transaction: what no load can do without.
func floor(database string, h demo.Harbour) error {
	conn, err := sqlite.OpenConn(database, sqlite.OpenReadWrite)
	if err != nil {
		return err
	}
	defer conn.Close()
	for _, q := range []string{"PRAGMA cache_size = -65536", "PRAGMA foreign_keys = ON", "BEGIN IMMEDIATE"} {
		if err := sqlitex.ExecuteTransient(conn, q, nil); err != nil {
			return err
		}
	}
	parts := []func(*sqlite.Conn, demo.Harbour) error{floorLookups, floorVessels, floorCalls, floorCargo}
	if h.First > 0 { // the rest of a harbour whose vessels are there
		parts = parts[2:]
	}
	for _, part := range parts {
		if err := part(conn, h); err != nil {
			return err
		}
	}
	return sqlitex.ExecuteTransient(conn, "COMMIT", nil)
}

// Rows that the database holds before.
const vesselsBefore, agentsBefore, callsBefore = 4, 3, 3

func floorLookups(conn *sqlite.Conn, h demo.Harbour) error {
	for n := 4; n < len(demo.Types); n++ {
		if err := sqlitex.Execute(conn, "INSERT INTO vessel_type (id, name) VALUES (?, ?)",
			&sqlitex.ExecOptions{Args: []any{n + 1, demo.Types[n]}}); err != nil {
			return err
		}
	}
	for n := range h.Agents {
		if err := sqlitex.Execute(conn, "INSERT INTO agent (id, name) VALUES (?, ?)",
			&sqlitex.ExecOptions{Args: []any{n + agentsBefore + 1, demo.AgentNo(n)}}); err != nil {
			return err
		}
	}
	return nil
}

func floorVessels(conn *sqlite.Conn, h demo.Harbour) error {
	s, err := conn.Prepare("INSERT INTO vessel (id, reg_no, name, type_id, flag_id, gross_tonnage, built) VALUES (?, " +
		"?, ?, ?, ?, ?, ?)")
	if err != nil {
		return err
	}
	for n := range h.Vessels {
		v := h.VesselNo(n)
		s.BindInt64(1, n+vesselsBefore+1)
		s.BindText(2, v.RegNo)
		s.BindText(3, v.Name)
		s.BindInt64(4, v.TypeNo)
		s.BindInt64(5, v.FlagNo)
		s.BindFloat(6, float64(v.GT)/10)
		s.BindInt64(7, v.Built)
		if err := once(s); err != nil {
			return err
		}
	}
	return nil
}

func floorCalls(conn *sqlite.Conn, h demo.Harbour) error {
	s, err := conn.Prepare("INSERT INTO port_call (id, vessel_id, arrived, departed, berth_id, agent_id, dues, " +
		"entered_by) " +
		"VALUES (?, ?, ?, ?, ?, ?, ?, ?)")
	if err != nil {
		return err
	}
	const seconds = "2006-01-02 15:04:05"
	for n := h.First; n < h.First+h.Calls; n++ {
		c := h.CallNo(n)
		s.BindInt64(1, n+callsBefore+1)
		s.BindInt64(2, c.Vessel+vesselsBefore+1)
		s.BindText(3, c.Arrived.Format(seconds))
		s.BindText(4, c.Departed.Format(seconds))
		s.BindInt64(5, c.Berth+1)
		s.BindInt64(6, c.Agent+agentsBefore+1)
		s.BindFloat(7, float64(c.Dues)/100)
		s.BindText(8, "harbour office")
		if err := once(s); err != nil {
			return fmt.Errorf("call %d: %w", n, err)
		}
	}
	return nil
}

func floorCargo(conn *sqlite.Conn, h demo.Harbour) error {
	if !h.Cargo {
		return nil
	}
	s, err := conn.Prepare("INSERT INTO call_cargo (call_id, commodity_id, tons) VALUES (?, ?, ?)")
	if err != nil {
		return err
	}
	for n := h.First; n < h.First+h.Calls; n++ {
		c := h.CallNo(n)
		s.BindInt64(1, n+callsBefore+1)
		s.BindInt64(2, c.Commodity+1)
		s.BindFloat(3, float64(c.Tons)/100)
		if err := once(s); err != nil {
			return fmt.Errorf("cargo %d: %w", n, err)
		}
	}
	return nil
}

func once(s *sqlite.Stmt) error {
	if _, err := s.Step(); err != nil {
		return err
	}
	return s.Reset()
}
