package main

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"cmp"
	"crypto/md5"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"github.com/blakesmith/ar"
	"github.com/google/rpmpack"
)

const (
	summary  = "Load delimited text and workbooks into database tables, and prove it"
	describe = "Amber Tray loads delimited text, text of fixed width and workbooks into tables of SQLite, " +
		"PostgreSQL,\n" +
		"MySQL, MariaDB and SQL Server, or into Parquet files. It reads a file whole before it decides anything,\n" +
		"verifies before it commits, and keeps the papers of every load."
	maintainer = "Harrowmere Canal Trust <tray@harrowmere.example>"
)

func sortFiles(files []file) {
	slices.SortFunc(files, func(a, b file) int { return cmp.Compare(a.name, b.name) })
}

func (f *file) mode() int64 {
	if f.run {
		return 0o755
	}
	return 0o644
}

// folders are those that files lie in, outermost first.
func folders(files []file) (out []string) {
	for _, f := range files {
		for d := path.Dir(f.name); d != "."; d = path.Dir(d) {
			if !slices.Contains(out, d) {
				out = append(out, d)
			}
		}
	}
	slices.Sort(out)
	return out
}

// tarred is a compressed archive. before stands before each name.
func tarred(r *release, files []file) ([]byte, error) { return r.tar("", files) }

func (r *release) tar(before string, files []file) ([]byte, error) {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	put := func(h *tar.Header, body []byte) error {
		h.ModTime, h.Uname, h.Gname, h.Format = r.at, "root", "root", tar.FormatGNU
		if err := w.WriteHeader(h); err != nil {
			return err
		}
		_, err := w.Write(body)
		return err
	}
	for _, d := range folders(files) {
		if err := put(&tar.Header{Typeflag: tar.TypeDir, Name: before + d + "/", Mode: 0o755}, nil); err != nil {
			return nil, err
		}
	}
	for _, f := range files {
		if err := put(&tar.Header{Typeflag: tar.TypeReg, Name: before + f.name, Mode: f.mode(),
			Size: int64(len(f.body))},
			f.body); err != nil {
			return nil, err
		}
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	return zip1(b.Bytes())
}

// zipped is an archive for Windows.
func zipped(r *release, files []file) ([]byte, error) {
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, f := range files {
		h := &zip.FileHeader{Name: f.name, Method: zip.Deflate, Modified: r.at}
		part, err := w.CreateHeader(h)
		if err != nil {
			return nil, err
		}
		if _, err := part.Write(f.body); err != nil {
			return nil, err
		}
	}
	err := w.Close()
	return b.Bytes(), err
}

var notInVersion = regexp.MustCompile(`[^0-9A-Za-z.+~]+`)

// debian is the version as packages have it: it begins with a digit (Debian Policy, 5.6.12),
// and what is behind a tag counts as later.
func (r *release) debian() string {
	v := notInVersion.ReplaceAllString(r.version, "+")
	if v == "" || v[0] < '0' || v[0] > '9' {
		v = "0~" + v
	}
	return v
}

// rpm is the version for packages of the other kind, which have no plus in it everywhere.
func (r *release) rpm() string { return strings.ReplaceAll(r.debian(), "+", ".") }

// debianPackage is an archive of archives (deb(5)): its version, what it says of itself, and
// the files.
func debianPackage(machine string) func(*release, []file) ([]byte, error) {
	return func(r *release, files []file) ([]byte, error) {
		size, sums := 0, ""
		for _, f := range files {
			size += len(f.body)
			sums += fmt.Sprintf("%x  %s\n", md5.Sum(f.body), f.name)
		}
		control := fmt.Sprintf("Package: ambertray\nVersion: %s\nArchitecture: %s\nMaintainer: %s\nInstalled-Size: "+
			"%d\n"+
			"Section: database\nPriority: optional\nDescription: %s\n %s\n", r.debian(), machine, maintainer,
			(size+1023)/1024,
			summary, strings.ReplaceAll(describe, "\n", "\n "))
		head, err := r.tar("./", []file{{name: "control", body: []byte(control)}, {name: "md5sums",
			body: []byte(sums)}})
		if err != nil {
			return nil, err
		}
		data, err := r.tar("./", files)
		if err != nil {
			return nil, err
		}
		var b bytes.Buffer
		w := ar.NewWriter(&b)
		if err := w.WriteGlobalHeader(); err != nil {
			return nil, err
		}
		for _, f := range []file{{name: "debian-binary", body: []byte("2.0\n")}, {name: "control.tar.gz", body: head},
			{name: "data.tar.gz", body: data}} {
			if err := w.WriteHeader(&ar.Header{Name: f.name, ModTime: r.at, Mode: 0o100644,
				Size: int64(len(f.body))}); err != nil {
				return nil, err
			}
			if _, err := w.Write(f.body); err != nil {
				return nil, err
			}
		}
		return b.Bytes(), nil
	}
}

func rpmMachine(machine string) string {
	return map[string]string{"amd64": "x86_64", "arm64": "aarch64"}[machine]
}

func rpmPackage(machine string) func(*release, []file) ([]byte, error) {
	return func(r *release, files []file) ([]byte, error) {
		p, err := rpmpack.NewRPM(rpmpack.RPMMetaData{Name: "ambertray", Summary: summary, Description: describe,
			Version: r.rpm(), Release: "1", Arch: rpmMachine(machine), OS: "linux", Vendor: "Harrowmere Canal Trust",
			Packager: maintainer, Licence: "Apache-2.0", BuildHost: "reproducible",
			Compressor: "gzip:9", BuildTime: r.at})
		if err != nil {
			return nil, err
		}
		for _, f := range files {
			p.AddFile(rpmpack.RPMFile{Name: "/" + f.name, Body: f.body, Mode: uint(0o100000 | f.mode()), Owner: "root",
				Group: "root", MTime: uint32(r.at.Unix())})
		}
		var b bytes.Buffer
		err = p.Write(&b)
		return b.Bytes(), err
	}
}
