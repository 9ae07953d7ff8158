// Command dist builds what people download: for each system an archive with the program, its manual page, its completion
// and the licences, and for Linux Debian and RPM packages; with the SHA-256 of each in SHA256SUMS. The same revision,
// built by the same version of Go, gives the same bytes. It is a module of its own, so that what it needs is no part of
// the program.
//
//	dist -version VERSION -time SECONDS -out FOLDER     in the folder of this module
package main

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"cmp"
	"compress/gzip"
	"crypto/sha256"
	"flag"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/goreleaser/nfpm/v2"
	_ "github.com/goreleaser/nfpm/v2/deb"
	"github.com/goreleaser/nfpm/v2/files"
	_ "github.com/goreleaser/nfpm/v2/rpm"
)

// target is a system that the program is built for.
type target struct{ system, machine string }

var targets = []target{{"linux", "amd64"}, {"linux", "arm64"}, {"darwin", "amd64"}, {"darwin", "arm64"},
	{"windows", "amd64"}}

// release is a revision of the program on its way to people.
type release struct {
	version string
	at      time.Time // of the revision: files have no other time
	out     string    // the folder of what is built
}

// file is a file of an archive or a package.
type file struct {
	name    string // in an archive
	place   string // in a package; "" where it has none
	content []byte
	runs    bool
}

func main() {
	version := flag.String("version", "", "the version of the program")
	seconds := flag.Int64("time", 0, "when the revision was made, in seconds since 1970")
	out := flag.String("out", "", "the folder for what is built")
	flag.Parse()
	if *version == "" || *out == "" || flag.NArg() > 0 {
		flag.Usage()
		os.Exit(2)
	}
	r := release{*version, time.Unix(*seconds, 0).UTC(), *out}
	if err := r.build(); err != nil {
		fmt.Fprintln(os.Stderr, "dist:", err)
		os.Exit(1)
	}
}

func (r release) build() error {
	if err := os.RemoveAll(r.out); err != nil {
		return err
	}
	if err := os.MkdirAll(r.out, 0o755); err != nil {
		return err
	}
	shared, err := r.shared()
	if err != nil {
		return err
	}
	for _, t := range targets {
		program, err := r.compile(t)
		if err != nil {
			return err
		}
		all := append([]file{program}, shared...)
		if err := r.archive(t, all); err != nil {
			return err
		}
		if t.system != "linux" {
			continue
		}
		for _, format := range []string{"deb", "rpm"} {
			if err := r.pack(t, format, all); err != nil {
				return fmt.Errorf("%s for %s: %w", format, t.machine, err)
			}
		}
	}
	return r.sums()
}

// compile builds the program for a system.
func (r release) compile(t target) (file, error) {
	name := "ladle"
	if t.system == "windows" {
		name += ".exe"
	}
	folder, err := os.MkdirTemp("", "ladle-dist-")
	if err != nil {
		return file{}, err
	}
	defer os.RemoveAll(folder)
	path := filepath.Join(folder, name)
	c := exec.Command("go", "build", "-trimpath", "-buildvcs=false", "-ldflags", "-s -w -buildid= -X "+
		"ladle/internal/cli.Version="+r.version, "-o", path, "./cmd/ladle")
	c.Dir = ".." // the module of the program
	c.Env = append(os.Environ(), "CGO_ENABLED=0", "GOFLAGS=", "GOOS="+t.system, "GOARCH="+t.machine)
	if said, err := c.CombinedOutput(); err != nil {
		return file{}, fmt.Errorf("building for %s, %s: %w\n%s", t.system, t.machine, err, said)
	}
	content, err := os.ReadFile(path)
	return file{name: name, place: "/usr/bin/ladle", content: content, runs: true}, err
}

// shared are the files that are the same for all systems; the program writes most of them itself.
func (r release) shared() (all []file, err error) {
	here, err := r.compile(target{runtime.GOOS, runtime.GOARCH})
	if err != nil {
		return nil, err
	}
	folder, err := os.MkdirTemp("", "ladle-dist-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(folder)
	program := filepath.Join(folder, here.name)
	if err := os.WriteFile(program, here.content, 0o755); err != nil {
		return nil, err
	}
	for _, f := range []struct {
		name, place string
		arguments   []string
	}{
		{"ladle.1", "/usr/share/man/man1/ladle.1.gz", []string{"manual"}},
		{"completion.bash", "/usr/share/bash-completion/completions/ladle", []string{"completion", "bash"}},
		{"LICENCES.txt", "/usr/share/doc/ladle/LICENCES.txt", []string{"--licences"}},
		{"ladle-file.schema.json", "/usr/share/doc/ladle/ladle-file.schema.json", []string{"json-schema"}},
	} {
		content, err := exec.Command(program, f.arguments...).Output()
		if err != nil {
			return nil, fmt.Errorf("ladle %s: %w", strings.Join(f.arguments, " "), err)
		}
		all = append(all, file{name: f.name, place: f.place, content: content})
	}
	for _, name := range []string{"README.md", "LICENSE"} {
		content, err := os.ReadFile(filepath.Join("..", name))
		if err != nil {
			return nil, err
		}
		place := map[string]string{"LICENSE": "/usr/share/doc/ladle/copyright"}[name]
		all = append(all, file{name: name, place: place, content: content})
	}
	return all, nil
}

// archive writes the files into a folder of their own: a zip archive for Windows, else a compressed tar archive.
func (r release) archive(t target, all []file) error {
	folder := fmt.Sprintf("ladle-%s-%s-%s", r.version, t.system, t.machine)
	var b bytes.Buffer
	write, name := r.writeTar, folder+".tar.gz"
	if t.system == "windows" {
		write, name = r.writeZip, folder+".zip"
	}
	if err := write(&b, folder, all); err != nil {
		return fmt.Errorf("%s: %w", name, err)
	}
	return os.WriteFile(filepath.Join(r.out, name), b.Bytes(), 0o644)
}

func (f file) mode() os.FileMode {
	if f.runs {
		return 0o755
	}
	return 0o644
}

func (r release) writeTar(to io.Writer, folder string, all []file) error {
	z, err := gzip.NewWriterLevel(to, gzip.BestCompression)
	if err != nil {
		return err
	}
	t := tar.NewWriter(z)
	for _, f := range all {
		h := &tar.Header{Name: folder + "/" + f.name, Mode: int64(f.mode()), Size: int64(len(f.content)), ModTime: r.at,
			Format: tar.FormatUSTAR}
		if err := t.WriteHeader(h); err != nil {
			return err
		}
		if _, err := t.Write(f.content); err != nil {
			return err
		}
	}
	if err := t.Close(); err != nil {
		return err
	}
	return z.Close()
}

func (r release) writeZip(to io.Writer, folder string, all []file) error {
	z := zip.NewWriter(to)
	for _, f := range all {
		h := &zip.FileHeader{Name: folder + "/" + f.name, Method: zip.Deflate, Modified: r.at}
		h.SetMode(f.mode())
		w, err := z.CreateHeader(h)
		if err != nil {
			return err
		}
		if _, err := w.Write(f.content); err != nil {
			return err
		}
	}
	return z.Close()
}

// begins are versions as packages have them: they begin with a digit.
var begins = regexp.MustCompile(`^v?([0-9].*)$`)

// packageVersion is the version for packages, which compare versions: a revision without one of its own is older than any
// that has one, and younger than those before it.
func (r release) packageVersion() string {
	if m := begins.FindStringSubmatch(r.version); m != nil && strings.Contains(m[1], ".") {
		return strings.ReplaceAll(m[1], "-", "+")
	}
	return "0.0.0+" + r.at.Format("20060102150405") + "." + strings.ReplaceAll(r.version, "-", ".")
}

// pack writes a package for Linux.
func (r release) pack(t target, format string, all []file) error {
	folder, err := os.MkdirTemp("", "ladle-dist-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder)
	info := &nfpm.Info{Name: "ladle", Arch: t.machine, Platform: "linux", Version: r.packageVersion(),
		VersionSchema: "none", Release: "1", Section: "database", Priority: "optional", License: "Apache-2.0",
		Maintainer: "The authors of Ladle <ladle@example.invalid>",
		Description: "loads CSV files and workbooks into related tables\n" +
			"Cleans values, adds lookup rows before the rows that refer to them, appends without\n" +
			"duplicates, and checks every cell before it commits. For SQLite, PostgreSQL, MariaDB and MySQL.",
		MTime: r.at}
	for _, f := range all {
		if f.place == "" {
			continue
		}
		if strings.HasSuffix(f.place, ".gz") {
			var b bytes.Buffer
			z, _ := gzip.NewWriterLevel(&b, gzip.BestCompression) // the level is a right one
			if _, err := z.Write(f.content); err != nil {
				return err
			}
			if err := z.Close(); err != nil {
				return err
			}
			f.content = b.Bytes()
		}
		path := filepath.Join(folder, f.name)
		if err := os.WriteFile(path, f.content, f.mode()); err != nil {
			return err
		}
		info.Contents = append(info.Contents, &files.Content{Source: path, Destination: f.place,
			FileInfo: &files.ContentFileInfo{Owner: "root", Group: "root", Mode: f.mode(), MTime: r.at}})
	}
	info = nfpm.WithDefaults(info)
	if err := nfpm.PrepareForPackager(info, format); err != nil {
		return err
	}
	packager, err := nfpm.Get(format)
	if err != nil {
		return err
	}
	to, err := os.Create(filepath.Join(r.out, packager.ConventionalFileName(info)))
	if err != nil {
		return err
	}
	return cmp.Or(packager.Package(info, to), to.Close())
}

// sums writes the SHA-256 of each file, as sha256sum does.
func (r release) sums() error {
	all, err := filepath.Glob(filepath.Join(r.out, "*"))
	if err != nil {
		return err
	}
	slices.Sort(all)
	var b strings.Builder
	for _, path := range all {
		content, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		fmt.Fprintf(&b, "%x  %s\n", sha256.Sum256(content), filepath.Base(path))
	}
	return os.WriteFile(filepath.Join(r.out, "SHA256SUMS"), []byte(b.String()), 0o644)
}
