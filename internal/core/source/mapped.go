package source

// Mapping changes the records of a chunk, one after the other. It may hand out its own memory, which must be good for as
// long as that of the record.
type Mapping interface {
	// Map changes r, and tells whether it is kept.
	Map(r *Record) bool
}

// Map gives t with its records changed, under another header. A mapping is made for each chunk.
func Map(t Table, header Header, mapping func() Mapping) Table { return &mapped{t, header, mapping} }

type mapped struct {
	Table
	header  Header
	mapping func() Mapping
}

func (m *mapped) Header() Header { return m.header }

func (m *mapped) Next() (*Chunk, error) { return m.add(m.Table.Next()) }

func (m *mapped) Again(o Origin) (*Chunk, error) { return m.add(m.Table.Again(o)) }

func (m *mapped) add(c *Chunk, err error) (*Chunk, error) {
	if err == nil {
		c.maps = append(c.maps, m.mapping())
	}
	return c, err
}

// mapped changes r by all mappings, and tells whether it is kept.
func (c *Chunk) mapped(r *Record) bool {
	for _, m := range c.maps {
		if !m.Map(r) {
			return false
		}
	}
	return true
}

// bare is the table that stands behind what was put before it.
func bare(t Table) Table {
	for {
		switch front := t.(type) {
		case *mapped:
			t = front.Table
		case *replay:
			t = front.Table
		default:
			return t
		}
	}
}
