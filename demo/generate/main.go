// Generate writes the harbour of Port Merrow at any size: a flat file with one line a call, the ladle file for it
// and a database to load it into.
package main

import (
	"flag"
	"fmt"
	"os"

	"ladle/demo"
)

func main() {
	rows := flag.Int64("rows", 1000, "lines of the flat file")
	first := flag.Int64("first", 0, "number of the first call; a file that follows on another starts where that ended")
	seed := flag.Uint64("seed", 1, "seed of all that is drawn by lot")
	messy := flag.Float64("messy", 0, "share of the lines with something wrong in them, from 0 to 1")
	folder := flag.String("o", "port-merrow-large", "folder to write to")
	flag.Parse()
	h := demo.NewHarbour(*first, *rows, *seed)
	h.Messy = *messy
	if err := h.Generate(*folder); err != nil {
		fmt.Fprintln(os.Stderr, "generate:", err)
		os.Exit(1)
	}
}
