// Command types writes the console's types, src/lib/types.ts, from the Go types of the control API. It is run
// in the folder of the source tree.
package main

import (
	"log"
	"os"
	"path/filepath"

	"metaplasis/internal/control"
	"metaplasis/internal/control/typescript"
)

func main() {
	b, err := typescript.Generate(".", control.Types())
	if err != nil {
		log.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join("web", "src", "lib", "types.ts"), b, 0o644); err != nil {
		log.Fatal(err)
	}
}
