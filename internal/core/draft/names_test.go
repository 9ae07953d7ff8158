package draft

import (
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ladle/internal/core/ladlefile"
	"ladle/internal/core/schema"
)

func TestByName(t *testing.T) {
	vessel := &schema.Table{Name: "vessels"}
	cases := []struct {
		file, column string
		least, most  float64
	}{
		{"Reg. No.", "reg_no", 1, 1}, {"RegNo", "reg_no", 1, 1}, {"Registered number", "reg_no", 0.7, 0.8},
		{"Telephone", "phone", 1, 1},
		{"Vessel name", "name", 0.95, 0.95}, {"Name", "vessel_name", 0.95, 0.95}, {"Vessel", "name", 0.85, 0.85},
		{"Depth", "depth_m", 0.9, 0.9},
		{"GT", "gross_tonnage", 0.72, 0.72}, {"Gross tonn.", "gross_tonnage", 0.7, 0.8},
		{"tonnage gross", "gross_tonnage", 0.9, 0.9},
		{"Last survey", "surveyed", 0.5, 0.6}, {"Berth", "birth_date", 0, 0}, {"Name", "flag_name", 0, 0},
		{"Date", "arrival_date", 0, 0},
		{"Dues", "draught", 0, 0}, {"", "name", 0, 0}, {"Qty", "quantity", 1, 1},
	}
	for _, c := range cases {
		g := byName(c.file, vessel, c.column)
		assert.GreaterOrEqual(t, g.Score, c.least, "%s, %s: %s", c.file, c.column, g.Why)
		assert.LessOrEqual(t, g.Score, c.most, "%s, %s: %s", c.file, c.column, g.Why)
	}
}

// FuzzScalar: whatever a file calls its columns, the ladle file says it in YAML that reads back the same.
func FuzzScalar(f *testing.F) {
	for _, text := range []string{"Reg. No.", "", " a", "a: b", "- x", "#", "it's", "{a}", "null", "~", "a\nb", "\x00",
		"é", "\u0085", "yes", "1.50", "'", "\"", "a #b", "@x", "%", "?", "a:", "\\n"} {
		f.Add(text)
	}
	f.Fuzz(func(t *testing.T, text string) {
		for _, r := range text {
			if r == 0xfffd || r == '\u2028' || r == '\u2029' {
				t.Skip()
			}
		}
		for _, written := range []string{"k: " + ladlefile.Scalar(text), "k: {a: " + ladlefile.Flow(text) + "}",
			"k: [" + ladlefile.Quoted(text) + "]"} {
			var doc map[string]any
			require.NoError(t, yaml.Unmarshal([]byte(written), &doc), "%q", written)
		}
		var doc map[string]string
		if err := yaml.Unmarshal([]byte("k: "+ladlefile.Quoted(text)), &doc); err == nil {
			assert.Equal(t, text, doc["k"])
		}
	})
}
