package source

// Mapping changes the records of a chunk, one after the other. It may hand out its own memory, which must be good for
// as long as that of the record.
type Mapping interface {
	// Map changes r, and reports whether it is kept.
	Map(r *Record) bool
}

// Map returns t with its records changed, under another header. A mapping is made for each chunk.
func Map(t Table, header Header, mapping func(*Chunk) Mapping) Table {
	return &mappedTable{t, header, mapping}
}

type mappedTable struct {
	Table
	header  Header
	mapping func(*Chunk) Mapping
}

func (m *mappedTable) Header() Header { return m.header }

func (m *mappedTable) Next() (*Chunk, error) { return m.add(m.Table.Next()) }

func (m *mappedTable) Again(o Origin) (*Chunk, error) { return m.add(m.Table.Again(o)) }

func (m *mappedTable) add(c *Chunk, err error) (*Chunk, error) {
	if err == nil {
		c.maps = append(c.maps, m.mapping(c))
	}
	return c, err
}

// Behind is the table that stands behind this one.
func (m *mappedTable) Behind() Table { return m.Table }

// mapped changes r by all mappings, and reports whether it is kept. The reader's own memory is put by for the next
// record.
func (c *Chunk) mapped(r *Record) bool {
	if c.maps == nil {
		return true
	}
	r.own, r.Dropped = &readers{r.Fields, r.Faults, r.Stored}, false
	r.Fields, r.Faults = r.Fields[:len(r.Fields):len(r.Fields)], r.Faults[:len(r.Faults):len(r.Faults)]
	for _, m := range c.maps {
		if !m.Map(r) {
			return false
		}
	}
	return true
}

// readers is the memory of a reader for a record.
type readers struct {
	fields [][]byte
	faults []Fault
	stored []Stored
}

// back returns the reader its own memory back.
func (r *Record) back() {
	if r.own != nil {
		r.Fields, r.Faults, r.Stored = r.own.fields, r.own.faults, r.own.stored
	}
}

// bare is the table that stands behind what was put before it.
func bare(t Table) Table {
	for {
		front, ok := t.(interface{ Behind() Table })
		if !ok {
			return t
		}
		t = front.Behind()
	}
}
