// Command ellwand builds, lints and publishes system packages.
package main

import (
	"os"

	"ellwand.example/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:])) }
