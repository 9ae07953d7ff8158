package survey_test

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"ladle/internal/core/source"
	"ladle/internal/core/survey"
)

// A survey reads files to their end and says of each column what it holds.
func ExampleRun() {
	folder, _ := os.MkdirTemp("", "")
	defer os.RemoveAll(folder)
	path := filepath.Join(folder, "calls.csv")
	os.WriteFile(path, []byte("Vessel,Arrived,Dues\nHeron,31.03.2026,\"1.200,50\"\nSkua,01.04.2026,\"80,00\"\n"), 0o600)

	tables, err := survey.Open([]string{path}, source.ReadOptions{})
	if err != nil {
		fmt.Println(err)
		return
	}
	defer survey.Close(tables)
	found, err := survey.Run(context.Background(), tables, func(survey.Progress) {})
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, c := range found.Inputs[0].Columns {
		fmt.Printf("%s: %s (%s)\n", c.Name, c.Type, c.Written)
	}
	// Output:
	// Vessel: text ()
	// Arrived: date (dd.MM.yyyy)
	// Dues: decimal number (1.234,5)
}
