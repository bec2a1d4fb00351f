package db

import (
	"context"
	"net/url"
	"time"

	"ambertray/internal/db/dialect"
)

// A Database is all that the rest of the program has to know of one database
// product. Each is a package of its own below this one, which has its value
// under the name Database; the list is in package connect.
type Database struct {
	// Dialect has its names and writes its SQL.
	*dialect.Dialect
	// Aliases are other names that people call it by.
	Aliases []string
	// Schemes begin its URLs; the first is the one that papers have. Without
	// any, there is no connection to it.
	Schemes []string
	// Example is a URL of it, as messages and help show one.
	Example string
	// File tells that a URL names a file, and no server.
	File bool
	// Port is the one that a URL without any means.
	Port string
	// NameIn is the parameter of a URL that names the database; empty: its path does.
	NameIn string
	// Elsewhere reports whether a URL without a host names its server otherwise, as by a socket,
	// and one without a path the database; nil: a URL always has both.
	Elsewhere func(u *url.URL) (host, name bool)
	// Attaches tells that what hangs on a table that is replaced can be made again.
	Attaches bool
	// Together tells that several loads can be in one transaction, AtOnce that a definition
	// is committed at once.
	Together, AtOnce bool
	// MakesSchemas tells that a load can make the schema of its table, in its transaction.
	MakesSchemas bool
	// Splits tells that a table is files, which can be split after so many rows.
	Splits bool
	// Lanes tells that rows of a new table can go in over several connections.
	Lanes bool
	// EmptyIsNull tells that the database makes a null of an empty text.
	EmptyIsNull bool
	// SlowPath tells that a load by inserts can be asked for.
	SlowPath bool
	// Open connects. It is nil where Lacks says so.
	Open func(ctx context.Context, at Address) (Session, error)
	// Script is how its scripts are written.
	Script Manner
	// Lacks says what the program does not do with it, in words for its user.
	// Whoever adds a database says here what is missing.
	Lacks []string
}

// An Address is where a database is, as a URL and the options beside it say.
type Address struct {
	// Raw is the URL as it was given. It may hold a password.
	Raw string
	// Where is the URL as messages show it.
	Where string
	// Path is the file, where the URL names one.
	Path string
	// URL is Raw taken apart, where it names a server; Name is the database on it.
	URL  *url.URL
	Name string
	// Given is a password that counts before any other, or nil.
	Given *string
	// Password finds one where the URL has none. It may be nil.
	Password func() (string, error)
	// CreateDatabase creates the database on its server if it is not there.
	CreateDatabase bool
	// Existing refuses to create a file that is not there.
	Existing bool
	// ReadOnly makes the database refuse whatever would change it.
	ReadOnly bool
	// LockWait bounds the waiting for locks of others; 0: the database's own bound.
	LockWait time.Duration
	// Timeout bounds the connecting, unless the URL says otherwise.
	Timeout time.Duration
}

// Login is the user and the password of an address.
func (a *Address) Login() (user, password string, err error) {
	has := false
	if u := a.URL.User; u != nil {
		user = u.Username()
		password, has = u.Password()
	}
	if a.Given != nil {
		return user, *a.Given, nil
	}
	if !has && a.Password != nil {
		password, err = a.Password()
	}
	return user, password, err
}

// A BadURL is a database URL that is written wrongly.
type BadURL struct {
	What string
	// Do names URLs that are written well.
	Do string
}

func (e *BadURL) Error() string { return e.What + "\n  " + e.Do }

// A Name is a table's, with the schema if it has one.
type Name struct{ Schema, Table string }
