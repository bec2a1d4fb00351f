package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"ambertray/internal/db"
	"ambertray/internal/db/connect"
	"ambertray/internal/load"
)

// databaseFlags are the options about connecting.
type databaseFlags struct {
	passwordFile   string
	createDatabase bool
}

func (f *databaseFlags) addDatabase(cmd *cobra.Command) {
	f.addPassword(cmd)
	cmd.Flags().BoolVar(&f.createDatabase, "create-database", false, "create the database if it is not there")
}

func (f *databaseFlags) addPassword(cmd *cobra.Command) {
	cmd.Flags().StringVar(&f.passwordFile, "password-file", "", "file with the database password (else the URL, PGPASSWORD, ~/.pgpass, AMBERTRAY_PASSWORD, or a prompt)")
}

// connect opens a database; a SQLite file is created if need be.
func (a *app) connect(ctx context.Context, url string, f *databaseFlags) (db.Session, error) {
	return a.connectTo(ctx, url, f, false)
}

// existing opens a database that is there.
func (a *app) existing(ctx context.Context, url string, f *databaseFlags) (db.Session, error) {
	return a.connectTo(ctx, url, f, true)
}

func (a *app) connectTo(ctx context.Context, url string, f *databaseFlags, existing bool) (db.Session, error) {
	var ask func() (string, error)
	if in, ok := a.in.(*os.File); ok && isTerminal(in) && isTerminal(a.err) {
		ask = func() (string, error) {
			fmt.Fprintf(a.err, "Password for %s: ", connect.Redact(url))
			b, err := term.ReadPassword(int(in.Fd()))
			fmt.Fprintln(a.err)
			return string(b), err
		}
	}
	conn, err := connect.Open(ctx, url, connect.Options{Password: connect.Password(f.passwordFile, ask), CreateDatabase: f.createDatabase, Existing: existing})
	var bad *db.BadURL
	if errors.As(err, &bad) {
		return nil, asked("%w", err)
	}
	return conn, err
}

// confirm asks on a terminal. Where there is none, the answer is no.
func (a *app) confirm(what string) error {
	in, ok := a.in.(*os.File)
	if !ok || !isTerminal(in) || !isTerminal(a.err) {
		return asked("%s\n  say --yes if that is meant; nothing was changed", what)
	}
	fmt.Fprintf(a.err, "%s.\nType yes to go on: ", what)
	line, _ := bufio.NewReader(in).ReadString('\n')
	if strings.TrimSpace(strings.ToLower(line)) != "yes" {
		return asked("not confirmed; nothing was changed")
	}
	return nil
}

// printMapping shows each pairing of file and table.
func (a *app) printMapping(in *input, t *db.Table, state string, m *load.Mapping, dryRun bool) error {
	if a.json {
		return printJSON(a.out, map[string]any{"dry_run": dryRun, "table": t.Name, "schema": t.Schema, "blocked": m.Blocked(), "mapping": m.Pairings})
	}
	st := a.style(a.out)
	fmt.Fprintf(a.out, "%s  into %s, %s\n\n", st.head(in.source.Name), db.Qualified(t.Schema, t.Name), state)
	g := newGrid(st, "in the file", "needs", "in the table", "type", "", "")
	wide := 0
	for _, p := range m.Pairings {
		wide = max(wide, min(width(p.From), 26)+min(width(p.Column), 26)+width(p.FileType)+min(width(p.TableType), 30))
	}
	for _, p := range m.Pairings {
		weight := a.weight(st, p.Weight)
		g.row(shorten(p.From, 26), p.FileType, shorten(p.Column, 26), shorten(p.TableType, 30), weight, shorten(p.Text, max(st.width-wide-26, 30)))
	}
	g.render(a.out)
	if dryRun {
		fmt.Fprintf(a.out, "\n%s; the table was not touched\n", st.head("Dry run"))
	} else {
		fmt.Fprintln(a.out)
	}
	return nil
}

// weight shows how much a difference matters.
func (a *app) weight(st style, w load.Weight) string {
	switch w {
	case load.Caution:
		return st.warn(string(w))
	case load.Blocking:
		return st.bad(string(w))
	}
	return st.good(string(w))
}
