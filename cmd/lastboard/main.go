// Lastboard changes the tables of a live database, safely.
package main

import (
	"os"

	"lastboard/internal/cli"
)

func main() { os.Exit(cli.Main()) }
