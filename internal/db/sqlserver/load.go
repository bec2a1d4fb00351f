package sqlserver

import (
	"context"
	"database/sql"
	"encoding/binary"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	driver "github.com/microsoft/go-mssqldb"

	"ambertray/internal/db"
	"ambertray/internal/sink"
	"ambertray/internal/sqltype"
	"ambertray/internal/tally"
)

type load struct {
	d     *DB
	spec  db.Spec
	table string // quoted
	open  bool   // a transaction is
	saved bool   // the savepoint is where the next rows go
	loose []bool
	// How rows go: what their columns are, the statement before them, and the description
	// in their message.
	fields      []field
	insertBulk  string
	description []byte
	columns     []column      // of the table
	identity    bool          // its values are given
	written     int64         // rows that are in, of the stage of a merge
	stage       *stage        // where rows go first, or nil
	lanes       *lanes        // where they go over several connections, or nil
	mark        string        // of the commit, or empty
	before      []tally.Tally // what the table held
	refused     []sink.Refusal
}

// Begin implements db.Session.
func (d *DB) Begin(ctx context.Context, spec db.Spec) (db.Load, error) {
	t := spec.Table
	l := &load{d: d, spec: spec, table: Dialect.Qualified(t.Schema, t.Name)}
	d.load = l
	if err := l.prepare(ctx); err != nil {
		l.Rollback()
		return nil, err
	}
	return l, nil
}

func (l *load) prepare(ctx context.Context) error {
	if l.spec.Steps != "" && !l.spec.Shared {
		if err := l.d.claim(ctx, l.spec.Steps); err != nil {
			return err
		}
	}
	l.beginMark(ctx)
	if l.inLanes() {
		if err := l.makeSide(ctx); err != nil {
			return err
		}
		return l.settle(ctx)
	}
	if err := l.begin(ctx); err != nil {
		return err
	}
	if err := l.keepRows(ctx); err != nil {
		return err
	}
	if err := l.makeReady(ctx); err != nil {
		return err
	}
	return l.settle(ctx)
}

// begin starts a transaction of the load. Of a table that is added to, the rows that are
// there stay as they are until its end: others may read it. Programs that share a load add to
// it side by side.
func (l *load) begin(ctx context.Context) error {
	t := l.d.together
	if t == nil || !t.open {
		if err := l.d.do(ctx, "cannot begin a transaction", "BEGIN TRANSACTION"); err != nil {
			return err
		}
	}
	if t != nil {
		t.open = true
	}
	l.open, l.saved = true, false
	if !l.spec.Shared && (l.spec.Mode == db.Append || l.spec.Going) {
		return l.d.do(ctx, "cannot hold the table", "DECLARE @held int; SELECT TOP (1) @held = 1 FROM "+l.home()+
			" WITH (TABLOCK, HOLDLOCK)")
	}
	return nil
}

// home is the table that the load is about, quoted: not the stage of a merge.
func (l *load) home() string {
	n := l.spec.Home()
	return Dialect.Qualified(n.Schema, n.Table)
}

// makeReady empties the table, or makes it.
func (l *load) makeReady(ctx context.Context) error {
	steps := slices.Clone(l.spec.Alter)
	switch l.spec.Mode {
	case db.Refill:
		if err := l.steps(ctx, steps); err != nil {
			return err
		}
		return l.empty(ctx)
	case db.Replace:
		var like []string
		if l.spec.Like != nil {
			var err error
			if like, err = l.d.definition(ctx, *l.spec.Like, l.spec.Table); err != nil {
				return err
			}
		}
		steps = append(steps, "DROP TABLE IF EXISTS "+l.table)
		if like != nil {
			return l.steps(ctx, append(steps, like...))
		}
	case db.Append, db.Create, db.Merge:
	}
	if l.spec.Mode.New() && !l.spec.Going {
		if schema := l.spec.Table.Schema; l.spec.MakeSchema && schema != "" {
			there, err := l.d.questions().Number(ctx, "cannot see whether the schema is there",
				"SELECT COUNT(*) FROM sys.schemas WHERE name = @p1", schema)
			if err != nil {
				return err
			}
			if there == 0 { // who may not make schemas may use one that is there
				steps = append(steps, "CREATE SCHEMA "+quote(schema))
			}
		}
		made, err := l.definition(ctx)
		if err != nil {
			return err
		}
		steps = append(steps, made...)
	}
	return l.steps(ctx, steps)
}

func (l *load) steps(ctx context.Context, steps []string) error {
	for _, s := range steps {
		if err := l.d.do(ctx, "refuses: "+firstLine(s), s); err != nil {
			return err
		}
	}
	return nil
}

// definition is the statements that make the table.
func (l *load) definition(ctx context.Context) ([]string, error) {
	if l.spec.Like != nil {
		return l.d.definition(ctx, *l.spec.Like, l.spec.Table)
	}
	return Dialect.Create(l.spec.Table), nil
}

func firstLine(s string) string {
	s, _, _ = strings.Cut(s, "\n")
	return strings.TrimSuffix(s, " (")
}

// settle finds out how the values of each column go to the server.
func (l *load) settle(ctx context.Context) error {
	t := l.spec.Table
	columns, name := l.d.staged, t.Name
	if l.lanes != nil {
		name = l.lanes.side
	}
	if l.spec.Stage == nil {
		found, list, err := l.d.find(ctx, t.Schema, name)
		if err != nil {
			return err
		}
		if found == nil {
			return l.d.fail("does not have the table "+t.Name, nil)
		}
		columns = list
	}
	l.columns = columns
	var names []string
	for _, c := range t.Columns {
		i := columnOf(columns, c.Name)
		if i < 0 {
			return l.d.fail(fmt.Sprintf("does not have the column %s in the table %s", c.Name, t.Name), nil)
		}
		l.fields = append(l.fields, fieldOf(columns[i], c.Type))
		l.loose = append(l.loose, columns[i].SQL.Kind == sqltype.None)
		l.identity = l.identity || columns[i].Identity
		names = append(names, quote(c.Name))
	}
	// What is taken back may bring numbers again that the server has given.
	l.identity = l.identity || l.spec.Deletes && slices.ContainsFunc(columns, func(c column) bool { return c.Identity })
	into := l.table
	if may, err := l.doomed(ctx); err != nil {
		return err
	} else if may {
		if l.stage, err = l.newStage(ctx, names); err != nil {
			return err
		}
		into = l.stage.table
	}
	if l.stage == nil && l.spec.Stage == nil {
		if err := l.numbersOn(ctx); err != nil {
			return err
		}
	}
	l.announce(into)
	return nil
}

// announce makes the statement that comes before rows, and their description.
func (l *load) announce(into string) {
	options := []string{"KEEP_NULLS", "CHECK_CONSTRAINTS", "FIRE_TRIGGERS"}
	numbered := l.stage != nil || l.spec.Stage != nil
	if l.spec.Mode.New() && !l.spec.Shared || numbered {
		options = append(options, "TABLOCK")
	}
	var defs []string
	fields := l.fields
	if numbered {
		fields = append([]field{{name: rowColumn, form: asInteger, size: 8, code: declared{name: "bigint"}}}, fields...)
	}
	l.description = binary.LittleEndian.AppendUint16([]byte{tokenColumns}, uint16(len(fields)))
	for i := range fields {
		f := &fields[i]
		defs = append(defs, Dialect.OpenQuote+strings.ReplaceAll(f.name, "]", "]]")+Dialect.CloseQuote+
			" "+f.definition())
		l.description = f.describe(l.description)
	}
	l.insertBulk = fmt.Sprintf("INSERT BULK %s (%s) WITH (%s)", into, strings.Join(defs, ", "),
		strings.Join(options, ", "))
}

// Encoder implements db.Load.
func (l *load) Encoder() sink.Encoder { return &encoder{fields: l.fields} }

// Write implements db.Load.
func (l *load) Write(ctx context.Context, b sink.Batch) ([]sink.Refusal, error) {
	l.refused = nil
	if l.lanes != nil {
		return l.writeInLanes(ctx, b)
	}
	data, numbers := l.sort(b)
	if l.stage != nil {
		if err := l.stage.write(ctx, l, data, len(numbers)); err != nil {
			return nil, err
		}
		return l.refused, nil
	}
	if err := l.send(ctx, data, numbers); err != nil {
		return nil, err
	}
	slices.SortFunc(l.refused, func(a, b sink.Refusal) int { return a.Row - b.Row })
	return l.refused, nil
}

// sort takes out the rows that the encoder has marked, and returns what is left with the
// numbers of its rows.
func (l *load) sort(b sink.Batch) (data []byte, numbers []int) {
	numbers = make([]int, 0, b.Rows)
	data = b.Data
	marked := false
	for row, i := 0, 0; i < len(b.Data); row++ {
		n := binary.LittleEndian.Uint32(b.Data[i:])
		size := 4 + int(n&^refusedMark)
		if n&refusedMark == 0 {
			numbers = append(numbers, row)
			if marked {
				data = append(data, b.Data[i:i+size]...)
			}
			i += size
			continue
		}
		if !marked {
			marked = true
			data = append(make([]byte, 0, len(b.Data)), b.Data[:i]...)
		}
		f := &l.fields[int(b.Data[i+5])|int(b.Data[i+6])<<8]
		why := f.wrongs(wrong(b.Data[i+4]))
		l.refused = append(l.refused, sink.Refusal{Row: row, Column: f.name, Message: why, Kind: why})
		i += size
	}
	return data, numbers
}

// send sends rows under savepoints; what the server refuses is left out. It begins with all
// of them. Behind a refusal it goes on with as few rows as were good before it, and with
// more again while all goes well, so that rows are hardly sent in vain, whether one in a
// million is refused or all of them.
func (l *load) send(ctx context.Context, data []byte, numbers []int) error {
	for n := len(numbers); len(numbers) > 0; {
		n = min(n, len(numbers))
		head := offset(data, n)
		m, err := l.try(ctx, data[:head], n)
		switch {
		case err != nil:
			return err
		case m == nil:
			data, numbers = data[head:], numbers[n:]
			n = min(4*n, step)
		case n == 1:
			l.refused = append(l.refused, refusal(numbers[0], m))
			data, numbers = data[head:], numbers[1:]
		case n > 2*step:
			n = step // what is refused stands rarely alone
		default:
			n /= 2
		}
	}
	return nil
}

// step is how many rows are sent at once in a batch that has been refused.
const step = 4000

// offset is where row n begins.
func offset(data []byte, n int) (i int) {
	for range n {
		i += 4 + int(binary.LittleEndian.Uint32(data[i:]))
	}
	return i
}

// try sends rows behind a savepoint, and returns the server's refusal, if a row is to blame
// for it; then none of them is in.
func (l *load) try(ctx context.Context, data []byte, rows int) (*driver.Error, error) {
	if !l.saved {
		if err := l.d.do(ctx, "cannot go on", "SAVE TRANSACTION segment"); err != nil {
			return nil, err
		}
	}
	l.saved = false
	m, err := l.d.sendRows(ctx, &bulk{l.insertBulk, l.description, l.written + 1, l.spec.Stage != nil}, data)
	if err != nil {
		return nil, l.d.fail("cannot take the rows", err)
	}
	if m == nil {
		l.written += int64(rows)
		return nil, nil
	}
	if !aboutRows(m) {
		return nil, l.d.fail("cannot take the rows", *m)
	}
	return m, l.goBack(ctx, m)
}

// goBack goes back to before rows that were refused, if the transaction still stands: in
// one exchange with the server, since there may be many of these.
func (l *load) goBack(ctx context.Context, m *driver.Error) error {
	var state int
	err := l.d.c.QueryRowContext(ctx, "IF XACT_STATE() = 1 BEGIN ROLLBACK TRANSACTION segment; SAVE TRANSACTION "+
		"segment END; "+
		"SELECT CAST(XACT_STATE() AS int)").Scan(&state)
	if err == nil && state == 1 {
		l.saved = true
		return nil
	}
	l.open = err == nil && state == -1
	e := explain(l.d.where, "has ended the transaction because of a row", *m).(*db.Error)
	e.Do = "nothing was committed; correct or leave out the row that this is about, and load again"
	return e
}

// aboutRows reports errors that a row is to blame for: keys, checks, nulls, lengths, ranges,
// conversions, and what triggers throw.
func aboutRows(m *driver.Error) bool {
	switch m.Number {
	case 2627, 2601, 547, 515, 2628, 8152, 220, 8115, 241, 242, 245, 248, 8114, 8134, 295, 512, 3609, 6602, 9400,
		9402, 9410,
		9412, 9413, 9414, 9420, 9422, 9436, 9455:
		return true
	}
	return m.Number >= 50000
}

var (
	keyIn    = regexp.MustCompile(`The duplicate key value is \((.*)\)`)
	columnIn = regexp.MustCompile(`column '([^']+)'`)
)

// refusal is the server's, of a row. Its kind leaves out the row's own values.
func refusal(row int, m *driver.Error) sink.Refusal {
	r := sink.Refusal{Row: row, Message: fmt.Sprintf("%s (error %d)", m.Message, m.Number)}
	kind := keyIn.ReplaceAllString(m.Message, "The duplicate key value is (…)")
	if i := strings.Index(kind, "Truncated value:"); i >= 0 {
		kind = strings.TrimSpace(kind[:i])
	}
	r.Kind = fmt.Sprintf("%s (error %d)", kind, m.Number)
	if c := columnIn.FindStringSubmatch(m.Message); c != nil {
		r.Column = c[1]
	}
	return r
}

// Tally implements db.Load.
func (l *load) Tally(ctx context.Context) (int64, []tally.Tally, error) {
	rows, held, err := l.d.tallyFrom(ctx, l.table, l.spec.Table.Columns, l.columns, l.loose)
	if l.before == nil && l.stage != nil && l.stage.rows == 0 {
		l.before = held
	}
	return rows, held, err
}

// Commit implements db.Load. What the server numbers goes on above the largest value.
func (l *load) Commit(ctx context.Context) error {
	if err := l.renumber(ctx); err != nil {
		return err
	}
	if l.spec.Steps != "" {
		if err := l.forget(ctx); err != nil {
			return err
		}
	}
	if t := l.d.together; t != nil {
		t.loads, l.d.load = append(t.loads, l), nil
		l.numbersOff(ctx)
		return nil
	}
	if err := l.commit(ctx); err != nil {
		return err
	}
	l.d.load = nil
	l.numbersOff(ctx)
	l.stage.drop()
	if l.lanes != nil {
		l.d.unlock(ctx, sideLock(l.lanes.side))
		l.lanes = nil
	}
	if l.spec.Steps != "" {
		l.d.tidy(ctx, l.spec.Table.Schema)
	}
	return nil
}

// numbersOn lets the rows bring the numbers that the server would give.
func (l *load) numbersOn(ctx context.Context) error {
	if !l.identity {
		return nil
	}
	return l.d.do(ctx, "cannot take values for the column that it numbers", "SET IDENTITY_INSERT "+l.home()+" ON")
}

// numbersOff lets the server number again in this session, which no rollback does.
func (l *load) numbersOff(ctx context.Context) {
	if l.identity {
		// Not as a statement with parameters, at whose end the server takes back what it SET.
		n := l.spec.Home()
		l.d.c.ExecContext(ctx, "IF OBJECT_ID("+l.d.literal(n.Schema, n.Table)+") IS NOT NULL SET IDENTITY_INSERT "+
			l.home()+" OFF")
	}
}

// renumber makes identities and sequences go on above the largest value.
func (l *load) renumber(ctx context.Context) error {
	if n := l.spec.Home(); l.identity {
		if err := l.d.do(ctx, "cannot move the number that goes on", "DBCC CHECKIDENT ("+
			l.d.literal(n.Schema, n.Table)+", RESEED) WITH NO_INFOMSGS"); err != nil {
			return err
		}
	}
	return l.sequences(ctx)
}

// sequences moves those that stand in the defaults of columns that were loaded.
func (l *load) sequences(ctx context.Context) error {
	rows, err := l.d.questions().Rows(ctx, "cannot find sequences", `SELECT c.name, SCHEMA_NAME(q.schema_id), q.name
		FROM sys.default_constraints k JOIN sys.columns c ON c.object_id = k.parent_object_id AND c.column_id = k.parent_column_id
		JOIN sys.sql_expression_dependencies x ON x.referencing_id = k.object_id JOIN sys.sequences q ON q.object_id = x.referenced_id
		WHERE k.parent_object_id = OBJECT_ID(@p1)`, l.d.name(l.spec.Home().Schema, l.spec.Home().Table))
	if err != nil {
		return err
	}
	for _, r := range rows {
		if !slices.ContainsFunc(l.fields, func(f field) bool { return f.name == *r[0] }) {
			continue
		}
		statement := fmt.Sprintf(`DECLARE @next bigint = (SELECT CAST(MAX(%s) AS bigint) FROM %s), @now bigint =
			(SELECT CAST(current_value AS bigint) FROM sys.sequences WHERE object_id = OBJECT_ID(%s));
			IF @next > @now BEGIN SET @next += 1; DECLARE @restart nvarchar(400) = N'ALTER SEQUENCE %s RESTART WITH ' + CAST(@next AS nvarchar(20)); EXEC (@restart) END`,
			quote(*r[0]), l.home(), l.d.literal(*r[1], *r[2]),
			strings.ReplaceAll(Dialect.Qualified(*r[1], *r[2]), "'", "''"))
		if err := l.d.do(ctx, "cannot move the sequence of "+*r[0], statement); err != nil {
			return err
		}
	}
	return nil
}

// commit commits the transaction. Where no answer came, it may have been.
func (l *load) commit(ctx context.Context) error {
	_, err := l.d.c.ExecContext(ctx, "COMMIT TRANSACTION")
	switch {
	case err == nil:
		l.open = false
		return nil
	case asServer(err) == nil:
		l.open = false
		return &db.Unsure{Err: l.d.fail("cannot commit", err)}
	}
	return l.d.fail("cannot commit", err)
}

// Rollback implements db.Load.
func (l *load) Rollback() error {
	if l.d.load == nil {
		return nil
	}
	l.d.load = nil
	ctx := context.Background()
	if l.lanes != nil {
		l.lanes.Close() // what is under way
	}
	var err error
	if l.open {
		_, err = l.d.c.ExecContext(ctx, "IF @@TRANCOUNT > 0 ROLLBACK TRANSACTION")
		l.open = false
		l.numbersOff(ctx)
	}
	l.stage.drop()
	left := l.dropSide()
	l.unbegin(ctx)
	if left != nil {
		return left
	}
	if err != nil && !errors.Is(err, sql.ErrConnDone) && asServer(err) != nil {
		return l.d.fail("cannot roll back", err)
	}
	return nil
}
