package source

import "encoding/binary"

// Eight bytes of a text are looked at in one word of the processor.
const (
	lows  = 0x0101010101010101
	highs = 0x80 * lows
)

// eight is eight bytes as a word.
func eight(b []byte) uint64 { return binary.LittleEndian.Uint64(b) }

// unlike has the high bit of each byte of word that is not zero; its other bits mean nothing.
func unlike(word uint64) uint64 { return (word&^highs + ^uint64(highs)) | word }
