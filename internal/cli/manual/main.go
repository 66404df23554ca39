// Command manual writes man pages of all commands, and completions for shells, into a folder.
package main

import (
	"fmt"
	"os"
	"path/filepath"
	"time"

	"github.com/spf13/cobra/doc"

	"mullein/internal/cli"
	"mullein/internal/server"
)

func main() {
	if len(os.Args) != 2 {
		fmt.Fprintln(os.Stderr, "usage: manual FOLDER")
		os.Exit(2)
	}
	if err := write(os.Args[1]); err != nil {
		fmt.Fprintln(os.Stderr, "manual:", err)
		os.Exit(1)
	}
}

func write(folder string) error {
	root := cli.Command(cli.Program{Version: server.Version})
	root.DisableAutoGenTag = true // it says the day, by which builds would differ
	for _, sub := range []string{"man1", "completions"} {
		if err := os.MkdirAll(filepath.Join(folder, sub), 0o755); err != nil {
			return err
		}
	}
	day := time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)
	header := &doc.GenManHeader{Title: "MULLEIN", Section: "1", Source: "Mullein " + server.Version, Manual: "Mullein", Date: &day}
	if err := doc.GenManTree(root, header, filepath.Join(folder, "man1")); err != nil {
		return fmt.Errorf("man pages: %w", err)
	}
	at := filepath.Join(folder, "completions")
	for file, write := range map[string]func(string) error{
		"mullein":      func(to string) error { return root.GenBashCompletionFileV2(to, true) },
		"_mullein":     root.GenZshCompletionFile,
		"mullein.fish": func(to string) error { return root.GenFishCompletionFile(to, true) },
	} {
		if err := write(filepath.Join(at, file)); err != nil {
			return fmt.Errorf("completion: %w", err)
		}
	}
	return nil
}
