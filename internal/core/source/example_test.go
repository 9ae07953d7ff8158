package source_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"ladle/internal/core/source"
)

// A file is opened, its header looked at, and its records are read chunk by chunk.
func ExampleOpen() {
	folder, _ := os.MkdirTemp("", "")
	defer os.RemoveAll(folder)
	path := filepath.Join(folder, "berths.csv")
	os.WriteFile(path, []byte("Berths of Port Merrow\nCode;Quay\nN1;North\nS1;\"Salt; old\"\n"), 0o600)

	table, err := source.Open([]string{path}, source.ReadOptions{})
	if err != nil {
		fmt.Println(err)
		return
	}
	defer table.Close()
	fmt.Println(table.Header().Names)
	work := func(c *source.Chunk) (rows []string) {
		var r source.Record
		for c.Next(&r) {
			place := source.PlaceOf(table, r.Position)
			rows = append(rows, fmt.Sprintf("%s: %s", place.Words(), r.Fields))
		}
		return rows
	}
	keep := func(_ *source.Chunk, rows []string) error {
		for _, row := range rows {
			fmt.Println(row)
		}
		return nil
	}
	if err := source.Each(context.Background(), table, work, keep); err != nil {
		fmt.Println(err)
	}
	format := table.Formats()[0]
	fmt.Println("delimiter", format.Delimiter.Value, "· header on line", format.Header.Value, "· above it",
		format.SkippedTexts)
	// Output:
	// [Code Quay]
	// line 3: [N1 North]
	// line 4: [S1 Salt; old]
	// delimiter ; · header on line 2 · above it [Berths of Port Merrow]
}
