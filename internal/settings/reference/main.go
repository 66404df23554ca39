// Command reference writes docs/settings.schema.json and docs/settings.md from the settings' own
// types. `make docs` runs it.
package main

import (
	"fmt"
	"os"

	"mullein/internal/settings"
)

func main() {
	schema, text, err := settings.Reference()
	for file, content := range map[string][]byte{"docs/settings.schema.json": schema, "docs/settings.md": text} {
		if err == nil {
			err = os.WriteFile(file, content, 0o644)
		}
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}
