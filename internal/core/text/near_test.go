package text

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestNear(t *testing.T) {
	cases := []struct {
		name, other string
		alike       bool
	}{
		{"Norway", "Norwey", true}, {"Norway", "NORWAY", true}, {"Norway", "Nor-way ", true},
		{"Norway", "Nórway", true}, {"Norway", "Nowray", true},
		{"Norway", "Norwayy", true}, {"Norway", "orway", true}, {"Norway", "Norwai", true},
		{"Norway", "Norwegia", false}, {"Norway", "Norway", false},
		{"Tug", "Tag", false}, {"Tug", "tug", true}, {"Tug", "T.u.g", true}, {"Coal", "Coals", true},
		{"Coal", "Goal", false},
		{"Berth 1", "Berth 2", false}, {"PM-0101", "PM-0110", false}, {"PM-0101", "pm0101", true},
		{"Quay 12", "Quays 12", true},
		{"Merrow Shipping", "Merow Shiping", false}, {"Merrow Shipping", "Merrow Shippnig", true},
		{"Merrow Shipping Ltd", "Merrow Shipping Inc", false},
		{"Straße", "STRASSE", true}, {"", "-", false}, {"港", "湾", false}, {"港", "港 ", true},
	}
	for _, c := range cases {
		for _, pair := range [][2]string{{c.name, c.other}, {c.other, c.name}} {
			n := NewNear()
			n.Add("something else")
			n.Add(pair[0])
			var found []int
			n.Each(pair[1], func(i int) bool { found = append(found, i); return true })
			assert.Equal(t, c.alike, len(found) == 1 && found[0] == 1, "%q and %q: %v", pair[0], pair[1], found)
		}
	}
}

// TestWithin holds the fast distance against one that tries every change.
func TestWithin(t *testing.T) {
	words := []string{"", "a", "ab", "ba", "abc", "acb", "bca", "abcd", "badc", "xbcd", "bcd", "abdc"}
	for _, a := range words {
		one := map[string]bool{a: true}
		for i := range len(a) + 1 {
			for _, r := range "abcdx" {
				one[a[:i]+string(r)+a[i:]] = true
				if i < len(a) {
					one[a[:i]+string(r)+a[i+1:]] = true
				}
			}
			if i < len(a) {
				one[a[:i]+a[i+1:]] = true
			}
			if i+1 < len(a) {
				one[a[:i]+a[i+1:i+2]+a[i:i+1]+a[i+2:]] = true
			}
		}
		for _, b := range words {
			assert.Equal(t, one[b], within([]rune(a), []rune(b), 1), "%q %q", a, b)
		}
	}
}

// BenchmarkNear is 20,000 new names against each other.
func BenchmarkNear(b *testing.B) {
	for range b.N {
		n := NewNear()
		for i := range 20_000 {
			name := fmt.Sprintf("Agency of the %c%c%c quay", 'a'+i%26, 'a'+i/26%26, 'a'+i/676%26)
			n.Each(name, func(int) bool { return false })
			n.Add(name)
		}
	}
}

func TestNearest(t *testing.T) {
	values := []string{"Norway", "United Kingdom", "PM-0101", "S1", "Ål"}
	for cell, want := range map[string]string{
		"Norwey": "Norway", "norway ": "Norway", "UNITED  KINGDOM": "United Kingdom", "pm 0101": "PM-0101", "S1 ": "S1",
		"PM-0102": "", "S2": "", "Portugal": "", "ål": "Ål", "": "", "Nroway": "Norway",
	} {
		assert.Equal(t, want, NearestValue(cell, values), "%q", cell)
	}
	for name, want := range map[string]string{"vesel": "vessel", "PORT_CALLS": "port_call", "ids": "id",
		"something else": ""} {
		assert.Equal(t, want, Nearest(name, []string{"id", "vessel", "vessel_type", "port_call"}), "%q", name)
	}
}
