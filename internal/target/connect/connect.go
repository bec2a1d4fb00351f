// Package connect opens a target by its database URL, and keeps passwords out
// of everything that is shown.
package connect

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"

	"ambertray/internal/target"
	"ambertray/internal/target/mysql"
	"ambertray/internal/target/postgres"
	"ambertray/internal/target/sqlite"
)

// Options are what a URL does not say.
type Options struct {
	// Password is used where the URL has none. It may be nil.
	Password func() (string, error)
	// CreateDatabase creates the database of the URL on its server if it is
	// not there.
	CreateDatabase bool
	// Existing refuses to create a SQLite file that is not there.
	Existing bool
}

// timeout bounds the connecting, unless the URL has connect_timeout.
const timeout = 15 * time.Second

// A BadURL is a database URL that is written wrongly.
type BadURL struct{ what string }

func (e *BadURL) Error() string {
	return e.what + "\n  write sqlite:path/to.db, postgres://user@host:5432/db or mysql://user@host:3306/db"
}

// Redact is a database URL without its password.
func Redact(raw string) string {
	u, err := url.Parse(raw)
	if Scheme(raw) == "sqlite" {
		return raw
	}
	if err != nil || u.User == nil {
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
	if Scheme(raw) == "sqlite" {
		if path, err := filepath.Abs(file(raw)); err == nil {
			return "sqlite:" + path
		}
	}
	return Redact(raw)
}

// Same reports whether two URLs lead to the same database, whoever connects.
func Same(a, b string) bool {
	if Scheme(a) == "" || Scheme(a) != Scheme(b) {
		return false
	}
	a, b = Canonical(a), Canonical(b)
	if Scheme(a) == "sqlite" {
		return a == b
	}
	ua, err := url.Parse(a)
	ub, err2 := url.Parse(b)
	if err != nil || err2 != nil {
		return a == b
	}
	port := map[string]string{"postgres": "5432", "mysql": "3306"}[Scheme(a)]
	host := func(u *url.URL) string {
		return net.JoinHostPort(strings.ToLower(u.Hostname()), cmp.Or(u.Port(), port))
	}
	return host(ua) == host(ub) && ua.Path == ub.Path
}

// file is the path in a SQLite URL.
func file(raw string) string {
	_, path, _ := strings.Cut(raw, ":")
	return strings.TrimPrefix(path, "//")
}

// dropQuery takes a password out of a URL's parameters.
func dropQuery(u *url.URL, s string) string {
	if u == nil || !strings.Contains(strings.ToLower(u.RawQuery), "passw") {
		return s
	}
	q := u.Query()
	for k := range q {
		if strings.Contains(strings.ToLower(k), "passw") {
			q.Del(k)
		}
	}
	u.RawQuery = q.Encode()
	return u.String()
}

// Scheme is the dialect's name that a URL leads to, or "".
func Scheme(raw string) string {
	scheme, _, ok := strings.Cut(raw, ":")
	if !ok {
		return ""
	}
	switch strings.ToLower(scheme) {
	case "sqlite", "sqlite3":
		return "sqlite"
	case "postgres", "postgresql":
		return "postgres"
	case "mysql", "mariadb":
		return "mysql"
	}
	return ""
}

// Open connects. A SQLite database is created if there is none.
func Open(ctx context.Context, raw string, opt Options) (target.Target, error) {
	conn, err := open(ctx, raw, opt)
	if err != nil {
		return nil, err // and not a connection that is nil
	}
	return conn, nil
}

func open(ctx context.Context, raw string, opt Options) (target.Target, error) {
	where := Redact(raw)
	scheme := Scheme(raw)
	switch scheme {
	case "":
		return nil, &BadURL{fmt.Sprintf("%q is not a database URL that is known", where)}
	case "sqlite":
		if file(raw) == "" {
			return nil, &BadURL{fmt.Sprintf("%q names no file", where)}
		}
		if _, err := os.Stat(file(raw)); opt.Existing && errors.Is(err, fs.ErrNotExist) {
			return nil, &target.Error{Where: where, What: "there is no such file", Do: "check the path; it is taken from the folder the program runs in"}
		}
		return sqlite.Open(ctx, file(raw))
	}
	u, err := url.Parse(raw)
	if err != nil || u.Host == "" {
		return nil, &BadURL{fmt.Sprintf("%q names no host", where)}
	}
	name := strings.TrimPrefix(u.Path, "/")
	if name == "" || strings.Contains(name, "/") {
		return nil, &BadURL{fmt.Sprintf("%q names no database", where)}
	}
	user := ""
	password, has := "", false
	if u.User != nil {
		user = u.User.Username()
		password, has = u.User.Password()
	}
	if scheme == "mysql" {
		if !has && opt.Password != nil {
			if password, err = opt.Password(); err != nil {
				return nil, err
			}
		}
		return mysql.Open(ctx, mysql.Config{Where: where, User: user, Password: password, Host: u.Host, Database: name,
			Query: u.Query(), Timeout: timeout, CreateDatabase: opt.CreateDatabase})
	}
	cfg, err := pgx.ParseConfig(raw)
	if err != nil {
		// The driver's error may show the URL.
		return nil, &BadURL{fmt.Sprintf("%q has a parameter that is not known or wrong", where)}
	}
	if cfg.ConnectTimeout == 0 {
		cfg.ConnectTimeout = timeout
	}
	if cfg.Password == "" && opt.Password != nil {
		if cfg.Password, err = opt.Password(); err != nil {
			return nil, err
		}
	}
	if opt.CreateDatabase {
		if err := postgres.CreateDatabase(ctx, where, cfg.Copy()); err != nil {
			return nil, err
		}
	}
	return postgres.Open(ctx, where, cfg)
}

// Password finds a password that no URL has: from AMBERTRAY_PASSWORD or a
// file, else by asking, if ask is not nil.
func Password(file string, ask func() (string, error)) func() (string, error) {
	return func() (string, error) {
		if file != "" {
			b, err := os.ReadFile(file)
			if err != nil {
				return "", fmt.Errorf("--password-file: %w", err)
			}
			return strings.TrimRight(string(b), "\r\n"), nil
		}
		if p, ok := os.LookupEnv("AMBERTRAY_PASSWORD"); ok {
			return p, nil
		}
		if ask != nil {
			return ask()
		}
		return "", nil
	}
}
