package mark

import (
	"bytes"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
)

// FuzzFind holds what is found, in each of the ways, against looking at each byte.
func FuzzFind(f *testing.F) {
	f.Add([]byte("PM-000101,Grey Heron,\"N1, outer\"\r\n"), []byte(",\n\"\r"))
	f.Add(bytes.Repeat([]byte(",-\x0b\x8a\x00;\n\xac"), 40), []byte{',', 0})
	f.Add(bytes.Repeat([]byte("\xff\x00\x80\x7f\x01"), 50), []byte{0xff, 0x80})
	f.Fuzz(func(t *testing.T, text, of []byte) {
		if len(of) == 0 {
			return
		}
		of = of[:min(len(of), len(Set{}))]
		want := make([]uint64, (len(text)+Width-1)/Width)
		for i, b := range text {
			if bytes.IndexByte(of, b) >= 0 {
				want[i/Width] |= 1 << (i % Width)
			}
		}
		set := NewSet(of[0], of[1:]...)
		got := make([]uint64, len(want)+1)
		got[len(want)] = 7 // is not touched
		Find(got, text, &set)
		require.Equal(t, fmt.Sprintf("%064b", append(want, 7)), fmt.Sprintf("%064b", got))
		whole := len(text) / Width
		findByWords(got[:whole], text, &set)
		require.Equal(t, fmt.Sprintf("%064b", want[:whole]), fmt.Sprintf("%064b", got[:whole]))
	})
}

func BenchmarkFind(b *testing.B) {
	text := bytes.Repeat([]byte("PM-000101,Grey Heron 17,2026-03-14 06:30\n"), 400)
	set, to := NewSet(',', '\n', '"'), make([]uint64, len(text)/Width+1)
	for name, find := range map[string]func([]uint64, []byte, *Set){"this processor's way": find, "any processor's": findByWords} {
		b.Run(name, func(b *testing.B) {
			b.SetBytes(int64(len(text)))
			for range b.N {
				find(to[:len(text)/Width], text, &set)
			}
		})
	}
}
