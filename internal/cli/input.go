package cli

import (
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"ladle/internal/core/bundle"
	"ladle/internal/core/fault"
	"ladle/internal/core/ladlefile"
)

// inputOption puts other files in the place of those that a ladle file says.
func inputOption() option {
	return option{name: "input", value: "NAME=FILE", group: groupInput, list: true,
		does: "read the input NAME from FILE, in place of what the ladle file says; give it again for more inputs, " +
			"or for more files of one"}
}

// ladleFile reads a ladle file, with other files for some of its inputs where the command line gives them.
func ladleFile(c *cli.Command, path string) (*ladlefile.File, error) {
	return ladleFiles(c, []string{path})
}

// ladleFiles is ladleFile for one or several, which become one.
func ladleFiles(c *cli.Command, paths []string) (f *ladlefile.File, err error) {
	parts := make([]*ladlefile.File, len(paths))
	for i, path := range paths {
		read := ladlefile.Read
		if bundle.Is(path) {
			read = func(path string) (*ladlefile.File, error) { return openBundle(c, path) }
		}
		if parts[i], err = read(path); err != nil {
			return nil, err
		}
	}
	if f = parts[0]; len(parts) > 1 {
		if f, err = ladlefile.Together(parts); err != nil {
			return nil, err
		}
	}
	given := map[string][]string{}
	var names []string
	for _, said := range c.StringSlice("input") {
		name, file, ok := strings.Cut(said, "=")
		if !ok || name == "" || file == "" {
			return nil, fault.New(fault.Wrong, fmt.Sprintf("--input can't be %q", said),
				"write it as NAME=FILE, with the name of an input of the ladle file")
		}
		if given[name] == nil {
			names = append(names, name)
		}
		given[name] = append(given[name], file)
	}
	for _, name := range names {
		if err := f.ReadFrom(name, given[name]); err != nil {
			return nil, err
		}
	}
	return f, nil
}
