package engine

// Denied is the error for something that this user may not do.
type Denied struct {
	What  string // in words that go behind "this user may not": add rows to vessel
	Grant string // the statement by which somebody else allows it
	Reads bool   // a load does it even before it writes
}

func (d *Denied) Error() string { return "this user may not " + d.What + "; ask for: " + d.Grant }

// Verbs are what privileges are called in words, before the name of a table.
var Verbs = map[Privilege]string{Insert: "add rows to", Update: "update", Delete: "remove rows from",
	Select: "read"}

// Words are what privileges are called in SQL.
var Words = map[Privilege]string{Insert: "INSERT", Update: "UPDATE", Delete: "DELETE", Select: "SELECT"}
