// Package mark finds the few bytes that mean something to a reader of text, 64 bytes of it at a time.
package mark

import "encoding/binary"

// Width is how many bytes of text a word of Find's outcome stands for.
const Width = 64

// Set is up to four bytes that are looked for.
type Set [4]uint64

// NewSet returns the set of a byte and some others, three at most.
func NewSet(first byte, others ...byte) (s Set) {
	for i := range s {
		s[i] = spread(first)
	}
	for i, b := range others {
		s[i+1] = spread(b)
	}
	return s
}

// Find sets a bit for each byte of text that is one of the set: bit n of to[i] is for text[Width*i+n], and others are 0. to has
// a word for each Width bytes, also for the last ones where they are fewer.
func Find(to []uint64, text []byte, s *Set) {
	whole := len(text) / Width
	find(to[:whole], text, s)
	if rest := text[whole*Width:]; len(rest) > 0 {
		var last [Width]byte
		copy(last[:], rest)
		find(to[whole:whole+1], last[:], s)
		to[whole] &= 1<<len(rest) - 1
	}
}

const (
	ones     = 0x0101010101010101
	highs    = 0x80 * ones
	together = 0x0102040810204080 // brings the lowest bits of eight bytes together in the highest byte
)

func spread(b byte) uint64 { return uint64(b) * ones }

// unlike has the high bit of each byte of word that is not zero; its other bits mean nothing.
func unlike(word uint64) uint64 { return (word&^highs + ^uint64(highs)) | word }

// findByWords is find with eight bytes in a word of the processor.
func findByWords(to []uint64, text []byte, s *Set) {
	a, b, c, d := s[0], s[1], s[2], s[3]
	for i := range to {
		bits := uint64(0)
		for n := 0; n < Width; n += 8 {
			word := binary.LittleEndian.Uint64(text)
			others := unlike(word^a) & unlike(word^b) & unlike(word^c) & unlike(word^d)
			bits |= (^others & highs) >> 7 * together >> 56 << n
			text = text[8:]
		}
		to[i] = bits
	}
}
