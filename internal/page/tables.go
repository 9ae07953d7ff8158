package page

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"ladle/internal/core/schema"
	"ladle/internal/term"
)

// The measures of the picture, in pixels.
const (
	boxHeight = 46
	rowStep   = 64 // from the top of a box to that of the next
	laneStep  = 22 // the same for a lane
	letter    = 9  // an upper bound of the mean width of a letter
	padding   = 14
	channel   = 96 // between columns of boxes, where relations run
	margin    = 24
	top       = 44
	mostName  = 28 // letters of a name that are drawn; all of them stand below the picture
)

// tablesView is what the page of tables shows.
type tablesView struct {
	*schema.Outline
	Program       string
	Count         int
	Width, Height int
	Least         int // the width below which it is scrolled, not shrunk
	Levels        []levelView
	Boxes         []*box // in the order of loading
	Edges         []edge
}

type levelView struct {
	Number, X int
}

// box is a table in the picture, or a lane.
type box struct {
	schema.TableOutline
	Number    int
	Level     int
	X, Y, W   int
	Short     string
	place     float64 // among those of its level
	lane      bool    // no table, but room for lines
	near      []*box  // where lines run to
	RowsWords string
}

// edge is a relation: a line from the child to its parent.
type edge struct {
	From, To int // the numbers of the boxes
	Path     string
	Later    bool
	Says     string
}

// newTablesView lays the tables out: a column for each level, and in it each table near those that it refers to.
// Relations over several levels have a lane in each level between, so that they run behind no table.
func newTablesView(o *schema.Outline, program string) *tablesView {
	v := &tablesView{Outline: o, Program: program}
	columns := make([][]*box, len(o.Levels))
	byName := map[string]*box{}
	for level, briefs := range o.Levels {
		for _, b := range briefs {
			x := &box{TableOutline: b, Number: len(v.Boxes) + 1, Level: level + 1, Short: shortened(b.Name)}
			x.RowsWords = term.Count(b.Rows) + " rows"
			if !b.Exact {
				x.RowsWords = "about " + x.RowsWords
			}
			byName[b.Name] = x
			columns[level] = append(columns[level], x)
			v.Boxes = append(v.Boxes, x)
		}
	}
	v.Count = len(v.Boxes)
	var relations []relation
	lanes := map[[2]int]*box{}
	for _, x := range v.Boxes {
		for _, p := range x.PointsAt {
			parent := byName[p.Table]
			if parent == nil {
				continue
			}
			r := relation{x, parent, p, nil}
			last := x
			for level := x.Level - 1; level > parent.Level; level-- {
				at := [2]int{parent.Number, level}
				if lanes[at] == nil {
					lanes[at] = &box{Level: level, lane: true}
					columns[level-1] = append(columns[level-1], lanes[at])
				}
				r.lanes = append(r.lanes, lanes[at])
				last.meets(lanes[at])
				last = lanes[at]
			}
			last.meets(parent)
			relations = append(relations, r)
		}
	}
	untangle(columns)
	v.place(columns)
	for _, r := range relations {
		v.Edges = append(v.Edges, r.edge())
	}
	return v
}

// relation is a relation in the picture, with the lanes that it takes from the child to its parent.
type relation struct {
	child, parent *box
	schema.Reference
	lanes []*box
}

// meets notes that a line runs between two boxes.
func (b *box) meets(o *box) {
	if b != o && !slices.Contains(b.near, o) {
		b.near, o.near = append(b.near, o), append(o.near, b)
	}
}

func shortened(name string) string {
	if utf8.RuneCountInString(name) <= mostName {
		return term.Safe(name)
	}
	return term.Safe(string([]rune(name)[:mostName-1])) + "…"
}

// untangle puts the boxes of each column near the middle of those that they are related to, a few times to and fro.
func untangle(columns [][]*box) {
	settle := func(column []*box) {
		slices.SortStableFunc(column, func(a, b *box) int { return cmp.Compare(a.place, b.place) })
		for i, x := range column {
			x.place = float64(i) - float64(len(column)-1)/2
		}
	}
	for _, column := range columns {
		settle(column)
	}
	for range 8 {
		for _, column := range columns {
			for _, x := range column {
				sum := 0.0
				for _, other := range x.near {
					sum += other.place
				}
				if n := float64(len(x.near)); n > 0 {
					x.place = (x.place + sum/n) / 2
				}
			}
			settle(column)
		}
	}
}

// place returns the boxes their places, each column in the middle of the height.
func (v *tablesView) place(columns [][]*box) {
	heights, most := make([]int, len(columns)), 0
	for level, column := range columns {
		for _, b := range column {
			heights[level] += b.step()
		}
		most = max(most, heights[level])
	}
	v.Height = top + most + margin
	x := margin
	for level, column := range columns {
		width := 0
		for _, b := range column {
			width = max(width, padding*2+letter*max(utf8.RuneCountInString(b.Short),
				utf8.RuneCountInString(b.RowsWords)))
		}
		v.Levels = append(v.Levels, levelView{level + 1, x})
		y := top + (most-heights[level])/2
		for _, b := range column {
			b.X, b.Y, b.W = x, y, width
			y += b.step()
		}
		x += width + channel
	}
	v.Width = max(x-channel+margin*2, 320)
	v.Least = v.Width * 7 / 10
}

// step is the height that a box takes in its column.
func (b *box) step() int {
	if b.lane {
		return laneStep
	}
	return rowStep
}

// middle is the height at which lines meet a box.
func (b *box) middle() int {
	if b.lane {
		return b.Y + laneStep/2 - (rowStep-boxHeight)/2
	}
	return b.Y + boxHeight/2
}

// edge draws a relation from the left side of the child, through its lanes, to the right side of its parent; within a
// level, and back in a circle, it leaves and arrives on the right.
func (r *relation) edge() edge {
	child, parent := r.child, r.parent
	e := edge{From: child.Number, To: parent.Number, Later: parent.Level >= child.Level,
		Says: fmt.Sprintf("%s.%s refers to %s", child.Name, strings.Join(r.Columns, ", "), r.Table)}
	toX, toY := parent.X+parent.W, parent.middle()
	switch {
	case child == parent:
		e.Path = fmt.Sprintf("M%d %d c34 -4 34 26 0 22", toX, toY-10)
		return e
	case e.Later:
		fromX := child.X + child.W
		bend := max(fromX, toX) + channel/2
		e.Path = fmt.Sprintf("M%d %d C%d %d %d %d %d %d", fromX, child.middle()+8, bend, child.middle()+8, bend, toY-8,
			toX, toY-8)
		return e
	}
	x, y := child.X, child.middle()
	e.Path = fmt.Sprintf("M%d %d", x, y)
	curve := func(toX, toY int) {
		e.Path += fmt.Sprintf(" C%d %d %d %d %d %d", (x+toX)/2, y, (x+toX)/2, toY, toX, toY)
		x, y = toX, toY
	}
	for _, lane := range r.lanes {
		curve(lane.X+lane.W, lane.middle())
		e.Path += fmt.Sprintf(" L%d %d", lane.X, y)
		x = lane.X
	}
	curve(toX, toY)
	return e
}
