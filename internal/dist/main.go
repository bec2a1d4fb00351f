// Command dist builds what is given to others: a static program for each system, in an
// archive with its papers, manual pages and completions, and as packages for Debian and
// for those that use RPM. Two runs on one commit make the same bytes: times are those of
// the commit, and nothing of the machine goes in.
//
//	go run ./internal/dist -version 1.2.0 -commit 0123abc -time 1764000000 -out dist
package main

import (
	"crypto/sha256"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// A target is a system that the program is built for.
type target struct{ system, machine string }

// targets are those that there are programs for.
var targets = []target{{"linux", "amd64"}, {"linux", "arm64"}, {"darwin", "amd64"}, {"darwin", "arm64"},
	{"windows", "amd64"}, {"windows", "arm64"}, {"freebsd", "amd64"}}

// A release is what all of its files have in common.
type release struct {
	version, commit string
	at              time.Time
	out             string
	papers          []file // beside the program
}

// A file is one in an archive or package.
type file struct {
	name string // with slashes
	body []byte
	run  bool // it is a program
}

func main() {
	version := flag.String("version", "", "what it is called; a v before the digits is left out")
	commit := flag.String("commit", "", "what it is built from")
	at := flag.Int64("time", 0, "when that was, in seconds since 1970")
	out := flag.String("out", "dist", "folder to write to")
	only := flag.String("only", "", "one system and machine, as linux/amd64")
	flag.Parse()
	r := &release{version: strings.TrimPrefix(*version, "v"), commit: *commit, at: time.Unix(*at, 0).UTC(), out: *out}
	if err := r.make(*only); err != nil {
		fmt.Fprintln(os.Stderr, "dist:", err)
		os.Exit(1)
	}
}

// make builds everything, and sums it up.
func (r *release) make(only string) error {
	if r.version == "" || r.commit == "" || r.at.Unix() == 0 {
		return fmt.Errorf("say -version, -commit and -time")
	}
	if err := os.MkdirAll(r.out, 0o777); err != nil {
		return err
	}
	papers, err := papersOf(r)
	if err != nil {
		return err
	}
	r.papers = papers
	var made []string
	for _, t := range targets {
		if only != "" && only != t.system+"/"+t.machine {
			continue
		}
		names, err := r.target(t)
		if err != nil {
			return fmt.Errorf("%s/%s: %w", t.system, t.machine, err)
		}
		made = append(made, names...)
	}
	slices.Sort(made)
	var sums strings.Builder
	for _, n := range made {
		b, err := os.ReadFile(filepath.Join(r.out, n))
		if err != nil {
			return err
		}
		fmt.Fprintf(&sums, "%x  %s\n", sha256.Sum256(b), n)
		fmt.Printf("%-44s %6.1f MB\n", n, float64(len(b))/1e6)
	}
	return os.WriteFile(filepath.Join(r.out, "SHA256SUMS"), []byte(sums.String()), 0o666)
}

// target builds the program for a system, and packs it.
func (r *release) target(t target) (made []string, err error) {
	dir, err := os.MkdirTemp("", "ambertray-dist-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	name := "ambertray"
	if t.system == "windows" {
		name += ".exe"
	}
	cmd := exec.Command("go", "build", "-trimpath", "-buildvcs=false", "-ldflags",
		fmt.Sprintf("-s -w -buildid= -X main.version=%s -X main.commit=%s", r.version, r.commit),
		"-o", filepath.Join(dir, name), "./cmd/ambertray")
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0", "GOOS="+t.system, "GOARCH="+t.machine, "GOFLAGS=", "GOAMD64=v1")
	if text, err := cmd.CombinedOutput(); err != nil {
		return nil, fmt.Errorf("%w: %s", err, text)
	}
	body, err := os.ReadFile(filepath.Join(dir, name))
	if err != nil {
		return nil, err
	}
	base := fmt.Sprintf("ambertray-%s-%s-%s", r.version, t.system, t.machine)
	files := append([]file{{name: base + "/" + name, body: body, run: true}}, prefixed(base+"/", r.papers)...)
	put := func(name string, pack func(*release, []file) ([]byte, error), files []file) {
		if err != nil {
			return
		}
		var b []byte
		if b, err = pack(r, files); err == nil {
			err = os.WriteFile(filepath.Join(r.out, name), b, 0o666)
		}
		made = append(made, name)
	}
	if t.system == "windows" {
		put(base+".zip", zipped, files)
		return made, err
	}
	put(base+".tar.gz", tarred, files)
	if t.system != "linux" {
		return made, err
	}
	installed, err := r.installed(body)
	if err != nil {
		return nil, err
	}
	put(fmt.Sprintf("ambertray_%s_%s.deb", r.debian(), t.machine), debianPackage(t.machine), installed)
	put(fmt.Sprintf("ambertray-%s-1.%s.rpm", r.rpm(), rpmMachine(t.machine)), rpmPackage(t.machine), installed)
	return made, err
}

func prefixed(before string, files []file) (out []file) {
	for _, f := range files {
		f.name = before + f.name
		out = append(out, f)
	}
	return out
}
