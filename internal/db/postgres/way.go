package postgres

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/sink"
	"ambertray/internal/tally"
)

// Which partition a row belongs to is said by the server, whatever the key is made of: a table of
// the session has the same partitions, and takes of each row the key and its number. What lies
// where is read back, and the table emptied for the next batch.

// way is that table.
type way struct {
	create []string
	keys   []int // the columns of the key among those that are loaded
	names  []string
	copier *copier
	whose  map[uint32]uint32 // of a partition of this table, that of the other where it is on another server
}

const wayTable = "pg_temp.ambertray_way"

// mostParts is how many partitions a table may have that is made after for each load.
const mostParts = 500

// wayOf says how the table is made.
func (d *DB) wayOf(ctx context.Context, parent string, spec *db.Spec, parts []partition) (w way, err error) {
	var by string
	var plain bool
	var columns, required []string
	err = d.c.QueryRow(ctx, `SELECT pg_get_partkeydef(partrelid), partexprs IS NULL,
		ARRAY(SELECT attname::text FROM unnest(partattrs::int2[]) WITH ORDINALITY k (n, i) JOIN pg_attribute a ON a.attrelid = partrelid AND a.attnum = k.n ORDER BY k.i),
		ARRAY(SELECT attname::text FROM pg_attribute WHERE attrelid = partrelid AND attnum > 0 AND attnotnull AND NOT attisdropped)
		FROM pg_partitioned_table WHERE partrelid = $1::text::regclass`, parent).Scan(&by, &plain, &columns, &required)
	if err != nil {
		return w, d.fail("cannot say by what the table is partitioned", err)
	}
	switch {
	case !plain:
		return w, detour("the table is partitioned by an expression")
	case len(parts) > mostParts:
		return w, detour(fmt.Sprintf("the table has more than %d partitions", mostParts))
	}
	for _, name := range columns {
		i := slices.IndexFunc(spec.Table.Columns, func(c dialect.Column) bool { return c.Name == name })
		if i < 0 {
			return w, detour("the table is partitioned by " + name + ", which is not loaded")
		}
		w.keys, w.names = append(w.keys, i), append(w.names, quote(name))
	}
	w.create = []string{fmt.Sprintf("CREATE TEMP TABLE ambertray_way (LIKE %s, ambertray_row integer NOT NULL) "+
		"PARTITION BY %s ON COMMIT DROP", parent, by)}
	for _, name := range required {
		w.create = append(w.create, "ALTER TABLE "+wayTable+" ALTER "+quote(name)+" DROP NOT NULL")
	}
	for i, p := range parts {
		w.create = append(w.create, fmt.Sprintf("CREATE TEMP TABLE ambertray_way_%d PARTITION OF %s %s", i, wayTable,
			p.bound))
	}
	w.names = append(w.names, "ambertray_row")
	return w, nil
}

// make makes the table, in the transaction.
func (w *way) make(ctx context.Context, d *DB, parts []partition, binary bool) error {
	if err := d.simple(ctx, strings.Join(w.create, "; ")); err != nil {
		return err
	}
	w.whose = map[uint32]uint32{}
	for i, p := range parts {
		if !p.foreign {
			continue
		}
		var id uint32
		if err := d.c.QueryRow(ctx, fmt.Sprintf("SELECT 'pg_temp.ambertray_way_%d'::regclass::oid", i)).Scan(
			&id); err != nil {
			return d.fail("cannot say which partition is which", err)
		}
		w.whose[id] = p.id
	}
	w.copier = d.copyInto(wayTable, w.names, binary)
	return nil
}

// find tells for each row of a batch which partition on another server it is for; 0: none.
func (w *way) find(ctx context.Context, b sink.Batch) ([]uint32, error) {
	data := make([]byte, 0, b.Rows*24)
	var spans [][]byte
	for i, row := 0, 0; row < b.Rows; row++ {
		if w.copier.binary {
			spans, i = fieldsOf(spans[:0], b.Data, i)
			data = binary.BigEndian.AppendUint16(data, uint16(len(w.keys)+1))
			for _, k := range w.keys {
				data = append(data, spans[k]...)
			}
			data = binary.BigEndian.AppendUint32(data, 4)
			data = binary.BigEndian.AppendUint32(data, uint32(row))
			continue
		}
		spans, i = wordsOf(spans[:0], b.Data, i)
		for _, k := range w.keys {
			data = append(append(data, spans[k]...), '\t')
		}
		data = append(strconv.AppendInt(data, int64(row), 10), '\n')
	}
	// A row that no partition takes is refused here, too; the table itself is to say so.
	if _, err := w.copier.take(ctx, data, b.Rows); err != nil {
		return nil, err
	}
	whose := make([]uint32, b.Rows)
	d := w.copier.on
	rows, err := d.c.Query(ctx, "SELECT ambertray_row, tableoid FROM "+wayTable)
	if err != nil {
		return nil, d.fail("cannot say which partition a row is for", err)
	}
	defer rows.Close()
	var row, part uint32
	for rows.Next() {
		if err := rows.Scan(&row, &part); err != nil {
			return nil, d.fail("cannot say which partition a row is for", err)
		}
		whose[row] = w.whose[part]
	}
	if err := rows.Err(); err != nil {
		return nil, d.fail("cannot say which partition a row is for", err)
	}
	return whose, d.simple(ctx, "TRUNCATE "+wayTable)
}

// fieldsOf are the fields of a row, lengths and all, and where it ends.
func fieldsOf(spans [][]byte, data []byte, i int) ([][]byte, int) {
	n := int(binary.BigEndian.Uint16(data[i:]))
	i += 2
	for range n {
		end := i + 4 + int(max(int32(binary.BigEndian.Uint32(data[i:])), 0))
		spans = append(spans, data[i:end])
		i = end
	}
	return spans, i
}

// wordsOf is fieldsOf for rows as text.
func wordsOf(spans [][]byte, data []byte, i int) ([][]byte, int) {
	end := lineEnd(data, i)
	line := data[i : end-1]
	for more := true; more; {
		var field []byte
		field, line, more = bytes.Cut(line, []byte{'\t'})
		spans = append(spans, field)
	}
	return spans, end
}

// write sends each row of a batch to the server that has its partition, side by side.
func (s *shards) write(ctx context.Context, b sink.Batch, home *copier) ([]sink.Refusal, error) {
	whose, err := s.way.find(ctx, b)
	if err != nil {
		return nil, err
	}
	here := &shard{copier: home}
	to := map[uint32]*shard{0: here}
	for _, x := range s.branches {
		for _, p := range x.parts {
			to[p.part], p.rows, p.numbers = p, p.rows[:0], p.numbers[:0]
		}
	}
	for i, row := 0, 0; row < b.Rows; row++ {
		end := home.end(b.Data, i)
		p := to[whose[row]]
		p.rows, p.numbers = append(p.rows, b.Data[i:end]...), append(p.numbers, row)
		i = end
	}
	var all sync.WaitGroup
	refused, failed := make([][]sink.Refusal, len(s.branches)+1), make([]error, len(s.branches)+1)
	send := func(k int, parts []*shard) {
		for _, p := range parts {
			list, err := p.take(ctx, p.rows, len(p.numbers))
			if err != nil {
				failed[k] = err
				return
			}
			for _, r := range list {
				r.Row = p.numbers[r.Row]
				refused[k] = append(refused[k], r)
			}
		}
	}
	for k, x := range s.branches {
		all.Go(func() { send(k, x.parts) })
	}
	send(len(s.branches), []*shard{here})
	all.Wait()
	for _, err := range failed {
		if err != nil {
			return nil, err
		}
	}
	list := slices.Concat(refused...)
	slices.SortFunc(list, func(a, b sink.Refusal) int { return a.Row - b.Row })
	return list, nil
}

// tally adds up what all servers have of the table: each says what it has, in its transaction.
func (s *shards) tally(ctx context.Context, l *load) (int64, []tally.Tally, error) {
	var lists []string
	for _, p := range s.parts {
		if !p.foreign {
			lists = append(lists, fmt.Sprintf("SELECT %s FROM %s", strings.Join(l.names, ", "), p.name))
		}
	}
	if len(lists) == 0 {
		lists = []string{fmt.Sprintf("SELECT %s FROM %s WHERE false", strings.Join(l.names, ", "), s.parent)}
	}
	from := "(" + strings.Join(lists, " UNION ALL ") + ") x"
	rows, held, err := l.d.tallyFrom(ctx, l.tx, from, l.spec.Table.Columns, l.loose)
	for _, b := range s.branches {
		for _, p := range b.parts {
			if err != nil {
				return 0, nil, err
			}
			var more int64
			var part []tally.Tally
			if more, part, err = b.tallyFrom(ctx, b.tx, p.table, p.columns, l.loose); err == nil {
				rows += more
				for i := range held {
					held[i].Merge(&part[i])
				}
			}
		}
	}
	return rows, held, err
}
