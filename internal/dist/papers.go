package main

import (
	"bytes"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strings"

	"github.com/klauspost/compress/gzip"
	"github.com/spf13/cobra/doc"

	"ambertray/internal/cli"
)

// papersOf are what lies beside the program in an archive.
func papersOf(r *release) (files []file, err error) {
	for _, name := range []string{"README.md", "LICENSE", "NOTICE", "THIRD-PARTY-NOTICES.txt", "CHANGELOG.md"} {
		b, err := os.ReadFile(name)
		if err != nil {
			return nil, err
		}
		files = append(files, file{name: name, body: b})
	}
	tree := cli.Tree(r.version, r.commit)
	tree.DisableAutoGenTag = true
	dir, err := os.MkdirTemp("", "ambertray-man-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	head := &doc.GenManHeader{Title: "AMBERTRAY", Section: "1", Date: &r.at, Source: "Amber Tray " + r.version,
		Manual: "Amber Tray"}
	if err := doc.GenManTree(tree, head, dir); err != nil {
		return nil, err
	}
	pages, err := filepath.Glob(filepath.Join(dir, "*.1"))
	if err != nil || len(pages) == 0 {
		return nil, fmt.Errorf("no manual pages were made: %w", err)
	}
	for _, p := range pages {
		b, err := os.ReadFile(p)
		if err != nil {
			return nil, err
		}
		files = append(files, file{name: "man/" + filepath.Base(p), body: b})
	}
	for name, write := range map[string]func(b *bytes.Buffer) error{
		"ambertray.bash": func(b *bytes.Buffer) error { return tree.GenBashCompletionV2(b, true) },
		"_ambertray":     func(b *bytes.Buffer) error { return tree.GenZshCompletion(b) },
		"ambertray.fish": func(b *bytes.Buffer) error { return tree.GenFishCompletion(b, true) },
		"ambertray.ps1":  func(b *bytes.Buffer) error { return tree.GenPowerShellCompletionWithDesc(b) },
	} {
		var b bytes.Buffer
		if err := write(&b); err != nil {
			return nil, err
		}
		files = append(files, file{name: "completions/" + name, body: b.Bytes()})
	}
	sortFiles(files)
	return files, nil
}

// installed is where packages put the program and its papers.
func (r *release) installed(program []byte) (files []file, err error) {
	files = append(files, file{name: "usr/bin/ambertray", body: program, run: true})
	for _, f := range r.papers {
		name := path.Base(f.name)
		switch {
		case strings.HasPrefix(f.name, "man/"):
			if f.body, err = zip1(f.body); err != nil {
				return nil, err
			}
			f.name = "usr/share/man/man1/" + name + ".gz"
		case name == "ambertray.bash":
			f.name = "usr/share/bash-completion/completions/ambertray"
		case name == "_ambertray":
			f.name = "usr/share/zsh/site-functions/_ambertray"
		case name == "ambertray.fish":
			f.name = "usr/share/fish/vendor_completions.d/ambertray.fish"
		case name == "ambertray.ps1":
			continue
		case name == "LICENSE":
			f.name = "usr/share/doc/ambertray/copyright"
		default:
			f.name = "usr/share/doc/ambertray/" + name
		}
		files = append(files, f)
	}
	sortFiles(files)
	return files, nil
}

// zip1 compresses without a name or a time.
func zip1(b []byte) ([]byte, error) {
	var out bytes.Buffer
	w, err := gzip.NewWriterLevel(&out, gzip.BestCompression)
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(b); err != nil {
		return nil, err
	}
	err = w.Close()
	return out.Bytes(), err
}
