package cli

import (
	"context"
	"log/slog"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ambertray/internal/config"
	"ambertray/internal/db"
	"ambertray/internal/db/connect"
	"ambertray/internal/desk"
	"ambertray/internal/source"
	"ambertray/internal/tray"
)

// ofEntries are the commands whose first word is an entry of the tray, and ofTables those whose
// first is a database and the second a table of it.
var (
	ofEntries = []string{"resume", "undo", "refit", "rejects", "mend", "verify", "report"}
	ofTables  = []string{"peek", "export"}
)

// complete tells a shell what may stand where.
func (a *app) complete(root *cobra.Command) {
	words := func(list ...string) cobra.CompletionFunc {
		return func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return list, cobra.ShellCompDirectiveNoFileComp
		}
	}
	var names []string
	for _, d := range connect.All {
		names = append(names, d.Name)
	}
	for _, cmd := range root.Commands() {
		for flag, complete := range map[string]cobra.CompletionFunc{
			"for":  words(names...),
			"into": databases,
			"mode": words(string(db.Create), string(db.Append), string(db.Refill), string(db.Replace),
				string(db.Merge)),
			"names":     words("safe", "keep"),
			"tables":    words(desk.OneTable, desk.TableEach),
			"missing":   words("keep", "delete"),
			"dates":     words("day-first", "month-first", "year-first"),
			"decimal":   words("point", "comma"),
			"delimiter": words("comma", "tab", "pipe", "semicolon", "space", "blanks", "none"),
			"quote":     words("double", "single", "none"),
			"encoding": words("utf-8", "utf-16le", "utf-16be", "windows-1252", "windows-1250", "windows-1251",
				"iso-8859-1", "iso-8859-15"),
			"sheet": sheets,
		} {
			if cmd.Flags().Lookup(flag) != nil {
				_ = cmd.RegisterFlagCompletionFunc(flag, complete) // it fails for options that are not there
			}
		}
		switch {
		case slices.Contains(ofEntries, cmd.Name()):
			cmd.ValidArgsFunction = entriesOf
		case slices.Contains(ofTables, cmd.Name()):
			cmd.ValidArgsFunction = a.tablesOf
		}
	}
}

// databases are the connections with a name, and how URLs begin.
func databases(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	var out []string
	if known, err := config.Load(); err == nil {
		for _, n := range known.Names() {
			out = append(out, n+"\t"+connect.Redact(known.Connections[n].URL))
		}
	}
	for _, d := range connect.All {
		if len(d.Schemes) > 0 {
			out = append(out, d.Schemes[0]+":\tlike "+d.Example)
		}
	}
	return out, cobra.ShellCompDirectiveNoFileComp | cobra.ShellCompDirectiveNoSpace
}

// entriesOf are those of the tray, the newest first.
func entriesOf(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	if len(args) > 0 {
		return nil, cobra.ShellCompDirectiveDefault
	}
	given := ""
	if f := cmd.Flags().Lookup("tray"); f != nil {
		given = f.Value.String()
	}
	list, err := tray.List(trayDir(given))
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	slices.SortFunc(list, func(a, b tray.Summary) int { return b.Started.Compare(a.Started) })
	out := []string{"latest\tthe newest", "waiting\tthe newest whose rejects wait"}
	for _, s := range list {
		out = append(out, s.Entry.Name+"\t"+string(s.State))
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

// tablesOf are the tables of the database that is named before.
func (a *app) tablesOf(cmd *cobra.Command, args []string, word string) ([]string, cobra.ShellCompDirective) {
	if len(args) == 0 {
		return databases(cmd, args, word)
	}
	if len(args) > 1 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	known, err := config.Load()
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	// Nobody can be asked for a password while a line is typed.
	d := &desk.Desk{Version: a.version, Log: slog.New(slog.DiscardHandler)}
	f := databaseFlags{known: known}
	answer, err := d.Peek(context.Background(), f.at(args[0]), "", 0)
	if err != nil || answer.Tables == nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var out []string
	for _, t := range answer.Tables.Tables {
		out = append(out, db.Qualified(t.Schema, t.Name))
	}
	return out, cobra.ShellCompDirectiveNoFileComp
}

// sheets are those of the workbook that is named before.
func sheets(_ *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	if len(args) == 0 || strings.HasSuffix(args[0], ".csv") {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	list, err := source.Sheets(context.Background(), args[0], "all", source.Known{})
	if err != nil {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	return append([]string{"all"}, list...), cobra.ShellCompDirectiveNoFileComp
}
