// Ladle puts CSV files into related tables that already hold rows.
package main

import (
	"os"

	"ladle/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args)) }
