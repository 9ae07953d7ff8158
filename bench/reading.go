package main

import (
	"archive/zip"
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"ladle/demo"
	"ladle/internal/core/source"
)

// reading measures the readers of files against their floors, and survey against the reader.
func (b *bench) reading(runs int) error {
	folder := filepath.Join(b.folder, "reading")
	if err := demo.NewHarbour(0, million, 1).Generate(folder); err != nil {
		return err
	}
	calls := filepath.Join(folder, demo.FlatFile)
	if err := b.compare("csv", calls, "split", "2.5", "3.5", runs); err != nil {
		return err
	}
	var all ratios
	for range runs {
		split, err := b.self("split", calls)
		if err != nil {
			return err
		}
		survey, err := used(exec.Command(b.program, "survey", "--json", calls))
		if err != nil {
			return err
		}
		fmt.Printf("  survey: split %.3f s, survey %.3f s, %.3f s of CPU, %.0f MB\n", split.wall, survey.wall, survey.cpu, survey.memory)
		all.add(survey, split)
	}
	all.tell("survey_csv", "split", "25", "30", "200")
	if err := b.deliveries(calls, runs); err != nil {
		return err
	}
	lines := filepath.Join(folder, "calls.jsonl")
	if err := writeJSONLines(calls, lines); err != nil {
		return err
	}
	if err := b.compare("jsonl", lines, "tokens", "2.5", "-", runs); err != nil {
		return err
	}
	for _, format := range []string{"xlsx", "ods"} {
		path := filepath.Join(folder, "calls."+format)
		if err := writeWorkbook(path, format, workbookRows); err != nil {
			return err
		}
		if err := b.compare(format, path, "tokenize", "2", "-", runs); err != nil {
			return err
		}
	}
	return nil
}

// deliveries measures the comparison of two files of a million lines against splitting both into lines: where every 100th line
// differs, and where besides the second half of the lines comes first.
func (b *bench) deliveries(before string, runs int) error {
	for _, name := range []string{"same_order", "turned"} {
		after := filepath.Join(filepath.Dir(before), name+".csv")
		if err := writeDelivery(before, after, name == "turned"); err != nil {
			return err
		}
		var ratios, memory []float64
		for range runs {
			split := 0.0
			for _, path := range []string{before, after} {
				one, err := b.self("split", path)
				if err != nil {
					return err
				}
				split += one.wall
			}
			seconds, used, err := run(b.program, "compare", before, after, "--key", "Reg. No.,Arrived", "--json")
			if err != nil {
				return err
			}
			fmt.Printf("  compare, %s: split %.3f s, comparison %.3f s, %.0f MB\n", name, split, seconds, used)
			ratios, memory = append(ratios, seconds/split), append(memory, used)
		}
		bar := "12" // 3 times a reader that takes 4 times as long
		if name == "turned" {
			bar = "-"
		}
		figure("compare_"+name+"_time", median(ratios), "x split", bar)
		figure("compare_"+name+"_memory", median(memory), "MB", "200")
	}
	return nil
}

// writeDelivery writes the lines of a file once more, with another second cell in every 100th, and, turned, the second
// half first. It holds one line at a time, since the memory of this program would count as that of those it starts.
func writeDelivery(from, to string, turned bool) error {
	out, err := os.Create(to)
	if err != nil {
		return err
	}
	defer out.Close()
	w := bufio.NewWriter(out)
	halves := [][2]int{{0, million + 1}}
	if turned {
		halves = [][2]int{{0, 1}, {million / 2, million + 1}, {1, million / 2}}
	}
	for _, half := range halves {
		in, err := os.Open(from)
		if err != nil {
			return err
		}
		lines := bufio.NewScanner(in)
		for n := 0; lines.Scan() && n < half[1]; n++ {
			if n < half[0] {
				continue
			}
			line := lines.Text()
			if n%100 == 50 {
				line = strings.Replace(line, ",", ",x", 1)
			}
			if _, err := w.WriteString(line + "\n"); err != nil {
				return errors.Join(err, in.Close())
			}
		}
		if err := errors.Join(lines.Err(), in.Close()); err != nil {
			return err
		}
	}
	return errors.Join(w.Flush(), out.Close())
}

// compare times the reader of a format against its floor, in turns.
func (b *bench) compare(format, path, floor, bar, cpuBar string, runs int) error {
	var all ratios
	for range runs {
		least, err := b.self(floor, path)
		if err != nil {
			return err
		}
		read, err := b.self("read", path)
		if err != nil {
			return err
		}
		fmt.Printf("  %s: floor %.3f s, reader %.3f s, %.3f s of CPU, %.0f MB\n", format, least.wall, read.wall, read.cpu, read.memory)
		all.add(read, least)
	}
	limit := "-"
	if format != "csv" {
		limit = "150"
	}
	all.tell("read_"+format, "floor", bar, cpuBar, limit)
	return nil
}

// self runs a part of this program as a process of its own.
func (b *bench) self(part, path string) (usage, error) {
	program, err := os.Executable()
	if err != nil {
		return usage{}, err
	}
	return used(exec.Command(program, part, path))
}

// readAll is the bare reader: every field of every record, and nothing done with it.
func readAll(path string) error {
	t, err := source.Open([]string{path}, source.ReadOptions{})
	if err != nil {
		return err
	}
	defer t.Close()
	fields := 0
	work := func(c *source.Chunk) (n int) {
		c.Walk(&source.Record{}, func(b *source.Block) { n += b.Fields() }, func(r *source.Record) { n += len(r.Fields) })
		return n
	}
	if err := source.Each(context.Background(), t, work, func(_ *source.Chunk,
		n int) error {
		fields += n
		return nil
	}); err != nil {
		return err
	}
	if fields == 0 {
		return fmt.Errorf("%s has no fields", path)
	}
	return nil
}

// splitLines is the floor of texts: the file read in blocks of 1 MB and split at line feeds.
func splitLines(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	block, lines := make([]byte, 1<<20), 0
	for {
		n, err := f.Read(block)
		for rest := block[:n]; ; lines++ {
			end := bytes.IndexByte(rest, '\n')
			if end < 0 {
				break
			}
			rest = rest[end+1:]
		}
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// writeJSONLines writes the lines of a file as objects, one a line.
func writeJSONLines(from, to string) error {
	t, err := source.Open([]string{from}, source.ReadOptions{})
	if err != nil {
		return err
	}
	defer t.Close()
	f, err := os.Create(to)
	if err != nil {
		return err
	}
	defer f.Close()
	out := bufio.NewWriterSize(f, 1<<20)
	var line []byte
	for {
		chunk, err := t.Next()
		if err == io.EOF {
			return out.Flush()
		}
		if err != nil {
			return err
		}
		for r := (source.Record{}); chunk.Next(&r); {
			line = append(line[:0], '{')
			for i, field := range r.Fields {
				if i > 0 {
					line = append(line, ',')
				}
				name, err := json.Marshal(t.Header().Names[i])
				if err != nil {
					return err
				}
				value, err := json.Marshal(string(field))
				if err != nil {
					return err
				}
				line = append(append(append(line, name...), ':'), value...)
			}
			if _, err := out.Write(append(line, '}', '\n')); err != nil {
				return err
			}
		}
	}
}

// jsonTokens is the floor of JSON Lines: the file read in blocks of 1 MB, split at line feeds, and each line scanned
// for its texts and punctuation.
func jsonTokens(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	block, tokens := make([]byte, 1<<20), 0
	for {
		n, err := f.Read(block)
		for rest := block[:n]; len(rest) > 0; {
			line := rest
			if end := bytes.IndexByte(rest, '\n'); end >= 0 {
				line, rest = rest[:end], rest[end+1:]
			} else {
				rest = nil
			}
			for at := 0; at < len(line); at++ {
				switch line[at] {
				case '{', '}', '[', ']', ':', ',':
					tokens++
				case '"':
					for at++; at < len(line) && line[at] != '"'; at++ {
						if line[at] == '\\' {
							at++
						}
					}
				}
			}
		}
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// tokenize is the floor of workbooks: the part with the cells inflated, and its markup scanned for tags.
func tokenize(path string) error {
	z, err := zip.OpenReader(path)
	if err != nil {
		return err
	}
	defer z.Close()
	for _, f := range z.File {
		if f.Name != "content.xml" && !strings.HasPrefix(f.Name, "xl/worksheets/") {
			continue
		}
		r, err := f.Open()
		if err != nil {
			return err
		}
		block, tags := make([]byte, 1<<20), 0
		for {
			n, err := io.ReadFull(r, block)
			for rest := block[:n]; ; tags++ {
				start := bytes.IndexByte(rest, '<')
				if start < 0 {
					break
				}
				end := bytes.IndexByte(rest[start:], '>')
				if end < 0 {
					break
				}
				rest = rest[start+end+1:]
			}
			if err == io.EOF || err == io.ErrUnexpectedEOF {
				break
			}
			if err != nil {
				return err
			}
		}
		r.Close()
	}
	return nil
}
