// Command collect writes licences.txt: the licences of all modules that are part of ladle, from the module cache.
package main

import (
	"bytes"
	"fmt"
	"log"
	"os"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strings"

	"ladle/licences/modules"
)

func main() {
	log.SetFlags(0)
	text, err := collect()
	if err == nil {
		err = os.WriteFile("licences.txt", text, 0o644)
	}
	if err != nil {
		log.Fatal(err)
	}
}

func collect() ([]byte, error) {
	parts, err := modules.Linked()
	if err != nil {
		return nil, err
	}
	goroot, err := modules.Root()
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	fmt.Fprintf(&out, "Ladle is one program with parts of %d modules in it, and of Go. Their licences follow.\n",
		len(parts))
	parts = slices.Insert(parts, 0, modules.Module{Path: "Go", Folder: goroot, Version: ""})
	for _, m := range parts {
		if err := write(&out, m); err != nil {
			return nil, err
		}
	}
	return out.Bytes(), nil
}

var legal = regexp.MustCompile(`(?i)^(licen[cs]e|copying|copyright|notice|patents)([.-].*)?$`)

// write adds a module with all its legal texts, each once.
func write(out *bytes.Buffer, m modules.Module) error {
	names, err := os.ReadDir(m.Folder)
	if err != nil {
		return err
	}
	fmt.Fprintf(out, "\n%s\n%s\n", strings.Repeat("=", 80), m)
	found, seen := false, map[string]bool{}
	for _, name := range names {
		if name.IsDir() || !legal.MatchString(name.Name()) || strings.HasSuffix(name.Name(), ".go") {
			continue
		}
		text, err := os.ReadFile(filepath.Join(m.Folder, name.Name()))
		if err != nil {
			return err
		}
		plain := strings.TrimSpace(strings.ReplaceAll(string(text), "\r\n", "\n"))
		if plain == "" || seen[plain] {
			continue
		}
		found, seen[plain] = true, true
		fmt.Fprintf(out, "\n-- %s --\n\n%s\n", name.Name(), plain)
	}
	if !found {
		return fmt.Errorf("%s has no licence in %s (%s)", m, m.Folder, runtime.GOOS)
	}
	return nil
}
