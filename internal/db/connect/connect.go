// Package connect has the list of databases, opens one by its URL, and keeps
// passwords out of everything that is shown.
package connect

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"time"

	"ambertray/internal/db"
	"ambertray/internal/phrase"
)

// Options are what a URL does not say.
type Options struct {
	// PasswordFile has the password, whatever the URL says; empty: there is none.
	PasswordFile string
	// Password is used where neither the URL nor the driver's usual places have one.
	// It may be nil.
	Password func() (string, error)
	// CreateDatabase creates the database of the URL on its server if it is
	// not there.
	CreateDatabase bool
	// Existing refuses to create a SQLite file that is not there.
	Existing bool
	// ReadOnly makes the database refuse whatever would change it.
	ReadOnly bool
	// LockWait bounds the waiting for locks of others; 0: the database's own bound.
	LockWait time.Duration
}

// timeout bounds the connecting, unless the URL has connect_timeout.
const timeout = 15 * time.Second

// words are passwords in lists of words: host=… password=…, Server=…;Pwd=….
var words = regexp.MustCompile(`(?i)((?:pass|pwd)\w*\s*[=:]\s*)('[^']*'|"[^"]*"|[^\s;&,]+)`)

// Redact is a database URL without its password.
func Redact(raw string) string {
	if isFile(raw) {
		return raw
	}
	// Whatever form it has: a password in words is none to show.
	return words.ReplaceAllString(redact(raw), "${1}…")
}

func redact(raw string) string {
	if Of(raw) == nil {
		raw = words.ReplaceAllString(raw, "${1}…") // the form of other programs
	}
	u, err := url.Parse(raw)
	// What is behind a # or an @ in the path may be the rest of a password that has a / or a #.
	if err != nil || u.User == nil || u.Fragment != "" || strings.Contains(u.Path, "@") {
		// A URL that is written wrongly may have a password anywhere before
		// the host.
		if i := strings.LastIndexByte(raw, '@'); i >= 0 {
			scheme, _, _ := strings.Cut(raw, ":")
			return scheme + "://…@" + raw[i+1:]
		}
		return dropQuery(u, raw)
	}
	if _, has := u.User.Password(); has {
		u.User = url.User(u.User.Username())
	}
	return dropQuery(u, u.String())
}

// Canonical is a database URL as papers keep it: without password, and with
// the whole path of a SQLite file.
func Canonical(raw string) string {
	if isFile(raw) {
		if path, err := filepath.Abs(File(raw)); err == nil {
			return Of(raw).Schemes[0] + ":" + path
		}
	}
	return Redact(raw)
}

// Same reports whether two URLs lead to the same database, whoever connects.
func Same(a, b string) bool {
	d := Of(a)
	if d == nil || d != Of(b) {
		return false
	}
	a, b = Canonical(a), Canonical(b)
	if d.File {
		return a == b
	}
	ua, err := url.Parse(a)
	ub, err2 := url.Parse(b)
	if err != nil || err2 != nil {
		return a == b
	}
	host := func(u *url.URL) string {
		if u.Host == "" { // a socket, a service, or what the environment says
			return parameter(u, "host") + parameter(u, "socket") + parameter(u, "service")
		}
		return net.JoinHostPort(strings.ToLower(u.Hostname()), cmp.Or(u.Port(), d.Port))
	}
	return host(ua) == host(ub) && ua.Path == ub.Path && strings.EqualFold(parameter(ua, d.NameIn), parameter(ub,
		d.NameIn))
}

// SameUser reports whether two URLs name the same user.
func SameUser(a, b string) bool {
	ua, err := url.Parse(a)
	ub, err2 := url.Parse(b)
	if err != nil || err2 != nil {
		return false
	}
	return ua.User.Username() == ub.User.Username()
}

// FromCommand is a password that a command prints, as a keeper of passwords does. What the
// command says otherwise goes to the terminal.
func FromCommand(ctx context.Context, command []string) func() (string, error) {
	return func() (string, error) {
		cmd := exec.CommandContext(ctx, command[0], command[1:]...)
		cmd.Stdin, cmd.Stderr = os.Stdin, os.Stderr
		out, err := cmd.Output()
		if err != nil {
			return "", fmt.Errorf("the command that has the password (%s) failed: %w", command[0], err)
		}
		first, _, _ := strings.Cut(string(out), "\n")
		return strings.TrimRight(first, "\r"), nil
	}
}

// parameter is one of a URL's, whatever its case; of none, nothing.
func parameter(u *url.URL, name string) string {
	for k, v := range u.Query() {
		if name != "" && strings.EqualFold(k, name) {
			return v[0]
		}
	}
	return ""
}

func isFile(raw string) bool {
	d := Of(raw)
	return d != nil && d.File
}

// File is the path in the URL of a database in a file.
func File(raw string) string {
	_, path, _ := strings.Cut(raw, ":")
	return filePath(strings.TrimPrefix(path, "//"), runtime.GOOS == "windows")
}

// filePath is a path as a URL has it: on Windows, the slash before the letter of a drive is
// none of the path (RFC 8089, appendix E.2).
func filePath(path string, windows bool) string {
	if windows && len(path) > 2 && path[0] == '/' && path[2] == ':' {
		return path[1:]
	}
	return path
}

// dropQuery takes a password out of a URL's parameters.
func dropQuery(u *url.URL, s string) string {
	is := func(s string) bool {
		s = strings.ToLower(s)
		return strings.Contains(s, "passw") || strings.Contains(s, "pwd")
	}
	if u == nil || !is(u.RawQuery) {
		return s
	}
	q := u.Query()
	for k, values := range q {
		if is(k) || slices.ContainsFunc(values, is) { // a value may be parameters, written wrongly
			q.Del(k)
		}
	}
	u.RawQuery = q.Encode()
	return u.String()
}

// Of is the database that a URL leads to, or nil.
func Of(raw string) *db.Database {
	scheme, _, ok := strings.Cut(raw, ":")
	if !ok {
		return nil
	}
	for _, d := range All {
		if slices.Contains(d.Schemes, strings.ToLower(scheme)) {
			return d
		}
	}
	return nil
}

// Open connects. A database in a file is created if there is none.
func Open(ctx context.Context, raw string, opt Options) (db.Session, error) {
	at := db.Address{Raw: raw, Where: Redact(raw), Password: opt.Password, CreateDatabase: opt.CreateDatabase,
		Existing: opt.Existing, ReadOnly: opt.ReadOnly, LockWait: opt.LockWait,
		Timeout: timeout}
	if opt.PasswordFile != "" {
		b, err := os.ReadFile(opt.PasswordFile)
		if err != nil {
			return nil, fmt.Errorf("--password-file: %w", err)
		}
		if err := private(opt.PasswordFile); err != nil {
			return nil, err
		}
		text := strings.TrimRight(string(b), "\r\n")
		at.Given = &text
	}
	bad := func(what string) error {
		return &db.BadURL{What: fmt.Sprintf("%q %s", at.Where, what), Do: "write " + Examples()}
	}
	d := Of(raw)
	switch {
	case d == nil:
		return nil, bad("is not a database URL that is known")
	case d.File:
		if at.Path = File(raw); at.Path == "" {
			return nil, bad("names no file")
		}
		return d.Open(ctx, at)
	}
	var err error
	if at.URL, err = url.Parse(raw); err != nil {
		return nil, bad("names no host")
	}
	host, name := at.URL.Host != "", false
	if d.Elsewhere != nil {
		elsewhere, named := d.Elsewhere(at.URL)
		host, name = host || elsewhere, named
	}
	if !host {
		return nil, bad("names no host")
	}
	if at.Name = strings.TrimPrefix(at.URL.Path, "/"); d.NameIn != "" {
		at.Name = parameter(at.URL, d.NameIn)
	}
	if at.Name == "" && !name || strings.Contains(at.Name, "/") {
		return nil, bad("names no database")
	}
	session, err := d.Open(ctx, at)
	var wrong *db.BadURL
	if errors.As(err, &wrong) && wrong.Do == "" {
		wrong.Do = "write " + d.Example
	}
	return session, err
}

// private refuses a password file that others may read. A device or a pipe is its
// owner's business, and Windows has no such modes.
func private(path string) error {
	info, err := os.Stat(path)
	if err != nil || !info.Mode().IsRegular() || runtime.GOOS == "windows" || info.Mode().Perm()&0o044 == 0 {
		return err
	}
	return &db.Error{Where: "--password-file " + path, What: "others can read it: its mode is " +
		info.Mode().Perm().String(),
		Do: "chmod 600 " + phrase.ShellWord(path) + ", and change the password if others may have read it"}
}

// Password finds a password that no URL has: from AMBERTRAY_PASSWORD, else by asking,
// if ask is not nil.
func Password(ask func() (string, error)) func() (string, error) {
	return func() (string, error) {
		if p, ok := os.LookupEnv("AMBERTRAY_PASSWORD"); ok {
			return p, nil
		}
		if ask != nil {
			return ask()
		}
		return "", nil
	}
}
