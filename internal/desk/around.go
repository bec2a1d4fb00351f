package desk

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/phrase"
	"ambertray/internal/profile"
)

// survey looks what hangs on a table that is to be emptied or dropped, and stops
// where that would be lost or broken.
func (l *loading) survey(ctx context.Context) error {
	mode := l.req.Mode
	if l.found == nil || mode != db.Refill && mode != db.Replace {
		return nil
	}
	if l.found.View {
		return need("%s is a view, not a table\n  name the table behind it; nothing was changed", l.where())
	}
	s, is := l.conn.(db.Surveyor)
	if !is {
		return nil
	}
	around, err := s.Around(ctx, l.found)
	if err != nil {
		return err
	}
	l.around = *around
	if mode == db.Refill {
		return l.refilled()
	}
	if n := len(around.Referrers); n > 0 {
		keys, them := "foreign keys of other tables refer to it", "keys"
		if n == 1 {
			keys, them = "foreign key of another table refers to it", "key"
		}
		return need("%s: %s %s: %s\n  a table that others refer to cannot be replaced; use --mode refill, "+
			"which keeps it, or drop the %s first. Nothing was changed", l.where(), phrase.Grouped(int64(n)), keys,
			references(around.Referrers), them)
	}
	if len(around.Holds) > 0 {
		return need("%s: other objects hang on it: %s\n  use --mode refill, which keeps the table, or drop them "+
			"first. Nothing was changed", l.where(), strings.Join(around.Holds, "; "))
	}
	if len(around.Goes) == 0 {
		return nil
	}
	f := profile.Finding{Weight: profile.Caution, Code: profile.CodeGoesWithTable, Count: int64(len(around.Goes)),
		Text: "with the table that is replaced go: " + strings.Join(around.Goes, "; ")}
	switch n := len(around.Again); {
	case l.req.KeepAttached:
		f.Text += "; made again after the rows are in: " + phrase.Count(int64(n), "statement")
	case n > 0:
		f.Do = "--keep-attached makes again what can be"
	}
	l.hung = append(l.hung, f)
	return nil
}

func references(list []db.Reference) string {
	var out []string
	for _, r := range list {
		out = append(out, r.String())
	}
	return strings.Join(out, "; ")
}

// refilled sees that a table that others refer to can be refilled: all of them by
// the same columns, so that its rows can be known by these.
func (l *loading) refilled() error {
	refs := l.around.Referrers
	if len(refs) == 0 {
		return nil
	}
	for _, r := range refs {
		if !slices.Equal(slices.Sorted(slices.Values(r.To)), slices.Sorted(slices.Values(refs[0].To))) {
			return need("%s: other tables refer to it by different columns: %s\n  such a table cannot be refilled; "+
				"append to it, or change it by SQL. Nothing was changed", l.where(), references(refs))
		}
	}
	l.hung = append(l.hung, profile.Finding{Weight: profile.Caution, Code: profile.CodeReferredTo,
		Count: int64(len(refs)), Text: fmt.Sprintf("other tables refer to the one that is refilled: %s; no rule of "+
			"theirs acts, and the load ends if a key that they refer to is not in the file", references(refs))})
	return nil
}

// refersToLoaded makes sure that the columns that others refer to are loaded.
func (l *loading) refersToLoaded() error {
	for _, r := range l.job.Spec.Referrers {
		for _, c := range r.To {
			if !slices.ContainsFunc(l.job.Spec.Table.Columns, func(x dialect.Column) bool { return x.Name == c }) {
				return need("%s: %s refers to its column %s, which the file does not have\n  the rows could not be "+
					"known again; nothing was changed", l.where(), r, c)
			}
		}
	}
	return nil
}
