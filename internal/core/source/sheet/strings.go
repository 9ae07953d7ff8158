package sheet

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"os"

	"ladle/internal/core/whole"
)

const (
	arenaBlock  = 1 << 20
	arenaBlocks = 64      // of them in memory; the texts behind them stand in a temporary file
	maxStrings  = 1 << 25 // texts
)

// sharedStrings are the texts that cells refer to by number. The first 64 MB stay in memory, the rest on disk.
type sharedStrings struct {
	offsets []uint32 // of each text: its block and, in 20 bits, the place in it
	blocks  [][]byte
	disk    *os.File
	buf     []byte
}

var errManyStrings = Oddity{"it has more texts than any sheet needs", "check where it comes from"}

// read reads the part with the shared strings (ECMA-376 part 1, 18.4).
func (s *sharedStrings) read(from io.Reader) error {
	w := newWindow(from)
	for {
		t, err := w.tag()
		if err == io.EOF {
			return errTruncated
		}
		if err != nil {
			return err
		}
		switch {
		case string(t.name) == "sst":
			t.end()
			if t.empty {
				return nil
			}
			return s.items(w, prefixOf(t.b))
		}
	}
}

// prefixOf is the prefix of the name of the tag, with its colon.
func prefixOf(tag []byte) string {
	name := bytes.TrimLeft(tag, "</")
	if end := bytes.IndexAny(name, " \t\r\n/>"); end >= 0 {
		name = name[:end]
	}
	if at := bytes.IndexByte(name, ':'); at >= 0 {
		return string(name[:at+1])
	}
	return ""
}

// items reads the items of the list, a block of whole ones at a time.
func (s *sharedStrings) items(w *streamWindow, prefix string) error {
	end, last := []byte("</"+prefix+"si>"), []byte("</"+prefix+"sst")
	for {
		rest := w.b[w.at:]
		stop := bytes.LastIndex(rest, end)
		if stop < 0 {
			if bytes.Contains(rest, last) {
				return s.block(rest[:bytes.Index(rest, last)])
			}
			if err := w.more(blockSize); err != nil {
				return truncated(err)
			}
			continue
		}
		stop += len(end)
		if err := s.block(rest[:stop]); err != nil {
			return err
		}
		w.at += stop
		if bytes.Contains(w.b[w.at:], last) {
			return s.block(w.b[w.at : w.at+bytes.Index(w.b[w.at:], last)])
		}
		if err := w.more(blockSize); err != nil {
			return truncated(err)
		}
	}
}

// block adds the items in a run of whole ones.
func (s *sharedStrings) block(b []byte) error {
	t := &tagReader{b: withoutSections(b)}
	for t.next() {
		if string(t.name) != "si" || t.close {
			continue
		}
		t.end()
		s.buf = s.buf[:0]
		if !t.empty {
			s.buf = richText(s.buf, t, "si")
		}
		if err := s.add(unescapeHex(s.buf, 0)); err != nil {
			return err
		}
	}
	return nil
}

// richText appends the text of the element whose start tag was read: its t elements, with those of runs, without
// phonetic ones (ECMA-376 part 1, 18.4.8, 18.4.6).
func richText(to []byte, t *tagReader, element string) []byte {
	inText := false
	for t.next() {
		if inText {
			to = unescape(to, t.text)
		}
		switch string(t.name) {
		case "t":
			closing := t.close
			t.end()
			inText = !closing && !t.empty
			continue
		case "rPh":
			if !t.close {
				t.skip()
				continue
			}
		case element:
			if t.close {
				t.end()
				return to
			}
		}
		t.end()
	}
	return to
}

func (s *sharedStrings) add(text []byte) error {
	if len(s.offsets) == maxStrings {
		return errManyStrings
	}
	need := len(text) + binary.MaxVarintLen32
	if n := len(s.blocks); n == 0 || len(s.blocks[n-1])+need > cap(s.blocks[n-1]) {
		if err := s.spill(); err != nil {
			return err
		}
		if len(s.blocks) == 1<<12 {
			return errManyStrings
		}
		s.blocks = append(s.blocks, make([]byte, 0, max(arenaBlock, need)))
	}
	n := len(s.blocks) - 1
	s.offsets = append(s.offsets, uint32(n)<<20|uint32(len(s.blocks[n])))
	s.blocks[n] = append(binary.AppendUvarint(s.blocks[n], uint64(len(text))), text...)
	return nil
}

// spill writes the last block to disk when memory holds enough of them. On disk each has the room of a whole one.
func (s *sharedStrings) spill() error {
	n := len(s.blocks) - 1
	if n < arenaBlocks {
		return nil
	}
	if len(s.blocks[n]) > arenaBlock {
		return Oddity{"one of its texts is larger than 1 MB", "check where it comes from"}
	}
	if s.disk == nil {
		disk, err := whole.Nameless("")
		if err != nil {
			return err
		}
		s.disk = disk
	}
	if _, err := s.disk.WriteAt(s.blocks[n], int64(n)*arenaBlock); err != nil {
		return fmt.Errorf("writing a temporary file: %w", err)
	}
	s.blocks[n] = nil
	return nil
}

// get returns text number n; its bytes are not to be changed.
func (s *sharedStrings) get(n int) ([]byte, error) {
	at := s.offsets[n]
	block, place := s.blocks[at>>20], int(at&(1<<20-1))
	if block == nil {
		block = make([]byte, 4096)
		got, err := s.disk.ReadAt(block, int64(at>>20)*arenaBlock+int64(place))
		if err != nil && err != io.EOF {
			return nil, fmt.Errorf("reading a temporary file back: %w", err)
		}
		block, place = block[:got], 0
	}
	length, n := binary.Uvarint(block[place:])
	if place+n+int(length) > len(block) { // a long one on disk
		block = make([]byte, int(length)+n)
		if _, err := s.disk.ReadAt(block, int64(at>>20)*arenaBlock+int64(at&(1<<20-1))); err != nil && err != io.EOF {
			return nil, fmt.Errorf("reading a temporary file back: %w", err)
		}
		place = 0
	}
	return block[place+n : place+n+int(length)], nil
}

// Close removes the temporary file.
func (s *sharedStrings) Close() error {
	if s.disk == nil {
		return nil
	}
	return whole.Forget(s.disk)
}
