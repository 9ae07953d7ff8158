package main

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"
)

var at = time.Date(2026, 11, 29, 7, 30, 0, 0, time.UTC)

func TestVersionsOfPackages(t *testing.T) {
	for version, want := range map[string]string{"v1.2.3": "1.2.3", "1.2.3-4-gabc1234": "1.2.3+4+gabc1234",
		"abc1234": "0.0.0+20261129073000.abc1234", "1234567": "0.0.0+20261129073000.1234567",
		"abc1234-dirty": "0.0.0+20261129073000.abc1234.dirty", "unversioned": "0.0.0+20261129073000.unversioned"} {
		if got := (release{version: version, at: at}).packageVersion(); got != want {
			t.Errorf("%s: %s, want %s", version, got, want)
		}
	}
}

// TestArchives: what is in an archive has one folder, the time of the revision, and the right to be run where it is a
// program; and twice the same gives the same bytes.
func TestArchives(t *testing.T) {
	all := []file{{name: "ladle", place: "/usr/bin/ladle", content: []byte("program"), runs: true},
		{name: "ladle.1", place: "/usr/share/man/man1/ladle.1.gz", content: []byte("manual")},
		{name: "README.md", content: []byte("read me")}}
	var built [2]map[string][]byte
	for i := range built {
		r := release{"v1.2.3", at, t.TempDir()}
		for _, target := range []target{{"linux", "amd64"}, {"windows", "amd64"}} {
			if err := r.archive(target, all); err != nil {
				t.Fatal(err)
			}
		}
		for _, format := range []string{"deb", "rpm"} {
			if err := r.pack(target{"linux", "amd64"}, format, all); err != nil {
				t.Fatal(err)
			}
		}
		if err := r.sums(); err != nil {
			t.Fatal(err)
		}
		built[i] = map[string][]byte{}
		names, _ := filepath.Glob(filepath.Join(r.out, "*"))
		for _, name := range names {
			content, err := os.ReadFile(name)
			if err != nil {
				t.Fatal(err)
			}
			built[i][filepath.Base(name)] = content
		}
	}
	if len(built[0]) != 5 {
		t.Fatalf("two archives, two packages and the sums: %d", len(built[0]))
	}
	for name, content := range built[0] {
		if !bytes.Equal(content, built[1][name]) {
			t.Errorf("%s is not the same when it is built again", name)
		}
	}
	inTar(t, built[0]["ladle-v1.2.3-linux-amd64.tar.gz"], all)
	inZip(t, built[0]["ladle-v1.2.3-windows-amd64.zip"], all)
}

func inTar(t *testing.T, archive []byte, all []file) {
	z, err := gzip.NewReader(bytes.NewReader(archive))
	if err != nil {
		t.Fatal(err)
	}
	r := tar.NewReader(z)
	for _, f := range all {
		h, err := r.Next()
		if err != nil {
			t.Fatal(err)
		}
		content, _ := io.ReadAll(r)
		if h.Name != "ladle-v1.2.3-linux-amd64/"+f.name || !h.ModTime.Equal(at) || os.FileMode(h.Mode) != f.mode() ||
			!bytes.Equal(content, f.content) {
			t.Errorf("%s of %s, mode %o", h.Name, h.ModTime, h.Mode)
		}
	}
	if _, err := r.Next(); err != io.EOF {
		t.Error("there is more in the archive")
	}
}

func inZip(t *testing.T, archive []byte, all []file) {
	z, err := zip.NewReader(bytes.NewReader(archive), int64(len(archive)))
	if err != nil {
		t.Fatal(err)
	}
	if len(z.File) != len(all) {
		t.Fatalf("%d files in the archive", len(z.File))
	}
	for i, f := range all {
		h := z.File[i]
		if h.Name != "ladle-v1.2.3-windows-amd64/"+f.name || !h.Modified.Equal(at) || h.Mode() != f.mode() {
			t.Errorf("%s of %s, mode %s", h.Name, h.Modified, h.Mode())
		}
	}
}
