package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"ambertray/internal/config"
	"ambertray/internal/desk"
	"ambertray/internal/phrase"
)

// configKey is under which the context of a command has the configuration.
type configKey struct{}

// withDefaults are the options that a file may settle: none that says what a file of data is,
// or that answers a question.
var withDefaults = []string{"into", "tray", "mode", "max-rejects", "lock-wait", "log-level", "log-format", "quiet",
	"no-color", "strict", "prove", "ledger", "keep-old", "timeout", "max-record", "max-unpacked", "password-file",
	"file-rows", "older", "json"}

// defaults gives options that were not given what a file says, and what a connection says.
func defaults(cmd *cobra.Command, known *config.Config) error {
	set := func(name, value, from string) error {
		f := cmd.Flags().Lookup(name)
		if f == nil || f.Changed {
			return nil
		}
		if err := cmd.Flags().Set(name, value); err != nil {
			return needed("%s: the option %s cannot be %q: %w", from, name, value, err)
		}
		return nil
	}
	files := strings.Join(known.Files, ", ")
	for name, value := range known.Options {
		if !slices.Contains(withDefaults, name) {
			hint := "those that can be are " + strings.Join(withDefaults, ", ")
			if m := phrase.Meant(name, withDefaults); m != "" {
				hint = m
			}
			return needed("%s: the option %q cannot be settled there\n  %s", files, name, hint)
		}
		if err := set(name, value, files); err != nil {
			return err
		}
	}
	// What a connection says goes with the connection.
	into := cmd.Flags().Lookup("into")
	if into == nil {
		return nil
	}
	x := known.Connections[into.Value.String()]
	if x == nil {
		return nil
	}
	for _, d := range []struct{ name, value string }{{"schema", x.Schema}, {"mode", x.Mode}, {"tray", x.Tray}} {
		if f := cmd.Flags().Lookup(d.name); d.value != "" && f != nil && !(d.name == "schema" && dotted(cmd.Flags())) {
			if err := set(d.name, d.value, x.From); err != nil {
				return err
			}
		}
	}
	return nil
}

// dotted reports whether the name of the table has a schema.
func dotted(f *pflag.FlagSet) bool {
	t := f.Lookup("table")
	return t != nil && strings.Contains(t.Value.String(), ".")
}

func (a *app) connectionsCommand() *cobra.Command {
	var f databaseFlags
	try := false
	cmd := &cobra.Command{
		Use:   "connections [NAME…]",
		Short: "List the databases that have a name, and try them",
		Long: `Lists the connections of ambertray.yaml: the file of your own (in the folder of your
configuration, or where AMBERTRAY_CONFIG says), and the one of the folder you are in.
Wherever a database URL stands, the name of a connection may stand.

--try connects to each, changes nothing, and says what the database is and what you
may do there.`,
		Example: `  ambertray connections
  ambertray connections --try
  ambertray connections harbour --try
  ambertray load lock-passages.csv --into harbour`,
		RunE: func(cmd *cobra.Command, args []string) error {
			known, _ := cmd.Context().Value(configKey{}).(*config.Config)
			return a.connections(cmd.Context(), known, args, try, &f)
		},
	}
	f.addPassword(cmd)
	cmd.Flags().BoolVar(&try, "try", false, "connect to each, and say what the database is")
	return cmd
}

func (a *app) connections(ctx context.Context, known *config.Config, names []string, try bool, f *databaseFlags) error {
	if len(names) == 0 {
		names = known.Names()
	}
	answer, err := a.desk.Connections(ctx, desk.ConnectionsRequest{Known: known, Names: names, Try: try,
		At: func(name string) desk.DatabaseRequest { return f.at(name) }})
	if err != nil {
		return err
	}
	if a.json {
		if err := a.printJSON(answer); err != nil {
			return err
		}
		return ends(answer.Outcome())
	}
	st := a.style(a.out)
	if len(answer.Connections) == 0 {
		fmt.Fprintf(a.out, "No connection has a name yet. docs/config.md says how to give it one.\n")
		return nil
	}
	g := newGrid(st, "name", "database", "", "")
	for _, c := range answer.Connections {
		state, says := "", c.File
		switch {
		case c.Error != "":
			first, _, _ := strings.Cut(c.Error, "\n")
			state, says = st.bad("no"), first
		case try:
			state, says = st.good("yes"), strings.Join(c.Facts, "; ")
		}
		for i, l := range fold(says, max(30, st.width-len(c.Name)-len(c.URL)-16)) {
			if i == 0 {
				g.row(c.Name, c.URL, state, l)
			} else {
				g.row("", "", "", l)
			}
		}
	}
	g.render(a.out)
	return ends(answer.Outcome())
}
