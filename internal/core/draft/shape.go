package draft

import (
	"context"
	"fmt"
	"regexp"

	"ladle/internal/core/clean"
	"ladle/internal/core/ladlefile"
	"ladle/internal/core/reshape"
	"ladle/internal/core/source"
	"ladle/internal/core/survey"
)

// shaped is a file with the lines that a shape makes of its own, as another file.
func shaped(ctx context.Context, f File, s survey.Shape) (File, error) {
	said := reshape.Shape{}
	switch located := func(text string) clean.Located { return clean.Located{Text: text, Line: 1} }; s.Key {
	case survey.ColumnsToRows:
		said.Columns = &reshape.ColumnsToRows{From: located(s.Columns[0]), To: located(s.Columns[len(s.Columns)-1]),
			Heading: located(headingOf(s)), Value: located(valueColumn)}
	default:
		said.Parts = &reshape.PartsToRows{Column: located(s.Columns[0]), At: s.Between}
	}
	made := f
	t, err := reshape.Of(f.Survey.Again(), said, f.Path)
	if err != nil {
		return made, err
	}
	all, err := survey.Run(ctx, []source.Table{t}, nil)
	if err != nil {
		return made, err
	}
	made.Survey, made.shape = all.Inputs[0], &s
	return made, nil
}

const valueColumn = "Value"

var yearHeading = regexp.MustCompile(`^(19|20)\d\d$`)

// headingOf names the column for what columns that become lines were called.
func headingOf(s survey.Shape) string {
	if yearHeading.MatchString(s.Columns[0]) {
		return "Year"
	}
	return "Period"
}

// shapes takes, of the files, those with a shape in which they fit the tables better.
func (m *matcher) shapes(ctx context.Context, files []File) ([]File, error) {
	const better = 0.5
	made := append([]File(nil), files...)
	for i, f := range files {
		if f.shape != nil || f.settled[askShape] {
			continue
		}
		most := m.worthOf(f)
		for _, s := range f.Survey.Shapes {
			other, err := shaped(ctx, f, s)
			if err != nil {
				return nil, err
			}
			if worth := m.worthOf(other); worth > most+better {
				made[i], most = other, worth
			}
		}
	}
	return made, m.err
}

// worthOf says how well a file fits the table that it fits best.
func (m *matcher) worthOf(f File) (most float64) {
	one := prepare(f, nil)
	for _, t := range m.schema.Tables {
		if b := m.fit(one, t); t.Odd == "" && len(b.fed) > 0 {
			most = max(most, b.worth(m.fillable(b)))
		}
	}
	return most
}

// shapes writes the shape of a file, and those that it could have.
func (w *writer) shapes(f *file) {
	if s := f.shape; s != nil {
		w.said("    "+shapeLine(*s), pick(s.Key == survey.ColumnsToRows,
			"these columns look like values of one: each becomes a line",
			"its cells look like lists: each part becomes a line"), !f.settled[askShape], f.input+": "+s.Key)
	}
	for _, s := range f.Survey.Shapes {
		if f.settled[askShape] {
			break
		}
		w.said("    # "+shapeLine(s), pick(s.Key == survey.ColumnsToRows,
			"these columns look like values of one; with this line they become lines",
			"its cells look like lists; with this line their parts become lines"), true, f.input+": "+s.Key)
	}
}

// shapeLine is a shape as the ladle file says it.
func shapeLine(s survey.Shape) string {
	if s.Key == survey.ColumnsToRows {
		return fmt.Sprintf("columns_to_rows: {columns: {from: %s, to: %s}, heading: %s, value: %s}",
			ladlefile.Flow(s.Columns[0]), ladlefile.Flow(s.Columns[len(s.Columns)-1]), headingOf(s), valueColumn)
	}
	return fmt.Sprintf("parts_to_rows: {column: %s, at: %s}", ladlefile.Flow(s.Columns[0]), ladlefile.Quoted(s.Between))
}
