package schema

import "slices"

// Levels is the order in which tables are loaded: each level points only at those before it, but for the relations in
// Later.
type Levels struct {
	Tables [][]*Table
	// Later are the relations that go round in a circle and may be NULL at first, so that they are filled in a second
	// step.
	Later []Link
	// Stuck are circles of tables that can't be broken, since all of their relations are NOT NULL. They stand on one
	// level.
	Stuck [][]*Table
}

// Link is a relation with the table that has it.
type Link struct {
	Child *Table
	*Relation
}

// Levels puts the tables in the order of loading. Tables of one level stand as they came.
func (s *Schema) Levels() Levels {
	var all Levels
	links := s.links()
	group, _ := components(s.Tables, links)
	links = slices.DeleteFunc(links, func(l Link) bool {
		later := group[l.Child] == group[l.ParentTable] && l.Child.mayBeNull(l.Relation)
		if later {
			all.Later = append(all.Later, l)
		}
		return later
	})
	group, groups := components(s.Tables, links)
	level := make([]int, len(groups)) // a group comes behind all that it refers to
	for g, members := range groups {
		for _, l := range links {
			if group[l.Child] == g && group[l.ParentTable] != g {
				level[g] = max(level[g], level[group[l.ParentTable]]+1)
			}
		}
		circle := slices.ContainsFunc(links, func(l Link) bool {
			return group[l.Child] == g &&
				group[l.ParentTable] == g
		})
		if circle {
			all.Stuck = append(all.Stuck, members)
		}
	}
	for _, t := range s.Tables {
		at := level[group[t]]
		for len(all.Tables) <= at {
			all.Tables = append(all.Tables, nil)
		}
		all.Tables[at] = append(all.Tables[at], t)
	}
	return all
}

// links lists the relations to tables that were read.
func (s *Schema) links() []Link {
	var all []Link
	for _, t := range s.Tables {
		for i := range t.Relations {
			if t.Relations[i].ParentTable != nil {
				all = append(all, Link{t, &t.Relations[i]})
			}
		}
	}
	return all
}

// mayBeNull reports whether a row can be there without pointing anywhere by r: one column of it is enough.
func (t *Table) mayBeNull(r *Relation) bool {
	return slices.ContainsFunc(r.Columns, func(name string) bool {
		c := t.Column(name)
		return c != nil && !c.Required && !c.Identity
	})
}

// components groups tables that reach each other by links (strongly connected components, by Tarjan's algorithm: SIAM
// J. Comput. 1 (1972) 146). A group comes behind all that it refers to.
func components(tables []*Table, links []Link) (of map[*Table]int, groups [][]*Table) {
	type mark struct {
		number, low int
		open        bool
	}
	of = map[*Table]int{}
	marks := map[*Table]*mark{}
	var path []*Table
	var visit func(t *Table) *mark
	visit = func(t *Table) *mark {
		m := &mark{len(marks), len(marks), true}
		marks[t] = m
		path = append(path, t)
		for _, l := range links {
			if l.Child != t {
				continue
			}
			switch n := marks[l.ParentTable]; {
			case n == nil:
				m.low = min(m.low, visit(l.ParentTable).low)
			case n.open:
				m.low = min(m.low, n.number)
			}
		}
		if m.low < m.number {
			return m
		}
		at := slices.Index(path, t)
		group := slices.Clone(path[at:])
		path = path[:at]
		for _, member := range group {
			marks[member].open = false
			of[member] = len(groups)
		}
		groups = append(groups, group)
		return m
	}
	for _, t := range tables {
		if marks[t] == nil {
			visit(t)
		}
	}
	return of, groups
}
