package sqlserver

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	driver "github.com/microsoft/go-mssqldb"

	"ambertray/internal/db"
	"ambertray/internal/sink"
)

// A stage is a table of another session, into which rows go first where one may end the
// transaction and all that is in it: an error in a trigger does. When all rows
// are on the stage, they go into the table from there. A row that ends the transaction is
// found by attempts that are rolled back; then all others go in, in a new transaction.
type stage struct {
	d     *DB    // the other session
	table string // quoted
	cols  string // of the table, quoted, with commas between
	rows  int64
	gone  map[int64]*driver.Error // rows that are left out, and why
}

// rowColumn numbers the rows of a stage.
const rowColumn = "ambertray_row"

// mostEnders is how many rows that end the transaction are looked for.
const mostEnders = 1000

// doomed reports whether a row may end the transaction: by a trigger, or by a conversion in
// a check or a computed column, which fails as such.
func (l *load) doomed(ctx context.Context) (bool, error) {
	if l.spec.Mode.New() || l.spec.Steps != "" || l.spec.Once || l.spec.Stage != nil || l.d.together != nil {
		return false, nil // none, or each row has to be refused as it comes
	}
	rows, err := l.d.questions().Rows(ctx, "cannot be read", `SELECT t.name FROM sys.triggers t JOIN sys.trigger_events e
		ON e.object_id = t.object_id WHERE t.parent_id = OBJECT_ID(@p1) AND t.is_disabled = 0 AND e.type_desc = 'INSERT'
		UNION ALL SELECT k.name FROM sys.check_constraints k WHERE k.parent_object_id = OBJECT_ID(@p1) AND k.is_disabled = 0
			AND (k.definition LIKE '%CONVERT(%' OR k.definition LIKE '%CAST(%')
		UNION ALL SELECT c.name FROM sys.computed_columns c WHERE c.object_id = OBJECT_ID(@p1) AND c.is_persisted = 1
			AND (c.definition LIKE '%CONVERT(%' OR c.definition LIKE '%CAST(%')`,
		l.d.name(l.spec.Table.Schema, l.spec.Table.Name))
	return len(rows) > 0, err
}

// newStage makes one for the columns of the load.
func (l *load) newStage(ctx context.Context, names []string) (*stage, error) {
	o, err := l.d.again(ctx)
	if err != nil {
		return nil, err
	}
	var r [8]byte
	rand.Read(r[:])
	s := &stage{d: o, table: quote("##ambertray_" + hex.EncodeToString(r[:])), cols: strings.Join(names, ", "),
		gone: map[int64]*driver.Error{}}
	defs := []string{rowColumn + " bigint NOT NULL PRIMARY KEY"}
	for i, c := range l.spec.Table.Columns {
		k := columnOf(l.columns, c.Name)
		def := names[i] + " " + l.columns[k].Type
		if l.columns[k].collation != "" {
			def += " COLLATE " + l.columns[k].collation
		}
		defs = append(defs, def+" NULL")
	}
	if err := o.do(ctx, "cannot make a table of the session's", fmt.Sprintf("CREATE TABLE %s (%s)", s.table,
		strings.Join(defs, ", "))); err != nil {
		o.Close()
		return nil, err
	}
	return s, nil
}

// drop ends the stage; with its session, its table goes.
func (s *stage) drop() {
	if s != nil {
		s.d.Close()
	}
}

// write puts rows on the stage.
func (s *stage) write(ctx context.Context, l *load, data []byte, n int) error {
	if n == 0 {
		return nil
	}
	m, err := s.d.sendRows(ctx, &bulk{l.insertBulk, l.description, s.rows, true}, data)
	if m != nil {
		err = *m
	}
	if err != nil {
		return s.d.fail("cannot take the rows", err)
	}
	s.rows += int64(n)
	return nil
}

// Finish implements db.Finisher: the rows of the stage go into the table.
func (l *load) Finish(ctx context.Context) ([]sink.Refusal, error) {
	if l.lanes != nil {
		return l.finishLanes(ctx)
	}
	s := l.stage
	if s == nil {
		return nil, nil
	}
	for {
		ended, err := l.unload(ctx)
		if err != nil {
			return nil, err
		}
		if ended == nil {
			break
		}
		if err := l.findEnders(ctx, ended); err != nil {
			return nil, err
		}
		if err := l.again(ctx); err != nil {
			return nil, err
		}
	}
	var out []sink.Refusal
	for n, m := range s.gone {
		out = append(out, refusal(int(n), m))
	}
	slices.SortFunc(out, func(a, b sink.Refusal) int { return a.Row - b.Row })
	return out, nil
}

// A span is rows of a stage, from lo to before hi.
type span struct{ lo, hi int64 }

// unload moves all rows that are not left out into the table. It returns the rows among
// which the transaction ended, or nil.
func (l *load) unload(ctx context.Context) (*span, error) {
	if err := l.numbersOn(ctx); err != nil {
		return nil, err
	}
	const piece = 20_000
	todo := []span{}
	for lo := int64(0); lo < l.stage.rows; lo += piece {
		todo = append(todo, span{lo, min(lo+piece, l.stage.rows)})
	}
	slices.Reverse(todo)
	for len(todo) > 0 {
		x := todo[len(todo)-1]
		todo = todo[:len(todo)-1]
		if err := l.d.do(ctx, "cannot go on", "SAVE TRANSACTION segment"); err != nil {
			return nil, err
		}
		m, err := l.move(ctx, x)
		if err != nil {
			return nil, err
		}
		if m == nil {
			continue
		}
		if state, err := l.state(ctx); err != nil {
			return nil, err
		} else if state != 1 {
			return &x, nil
		}
		if err := l.d.do(ctx, "cannot go on", "ROLLBACK TRANSACTION segment"); err != nil {
			return nil, err
		}
		if x.hi-x.lo == 1 {
			l.stage.gone[x.lo] = m
			continue
		}
		mid := (x.lo + x.hi) / 2
		todo = append(todo, span{mid, x.hi}, span{x.lo, mid})
	}
	return nil, nil
}

// move inserts rows of the stage, and returns the server's refusal, if a row is to blame.
func (l *load) move(ctx context.Context, x span) (*driver.Error, error) {
	s := l.stage
	var without []string
	for n := range s.gone {
		if n >= x.lo && n < x.hi {
			without = append(without, fmt.Sprint(n))
		}
	}
	where := fmt.Sprintf("%s >= %d AND %s < %d", rowColumn, x.lo, rowColumn, x.hi)
	if int64(len(without)) == x.hi-x.lo {
		return nil, nil
	}
	if len(without) > 0 {
		slices.Sort(without)
		where += " AND " + rowColumn + " NOT IN (" + strings.Join(without, ", ") + ")"
	}
	_, err := l.d.c.ExecContext(ctx, fmt.Sprintf("INSERT INTO %s (%s) SELECT %s FROM %s WHERE %s ORDER BY %s",
		l.table, s.cols,
		s.cols, s.table, where, rowColumn))
	if err == nil {
		return nil, nil
	}
	m := asServer(err)
	if m == nil || !aboutRows(first(m)) {
		return nil, l.d.fail("cannot take the rows", err)
	}
	return first(m), nil
}

// first is the error that began: what follows says only what became of it.
func first(m *driver.Error) *driver.Error {
	if len(m.All) > 0 {
		return &m.All[0]
	}
	return m
}

func (l *load) state(ctx context.Context) (state int, err error) {
	if err = l.d.c.QueryRowContext(ctx, "SELECT CAST(XACT_STATE() AS int)").Scan(&state); err != nil {
		err = l.d.fail("cannot go on", err)
	}
	return state, err
}

// findEnders finds the rows that end a transaction, from a span on to the last, each half
// in a transaction that is rolled back.
func (l *load) findEnders(ctx context.Context, from *span) error {
	todo := []span{{from.hi, l.stage.rows}, *from}
	for len(todo) > 0 {
		x := todo[len(todo)-1]
		if todo = todo[:len(todo)-1]; x.lo >= x.hi {
			continue
		}
		if err := l.d.do(ctx, "cannot go on", "IF @@TRANCOUNT > 0 ROLLBACK TRANSACTION; BEGIN "+
			"TRANSACTION"); err != nil {
			return err
		}
		if err := l.numbersOn(ctx); err != nil {
			return err
		}
		m, err := l.move(ctx, x)
		if err != nil {
			return err
		}
		if m == nil {
			continue
		}
		state, err := l.state(ctx)
		if err != nil {
			return err
		}
		switch {
		case x.hi-x.lo > 1:
			mid := (x.lo + x.hi) / 2
			todo = append(todo, span{mid, x.hi}, span{x.lo, mid})
		case state != 1:
			if l.stage.gone[x.lo] = m; len(l.stage.gone) > mostEnders {
				e := l.d.fail(fmt.Sprintf("has ended the transaction because of more than %d rows", mostEnders),
					*m).(*db.Error)
				e.Do = "nothing was committed; see to the trigger that refuses them, or to the rows"
				return e
			}
		}
	}
	return nil
}

// again begins the transaction anew, as it was before the first row.
func (l *load) again(ctx context.Context) error {
	if err := l.d.do(ctx, "cannot go on", "IF @@TRANCOUNT > 0 ROLLBACK TRANSACTION"); err != nil {
		return err
	}
	if err := l.begin(ctx); err != nil {
		return err
	}
	if err := l.makeReady(ctx); err != nil {
		return err
	}
	if l.spec.Mode != db.Append || l.before == nil {
		return nil
	}
	_, now, err := l.Tally(ctx)
	if err != nil {
		return err
	}
	for i := range now {
		if len(l.before[i].Changes(&now[i])) > 0 {
			return &db.Error{Where: l.d.where, What: "the table was changed by another session, while a row was " +
				"looked for " +
				"that ends the transaction; nothing was committed", Do: "load again"}
		}
	}
	return nil
}
