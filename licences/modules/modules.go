// Package modules lists what is linked into the program.
package modules

import (
	"fmt"
	"os"
	"os/exec"
	"slices"
	"strings"
)

// Module is a module of which packages are linked into the program.
type Module struct{ Path, Version, Folder string }

func (m Module) String() string { return strings.TrimSpace(m.Path + " " + m.Version) }

// systems are those that the program is built for.
var systems = []string{"linux/amd64", "linux/arm64", "darwin/arm64", "windows/amd64"}

// Linked lists the modules of all systems, by name.
func Linked() ([]Module, error) {
	var all []Module
	for _, system := range systems {
		goos, arch, _ := strings.Cut(system, "/")
		list := exec.Command("go", "list", "-deps", "-f",
			"{{with .Module}}{{if not .Main}}{{.Path}}\t{{.Version}}\t{{.Dir}}{{end}}{{end}}", "ladle/cmd/ladle")
		list.Env = append(os.Environ(), "GOOS="+goos, "GOARCH="+arch, "CGO_ENABLED=0")
		list.Stderr = os.Stderr
		out, err := list.Output()
		if err != nil {
			return nil, fmt.Errorf("go list for %s: %w", system, err)
		}
		for line := range strings.Lines(string(out)) {
			parts := strings.Split(strings.TrimSpace(line), "\t")
			if len(parts) == 3 {
				all = append(all, Module{parts[0], parts[1], parts[2]})
			}
		}
	}
	slices.SortFunc(all, func(a, b Module) int { return strings.Compare(a.Path, b.Path) })
	return slices.Compact(all), nil
}

// Root is the folder of Go.
func Root() (string, error) {
	out, err := exec.Command("go", "env", "GOROOT").Output()
	return strings.TrimSpace(string(out)), err
}
