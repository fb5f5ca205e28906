// Command types writes the console's types, src/lib/types.ts, from the Go types of the control API, and src/lib/schemes.ts
// from the table of addresses. It is run
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
	schemes, err := typescript.Schemes()
	if err != nil {
		log.Fatal(err)
	}
	for name, text := range map[string][]byte{"types.ts": b, "schemes.ts": schemes} {
		if err := os.WriteFile(filepath.Join("web", "src", "lib", name), text, 0o644); err != nil {
			log.Fatal(err)
		}
	}
}
