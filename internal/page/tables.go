package page

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"ladle/internal/core/schema"
)

// The measures of the picture, in pixels.
const (
	boxHeight = 46
	rowStep   = 64 // from the top of a box to that of the next
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

// box is a table in the picture.
type box struct {
	schema.Brief
	Number    int
	Level     int
	X, Y, W   int
	Short     string
	place     float64 // among those of its level
	RowsWords string
}

// edge is a relation: a line from the child to its parent.
type edge struct {
	From, To int // the numbers of the boxes
	Path     string
	Later    bool
	Says     string
}

// newTablesView lays the tables out: a column for each level, and in it each table near those that it points at.
func newTablesView(o *schema.Outline, program string) *tablesView {
	v := &tablesView{Outline: o, Program: program}
	columns := make([][]*box, len(o.Levels))
	byName := map[string]*box{}
	for level, briefs := range o.Levels {
		for i, b := range briefs {
			x := &box{Brief: b, Number: len(v.Boxes) + 1, Level: level + 1, place: float64(i), Short: shortened(b.Name)}
			x.RowsWords = count(b.Rows) + " rows"
			if !b.Exact {
				x.RowsWords = "about " + x.RowsWords
			}
			byName[b.Name] = x
			columns[level] = append(columns[level], x)
			v.Boxes = append(v.Boxes, x)
		}
	}
	v.Count = len(v.Boxes)
	untangle(columns, byName)
	v.place(columns)
	for _, x := range v.Boxes {
		for _, p := range x.PointsAt {
			if parent := byName[p.Table]; parent != nil {
				v.Edges = append(v.Edges, newEdge(x, parent, p))
			}
		}
	}
	return v
}

func shortened(name string) string {
	if utf8.RuneCountInString(name) <= mostName {
		return visible(name)
	}
	return visible(string([]rune(name)[:mostName-1])) + "…"
}

// untangle puts the boxes of each column near the middle of those that they are related to, a few times to and fro.
func untangle(columns [][]*box, byName map[string]*box) {
	for range 4 {
		for _, column := range columns {
			for _, x := range column {
				sum, n := 0.0, 0
				for _, pointers := range [][]schema.Pointer{x.PointsAt, x.PointedBy} {
					for _, p := range pointers {
						if other := byName[p.Table]; other != nil && other != x {
							sum, n = sum+other.place, n+1
						}
					}
				}
				if n > 0 {
					x.place = (x.place + sum/float64(n)) / 2
				}
			}
			slices.SortStableFunc(column, func(a, b *box) int { return cmp.Compare(a.place, b.place) })
			for i, x := range column {
				x.place = float64(i) - float64(len(column)-1)/2
			}
		}
	}
}

// place gives the boxes their places, each column in the middle of the height.
func (v *tablesView) place(columns [][]*box) {
	most := 0
	for _, column := range columns {
		most = max(most, len(column))
	}
	v.Height = top + most*rowStep + margin
	x := margin
	for level, column := range columns {
		width := 0
		for _, b := range column {
			width = max(width, padding*2+letter*max(utf8.RuneCountInString(b.Short), utf8.RuneCountInString(b.RowsWords)))
		}
		v.Levels = append(v.Levels, levelView{level + 1, x})
		first := top + (most-len(column))*rowStep/2
		for i, b := range column {
			b.X, b.Y, b.W = x, first+i*rowStep, width
		}
		x += width + channel
	}
	v.Width = max(x-channel+margin*2, 320)
	v.Least = v.Width * 7 / 10
}

// newEdge draws a relation from the left side of the child to the right side of its parent; within a level, and back in a
// circle, it leaves and arrives on the right.
func newEdge(child, parent *box, p schema.Pointer) edge {
	e := edge{From: child.Number, To: parent.Number, Later: parent.Level >= child.Level, Says: fmt.Sprintf("%s.%s points at %s", child.Name, strings.Join(p.Columns, ", "), p.Table)}
	fromX, fromY := child.X, child.Y+boxHeight/2
	toX, toY := parent.X+parent.W, parent.Y+boxHeight/2
	switch {
	case child == parent:
		x := child.X + child.W
		e.Path = fmt.Sprintf("M%d %d c34 -4 34 26 0 22", x, fromY-10)
	case parent.Level >= child.Level:
		fromX = child.X + child.W
		bend := max(fromX, toX) + channel/2
		e.Path = fmt.Sprintf("M%d %d C%d %d %d %d %d %d", fromX, fromY+8, bend, fromY+8, bend, toY-8, toX, toY-8)
	default:
		bend := channel * 2 / 3
		e.Path = fmt.Sprintf("M%d %d C%d %d %d %d %d %d", fromX, fromY, fromX-bend, fromY, toX+bend, toY, toX, toY)
	}
	return e
}
