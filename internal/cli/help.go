package cli

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"ambertray/internal/phrase"
)

// A group is what options of a command have in common, in the order of help.
type group string

const (
	ofSource   group = "Source"
	ofColumns  group = "Columns"
	ofTable    group = "Table"
	ofDatabase group = "Database"
	ofLoad     group = "Load"
	ofSafety   group = "Safety"
	ofOutput   group = "Output"
)

var groups = []group{ofSource, ofColumns, ofTable, ofDatabase, ofLoad, ofSafety, ofOutput}

// optionGroups tells of each option where help has it. Those under first are what most people
// need; a command with many options shows the rest behind --help all.
var optionGroups = map[group]struct{ first, rest string }{
	ofSource: {"sheet encoding delimiter header-row",
		"blank-records columns comment escape footer marked-formulas max-record " +
			"max-unpacked member quote range records same short-records skip tables timeout totals visible"},
	ofColumns: {"type dates null-word rename leave-out",
		"assume-zone decimal keep-empty names nullable only provenance require tolerate " +
			"row-number by-position keep-identity"},
	ofTable: {"table key", "like schema strict-types keep-attached ledger widen"},
	ofDatabase: {"into", "create-database create-schema file-rows lanes lock-wait password-file slow-path for " +
		"from-file copy-block query no-header plan try"},
	ofLoad: {"mode max-rejects", "accept-changes max-deletes new-columns " +
		"again before commit-every join missing only-new same-key keep-old " +
		"sweep older " +
		"because waive rejects files-only"},
	ofSafety: {"dry-run yes ask", "prove strict deep check public-key sign-key"},
	ofOutput: {"tray output json",
		"all for-spreadsheet format limit no-pictures rows no-color quiet log-level log-format version help"},
}

// groupOf finds the group of an option, and whether it is one of the first.
func groupOf(name string) (g group, first bool) {
	for _, g := range groups {
		if slices.Contains(strings.Fields(optionGroups[g].first), name) {
			return g, true
		}
		if slices.Contains(strings.Fields(optionGroups[g].rest), name) {
			return g, false
		}
	}
	return ofOutput, false
}

// manyOptions is how many a command may have before help shows the first alone.
const manyOptions = 20

// help prints the help of a command: of one with many options, those that most need, unless
// all are wanted.
func (a *app) help(cmd *cobra.Command, args []string) {
	all := false
	for i, arg := range args {
		all = all || arg == "all" && i > 0 && (args[i-1] == "--help" || args[i-1] == "-h") || arg == "--help=all"
	}
	w := a.out
	st := a.style(w)
	text := cmd.Long
	if text == "" {
		text = cmd.Short
	}
	fmt.Fprintf(w, "%s\n\n%s\n  %s\n", strings.TrimSpace(text), st.title("Usage"), useLine(cmd))
	if cmd.Example != "" {
		fmt.Fprintf(w, "\n%s\n%s\n", st.title("Examples"), cmd.Example)
	}
	if subs := visibleCommands(cmd); len(subs) > 0 {
		fmt.Fprintf(w, "\n%s\n", st.title("Commands"))
		for _, c := range subs {
			entryOf(w, st, c.Name(), 12, c.Short)
		}
	}
	a.options(w, st, cmd, all)
	if cmd.HasSubCommands() {
		fmt.Fprintf(w, "\n'ambertray COMMAND --help' tells more of a command.\n")
	}
}

func visibleCommands(cmd *cobra.Command) (out []*cobra.Command) {
	for _, c := range cmd.Commands() {
		if c.IsAvailableCommand() || c.Name() == "help" {
			out = append(out, c)
		}
	}
	return out
}

func useLine(cmd *cobra.Command) string {
	s := cmd.UseLine()
	return strings.TrimSuffix(s, " [flags]") + " [OPTIONS]"
}

// options prints those of a command, by group.
func (a *app) options(w io.Writer, st style, cmd *cobra.Command, all bool) {
	var list []*pflag.Flag
	cmd.LocalFlags().VisitAll(func(f *pflag.Flag) { list = append(list, f) })
	inherited := cmd.InheritedFlags()
	many := 0
	for _, f := range list {
		if !f.Hidden {
			many++
		}
	}
	all = all || many <= manyOptions
	left := 0
	for _, g := range groups {
		begun := false
		for _, f := range list {
			in, first := groupOf(f.Name)
			if in != g || f.Hidden {
				continue
			}
			if !all && !first {
				left++
				continue
			}
			if !begun {
				fmt.Fprintf(w, "\n%s\n", st.title(string(g)))
				begun = true
			}
			option(w, st, f)
		}
	}
	if inherited.HasFlags() && (all || many == 0) {
		fmt.Fprintf(w, "\n%s\n", st.title("Everywhere"))
		inherited.VisitAll(func(f *pflag.Flag) { option(w, st, f) })
	}
	if left > 0 {
		fmt.Fprintf(w, "\n%s: ambertray %s --help all\n", plural(int64(left), "more option"), cmd.Name())
	}
}

// option prints one, with its default where that is no zero.
func option(w io.Writer, st style, f *pflag.Flag) {
	kind, usage := pflag.UnquoteUsage(f)
	name := "--" + f.Name
	if f.Shorthand != "" {
		name = "-" + f.Shorthand + ", " + name
	}
	switch {
	case f.Value.Type() == "bool":
	case kind == "string" || kind == "strings" || kind == "stringArray":
		name += " " + strings.ToUpper(placeholder(f.Name))
	case kind == "int":
		name += " N"
	default:
		name += " " + kind
	}
	zero := f.DefValue == "" || f.DefValue == "false" || f.DefValue == "0" || f.DefValue == "[]" || f.DefValue == "-1"
	if !zero && !strings.Contains(usage, "(default") {
		usage += " (default " + f.DefValue + ")"
	}
	entryOf(w, st, name, 24, usage)
}

// placeholders are what stands for the value of an option; else its last word does.
var placeholders = map[string]string{"into": "URL", "for": "DATABASE", "output": "FILE", "type": "COLUMN=TYPE",
	"rename": "OLD=NEW", "same": "HEADER=OTHER", "key": "A,B", "max-rejects": "NUMBER|SHARE",
	"max-deletes": "NUMBER|SHARE", "new-columns": "stop|leave", "tolerate": "SHARE",
	"null-word": "WORD", "query": "SELECT", "because": "REASON", "waive": "NUMBERS", "leave-out": "A,B", "only": "A,B",
	"nullable": "A,B", "require": "A,B", "dates": "ORDER", "decimal": "MARK", "delimiter": "CHARACTER",
	"quote":  "CHARACTER",
	"escape": "CHARACTER", "comment": "MARK", "tray": "FOLDER", "plan": "FILE", "rejects": "FILE",
	"password-file": "FILE",
	"sign-key":      "FILE", "public-key": "FILE", "columns": "A,B", "log-level": "LEVEL", "row-number": "NAME"}

func placeholder(name string) string {
	if p, is := placeholders[name]; is {
		return p
	}
	return name[strings.LastIndexByte(name, '-')+1:]
}

// entryOf prints a name, and beside it what it means, folded.
func entryOf(w io.Writer, st style, name string, wide int, text string) {
	lines := fold(text, max(30, min(st.width, 100)-wide-4))
	pad := wide - utf8.RuneCountInString(name)
	if pad < 0 {
		fmt.Fprintf(w, "  %s\n", name)
		name, pad = "", wide
	}
	for i, l := range lines {
		if i > 0 {
			name, pad = "", wide
		}
		fmt.Fprintf(w, "  %s%s  %s\n", name, strings.Repeat(" ", pad), l)
	}
}

// optionError says what is wrong with an option, and which may have been meant.
func optionError(cmd *cobra.Command, err error) error {
	name, is := strings.CutPrefix(err.Error(), "unknown flag: --")
	if !is {
		return needed("%w\n  see '%s --help'", err, cmd.CommandPath())
	}
	name, _, _ = strings.Cut(name, "=")
	var known []string
	cmd.Flags().VisitAll(func(f *pflag.Flag) { known = append(known, "--"+f.Name) })
	hint := phrase.Meant("--"+name, known)
	if hint == "" {
		hint = "see '" + cmd.CommandPath() + " --help all'"
	}
	return needed("%s: there is no option --%s\n  %s", cmd.Name(), name, hint)
}
