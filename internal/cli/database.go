package cli

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ambertray/internal/config"
	"ambertray/internal/db"
	"ambertray/internal/db/connect"
	"ambertray/internal/desk"
	"ambertray/internal/match"
	"ambertray/internal/phrase"
)

// databaseFlags are the options about connecting.
type databaseFlags struct {
	passwordFile   string
	createDatabase bool
	lockWait       int // seconds
	known          *config.Config
}

func (f *databaseFlags) addDatabase(cmd *cobra.Command) {
	f.addPassword(cmd)
	f.addLockWait(cmd)
	cmd.Flags().BoolVar(&f.createDatabase, "create-database", false, "create the database if it is not there")
}

func (f *databaseFlags) addLockWait(cmd *cobra.Command) {
	cmd.Flags().IntVar(&f.lockWait, "lock-wait", int(db.LockWait/time.Second),
		"seconds to wait for other sessions that hold the table")
}

func (f *databaseFlags) addPassword(cmd *cobra.Command) {
	before := cmd.PreRunE
	cmd.PreRunE = func(cmd *cobra.Command, args []string) error {
		if root, is := cmd.Context().Value(configKey{}).(*config.Config); is {
			f.known = root
		}
		if before != nil {
			return before(cmd, args)
		}
		return nil
	}
	cmd.Flags().StringVar(&f.passwordFile, "password-file", "",
		"file with the database password (else the URL, PGPASSWORD, ~/.pgpass, AMBERTRAY_PASSWORD, a prompt)")
}

// at is the database of a URL, or of a connection by its name.
func (f *databaseFlags) at(url string) desk.DatabaseRequest {
	r := desk.DatabaseRequest{URL: url, PasswordFile: f.passwordFile, Create: f.createDatabase,
		LockWait: time.Duration(f.lockWait) * time.Second}
	if f.known == nil {
		return r
	}
	if x := f.known.Connections[url]; x != nil {
		r.URL = x.URL
	} else if url != "" && !strings.Contains(url, ":") {
		r.NotKnown = phrase.Meant(url, f.known.Names())
	}
	r.Connections = f.known
	return r
}

// names reports whether a word is a database URL, or the name of a connection.
func (f *databaseFlags) names(word string) bool {
	return connect.Of(word) != nil || f.known != nil && f.known.Connections[word] != nil
}

// person reports whether somebody can be asked.
func (a *app) person() (*os.File, bool) {
	in, ok := a.in.(*os.File)
	return in, ok && isTerminal(in) && isTerminal(a.err)
}

// newDesk is a desk that this terminal stands in front of.
func (a *app) newDesk(log *slog.Logger) *desk.Desk {
	d := &desk.Desk{Version: a.version, Stdin: a.in, Log: log, Meter: a.newMeter, Tell: a.told}
	if in, ok := a.person(); ok {
		d.Password = func(ctx context.Context, url string) (string, error) { return a.password(ctx, in, url) }
		d.Ask = func(ctx context.Context, q desk.Question) (string, error) { return a.ask(ctx, in, q) }
	}
	return d
}

// told shows what happens before the answer.
func (a *app) told(e desk.Event) {
	if a.oneLine {
		return // it is in the log of the entry
	}
	switch e := e.(type) {
	case desk.NoteEvent:
		fmt.Fprintln(a.err, e.Text)
	case desk.FoundEvent:
		a.printFound(e)
	case desk.GoingOnEvent:
		if !a.json {
			fmt.Fprintf(a.err, "%s: going on behind %s, %s of them in the table\n", e.Entry,
				plural(e.Done.Read, "record"), grouped(e.Done.Loaded))
		}
	case desk.MappedEvent:
		if !a.json {
			a.printMapping(e.MappingAnswer)
		}
	case desk.ComparedEvent:
		if !a.json {
			a.printChanges(e.ChangesAnswer)
		}
	default:
		panic(fmt.Sprintf("nothing is said of %T", e))
	}
}

// printMapping shows each pairing of file and table.
func (a *app) printMapping(m *desk.MappingAnswer) {
	st := a.style(a.out)
	fmt.Fprintf(a.out, "%s  into %s, %s\n\n", st.head(m.Source), db.Qualified(m.Schema, m.Table), m.State)
	g := newGrid(st, "in the file", "needs", "in the table", "type", "", "")
	var widest [4]int
	for _, p := range m.Mapping {
		for i, n := range []int{min(width(p.From), 26), min(width(p.Column), 26), width(p.FileType),
			min(width(p.TableType), 30)} {
			widest[i] = max(widest[i], n)
		}
	}
	wide := widest[0] + widest[1] + widest[2] + widest[3]
	for _, p := range m.Mapping {
		weight := a.weight(st, p.Weight)
		g.row(shorten(p.From, 26), p.FileType, shorten(p.Column, 26), shorten(p.TableType, 30), weight,
			shorten(p.Text, max(st.width-wide-26, 30)))
	}
	g.render(a.out)
	if m.DryRun {
		fmt.Fprintf(a.out, "\n%s; the table was not touched\n", st.head("Dry run"))
	} else {
		fmt.Fprintln(a.out)
	}
}

// weight shows how much a difference matters.
func (a *app) weight(st style, w match.Weight) string {
	switch w {
	case match.Caution:
		return st.warn(string(w))
	case match.Blocking:
		return st.bad(string(w))
	case match.Fine:
	}
	return st.good(string(w))
}
