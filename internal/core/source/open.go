package source

import (
	"cmp"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"ladle/internal/core/fault"
)

// Open opens files as one table: the files at the paths, those that patterns match, in the order of their names, and
// those in archives. Columns go by their names; the first file says in what order.
func Open(paths []string, asked ReadOptions) (Table, error) {
	var tables []Table
	var failed []error
	for _, p := range paths {
		matched, err := match(p, asked.Alias)
		failed = append(failed, err)
		for _, path := range matched {
			opened, err := openAll(path, asked, false)
			tables, failed = append(tables, opened...), append(failed, err)
		}
	}
	t, err := union(tables, errors.Join(failed...))
	if err != nil {
		for _, t := range tables {
			t.Close()
		}
		return nil, err
	}
	return t, nil
}

// All opens everything that holds rows in the files that a pattern matches, one by one: each file of an archive, each
// sheet of a workbook.
func All(pattern string, asked ReadOptions) ([]Table, error) {
	paths, err := match(pattern, asked.Alias)
	if err != nil {
		return nil, err
	}
	var all []Table
	var failed []error
	for _, path := range paths {
		tables, err := openAll(path, asked, true)
		all, failed = append(all, tables...), append(failed, err)
	}
	if err := errors.Join(failed...); err != nil {
		for _, t := range all {
			t.Close()
		}
		return nil, Together(err)
	}
	return all, nil
}

// match returns the files that a pattern means.
func match(pattern string, known Alias) ([]string, error) {
	if pattern == "-" || !strings.ContainsAny(pattern, "*?[") {
		return []string{pattern}, nil
	}
	if _, err := os.Lstat(pattern); err == nil {
		return []string{pattern}, nil
	}
	if archive, _ := inArchive(pattern); archive != "" {
		return []string{pattern}, nil
	}
	all, err := filepath.Glob(pattern)
	if err != nil {
		return nil, fault.At(fault.Wrong, fault.Problem{File: known.of(pattern),
			What: "this is not a pattern for file names: a [ has no ]"})
	}
	if len(all) == 0 {
		return nil, fault.At(fault.Failed, fault.Problem{File: known.of(pattern), What: "no file matches this name",
			Do: "check the path; paths in a ladle file are relative to it"})
	}
	slices.Sort(all)
	return all, nil
}

// inArchive splits a path that goes into a zip archive: post.zip/arrivals-*.csv.
func inArchive(p string) (archive, member string) {
	for at, c := range p {
		if c != '/' && c != filepath.Separator || !strings.EqualFold(filepath.Ext(p[:at]), ".zip") {
			continue
		}
		if info, err := os.Stat(p[:at]); err == nil && info.Mode().IsRegular() {
			return p[:at], filepath.ToSlash(p[at+1:])
		}
	}
	return "", ""
}

// openAll opens what holds rows at path. With every, each sheet of a workbook is opened; without it the one that is
// asked for, or the only one.
func openAll(p string, asked ReadOptions, every bool) ([]Table, error) {
	archive, member := inArchive(p)
	f, err := openFile(cmp.Or(archive, p), asked.Alias)
	if err != nil {
		return nil, err
	}
	f.uses = 1
	defer f.release()
	contents, book, err := f.contents()
	switch {
	case err != nil:
		return nil, err
	case book != nil:
		return openSheets(f, book, asked, every)
	case member != "":
		contents = slices.DeleteFunc(contents, func(c *content) bool {
			fits, _ := path.Match(f.path+"/"+member, c.path)
			return !fits
		})
		if len(contents) == 0 {
			return nil, fault.At(fault.Failed, fault.Problem{File: f.path,
				What: fmt.Sprintf("the archive holds no file named %q", member)})
		}
	}
	return openTexts(f, contents, asked)
}

func openTexts(f *file, contents []*content, asked ReadOptions) ([]Table, error) {
	var tables []Table
	for _, c := range contents {
		t, err := openText(c, asked)
		if err != nil {
			for _, t := range tables {
				t.Close()
			}
			return nil, err
		}
		f.uses++
		tables = append(tables, t)
	}
	return tables, nil
}
