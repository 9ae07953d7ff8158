package demo

import (
	"bufio"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"time"
)

// Harbour is the harbour at any size: rows calls in one flat file, each line with all that is known of its vessel.
// The same numbers give the same harbour.
type Harbour struct {
	First   int64   // the number of the first call, from 0
	Calls   int64   // how many there are
	Vessels int64   // how many vessels make them
	Agents  int64   // how many agents care for them
	Seed    uint64  // of all that is drawn by lot
	Messy   float64 // the share of lines with something wrong in them
	Cargo   bool    // each line also says what was landed
	Raise   int64   // is added to the dues of every call, in hundredths
}

// NewHarbour is a harbour whose numbers fit each other: calls first to first+calls of a long series.
func NewHarbour(first, calls int64, seed uint64) Harbour {
	return Harbour{First: first, Calls: calls, Vessels: min(max((first+calls)/100, 12), 8000), Agents: 60, Seed: seed}
}

// Vessel is one vessel.
type Vessel struct {
	RegNo, Name, Type, Flag string
	TypeNo, FlagNo          int64 // from 1
	GT                      int64 // in tenths
	Built                   int64
}

// Call is one port call.
type Call struct {
	Vessel, Berth, Agent int64 // from 0
	Arrived, Departed    time.Time
	Dues                 int64 // in hundredths
	Commodity, Tons      int64 // from 0; in hundredths
}

var (
	// Types are the vessel types: those of the database first, then new ones.
	Types = []string{"Bulk carrier", "Coaster", "Trawler", "Tug", "Ferry", "Dredger", "Sailing barge"}
	// Flags are the flag states of the database.
	Flags = []string{"Norway", "United Kingdom", "Denmark", "Netherlands", "Iceland", "Portugal"}
	// Berths are the berths of the database.
	Berths = []string{"N1", "N2", "N3", "S1", "F1"}
	// Commodities are those of the database.
	Commodities = []string{"Road salt", "Timber", "Fish meal", "Wheat", "Gravel"}

	first  = []string{"Grey", "Old", "Winter", "Bright", "Slow", "Patient", "Low", "Long", "Salt", "Quiet"}
	second = []string{"Heron", "Mercy", "Barley", "Morrow", "Water", "Hand", "Tide", "Reach", "Lantern", "Harbour"}
)

// lot is a number drawn for the thing n of a kind: the same each time.
func (h Harbour) lot(kind, n int64) *rand.Rand {
	return rand.New(rand.NewPCG(h.Seed^uint64(kind)<<56, uint64(n)))
}

// VesselNo is the vessel with number n, from 0.
func (h Harbour) VesselNo(n int64) Vessel {
	r := h.lot(1, n)
	v := Vessel{RegNo: fmt.Sprintf("PM-%06d", n+1000), TypeNo: r.Int64N(int64(len(Types))) + 1,
		FlagNo: r.Int64N(int64(len(Flags))) + 1, GT: r.Int64N(400_000) + 500, Built: r.Int64N(60) + 1965}
	v.Name = fmt.Sprintf("%s %s %d", first[r.IntN(len(first))], second[r.IntN(len(second))], n+1)
	v.Type, v.Flag = Types[v.TypeNo-1], Flags[v.FlagNo-1]
	return v
}

// AgentNo is the name of the agent with number n, from 0.
func AgentNo(n int64) string { return fmt.Sprintf("Merrow Agents %d", n+1) }

var firstDay = time.Date(2000, 1, 1, 0, 0, 0, 0, time.UTC)

// CallNo is the call with number n, from 0. Calls come one a minute.
func (h Harbour) CallNo(n int64) Call {
	x := mix(h.Seed + uint64(n))
	c := Call{Vessel: int64(x % uint64(h.Vessels)), Berth: int64(x >> 20 % uint64(len(Berths))),
		Agent: int64(x >> 28 % uint64(h.Agents)), Dues: int64(x>>36%900_000) + h.Raise,
		Commodity: int64(x >> 44 % uint64(len(Commodities))), Tons: int64(x>>12%500_000) + 1}
	c.Arrived = firstDay.Add(time.Duration(n) * time.Minute)
	c.Departed = c.Arrived.Add(time.Duration(x>>50%2880) * time.Minute)
	return c
}

// mix scatters n (the finalizer of splitmix64).
func mix(n uint64) uint64 {
	n += 0x9e3779b97f4a7c15
	n = (n ^ n>>30) * 0xbf58476d1ce4e5b9
	n = (n ^ n>>27) * 0x94d049bb133111eb
	return n ^ n>>31
}

const flatLadle = `# One flat file: each line is a call, with all that is known of its vessel.
ladle: 1
inputs:
  calls: {file: calls.csv}
tables:
  vessel:
    from: calls
    key: reg_no
    columns:
      reg_no: Reg. No.
      name: Vessel
      type_id: {from: Type, lookup: vessel_type.name, not_found: add}
      flag_id: {from: Flag, lookup: flag_state.name}
      gross_tonnage: GT
      built: Built
  port_call:
    from: calls
    key: [vessel_id, arrived]
    columns:
      vessel_id: {from: Reg. No., lookup: vessel.reg_no}
      arrived: Arrived
      departed: Departed
      berth_id: {from: Berth, lookup: berth.code}
      agent_id: {from: Agent, lookup: agent.name, not_found: add}
      dues: Dues
      entered_by: {constant: harbour office}
set_aside_limit: any
`

// cargoBlock is what the ladle file says besides of lines with cargo.
const cargoBlock = `  call_cargo:
    from: calls
    key: [call_id, commodity_id]
    columns:
      call_id: {lookup: {table: port_call, by: {vessel_id: {from: Reg. No., lookup: vessel.reg_no}, arrived: Arrived}}}
      commodity_id: {from: Commodity, lookup: commodity.name}
      tons: Tons
`

// ladle is the ladle file for the flat file.
func (h Harbour) ladle() string {
	if !h.Cargo {
		return flatLadle
	}
	return strings.Replace(flatLadle, "set_aside_limit", cargoBlock+"set_aside_limit", 1)
}

// Names of what Generate writes, besides the database.
const (
	FlatFile  = "calls.csv"
	FlatLadle = "flat.ladle.yaml"
)

// Generate writes the harbour into folder: the flat file, the ladle file for it and, unless it is there, the database.
func (h Harbour) Generate(folder string) error {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(folder, FlatLadle), []byte(h.ladle()), 0o644); err != nil {
		return err
	}
	if _, err := os.Stat(filepath.Join(folder, Database)); err != nil {
		if err := Create(filepath.Join(folder, Database)); err != nil {
			return err
		}
	}
	f, err := os.Create(filepath.Join(folder, FlatFile))
	if err != nil {
		return err
	}
	defer f.Close()
	w := bufio.NewWriterSize(f, 1<<20)
	if err := h.flat(w); err != nil {
		return err
	}
	if err := w.Flush(); err != nil {
		return err
	}
	return f.Close()
}

func (h Harbour) flat(w *bufio.Writer) error {
	vessels := make([]string, h.Vessels)
	for n := range vessels {
		v := h.VesselNo(int64(n))
		vessels[n] = fmt.Sprintf("%s,%s,%s,%s,%d.%d,%d", v.RegNo, v.Name, v.Type, v.Flag, v.GT/10, v.GT%10, v.Built)
	}
	cargo := ""
	if h.Cargo {
		cargo = ",Commodity,Tons"
	}
	if _, err := w.WriteString("Reg. No.,Vessel,Type,Flag,GT,Built,Berth,Agent,Arrived,Departed,Dues" + cargo +
		"\r\n"); err != nil {
		return err
	}
	const minutes = "2006-01-02 15:04"
	var line []byte
	for n := h.First; n < h.First+h.Calls; n++ {
		c := h.CallNo(n)
		line = append(append(line[:0], vessels[c.Vessel]...), ',')
		line = append(append(line, h.berth(n, c)...), ',')
		line = append(append(line, AgentNo(c.Agent)...), ',')
		line = append(c.Arrived.AppendFormat(line, minutes), ',')
		line = append(c.Departed.AppendFormat(line, minutes), ',')
		line = h.dues(line, n, c)
		if h.Cargo {
			line = fmt.Appendf(line, ",%s,%d.%02d", Commodities[c.Commodity], c.Tons/100, c.Tons%100)
		}
		line = append(line, "\r\n"...)
		if _, err := w.Write(line); err != nil {
			return err
		}
	}
	return nil
}

// wrong reports whether the line n has something wrong of a kind in it.
func (h Harbour) wrong(kind, n int64) bool {
	return h.Messy > 0 && float64(mix(h.Seed^uint64(n)<<8^uint64(kind))>>11)/(1<<53) < h.Messy/2
}

func (h Harbour) berth(n int64, c Call) string {
	if h.wrong(1, n) {
		return "Q9" // there is no such berth
	}
	return Berths[c.Berth]
}

func (h Harbour) dues(line []byte, n int64, c Call) []byte {
	if h.wrong(2, n) {
		return fmt.Appendf(line, "%d EUR", c.Dues/100)
	}
	return fmt.Appendf(line, "%d.%02d", c.Dues/100, c.Dues%100)
}
