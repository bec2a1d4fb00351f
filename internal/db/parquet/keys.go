package parquet

import (
	"cmp"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/maphash"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"ambertray/internal/columnar"
	"ambertray/internal/reading"
	"ambertray/internal/sink"
	"ambertray/internal/sqltype"
)

// keys finds rows that have a key of rows before them. Parquet has no keys, so it is done
// here, by a hash of 128 bits of each key, when all rows are in: as many times over the
// columns of the key as it takes for those that are held at once to fit into memory.
type keys struct {
	l    *load
	sets []keySet
	seen map[hash]bool // as rows come, where they cannot be read again
}

// A keySet is the primary key, or columns that are to be unique.
type keySet struct {
	names   []string
	at      []int // among the files' columns
	types   []sqltype.Type
	primary bool
}

// heldKeys is how many keys are held at once. Tests make it less.
var heldKeys int64 = 1 << 21

type hash [2]uint64

func newKeys(l *load) *keys {
	k := &keys{l: l}
	for i, names := range append([][]string{l.known.Key}, l.known.Unique...) {
		at, err := places(l.columns, names)
		if len(names) == 0 || err != nil {
			continue
		}
		s := keySet{names: names, at: at, primary: i == 0}
		for _, c := range at {
			s.types = append(s.types, l.columns[c].Type)
		}
		k.sets = append(k.sets, s)
	}
	return k
}

// first refuses rows as they come, where they cannot be read again.
func (k *keys) first(b sink.Batch) (data []byte, refused []sink.Refusal) {
	if !k.l.spec.Once || len(k.sets) == 0 {
		return b.Data, nil
	}
	if k.seen == nil {
		k.seen = map[hash]bool{}
	}
	enc, values := columnar.NewEncoder(k.l.types()), make([]reading.Value, len(k.l.columns))
	for row, rest := int64(0), b.Data; len(rest) > 0; row++ {
		one := rest
		rest = enc.Row(rest, values)
		twice, made := -1, []hash(nil)
		for i := range k.sets {
			if h, whole := k.hash(i, values); whole {
				if made = append(made, h); k.seen[h] && twice < 0 {
					twice = i
				}
			}
		}
		if twice >= 0 {
			refused = append(refused, k.refusal(row, twice, k.text(twice, values)))
			continue
		}
		for _, h := range made {
			k.seen[h] = true
		}
		data = append(data, one[:len(one)-len(rest)]...)
	}
	return data, refused
}

// hash is that of a key of a set, in a row of all columns; one with a null is like no other.
func (k *keys) hash(set int, row []reading.Value) (_ hash, whole bool) {
	s := &k.sets[set]
	values := make([]reading.Value, len(s.at))
	for i, at := range s.at {
		if values[i] = row[at]; values[i].Null {
			return hash{}, false
		}
	}
	return k.sum(append(columnar.NewEncoder(s.types).Append(nil, values), byte(set))), true
}

func (k *keys) sum(b []byte) hash {
	first := maphash.Bytes(k.l.seed, b)
	b = binary.LittleEndian.AppendUint64(b, first)
	return hash{first, maphash.Bytes(k.l.seed, b)}
}

// text is a key of a row of all columns, for messages.
func (k *keys) text(set int, of []reading.Value) string {
	s := &k.sets[set]
	var values []string
	for i, at := range s.at {
		values = append(values, of[at].Plain(s.types[i]))
	}
	return reading.Shorten(strings.Join(values, ", "), 60)
}

// refusal is of a row with a key, in words, that a row before it has.
func (k *keys) refusal(row int64, set int, text string) sink.Refusal {
	s := &k.sets[set]
	kind := "the values of " + strings.Join(s.names, ", ") + " are those of a row before"
	if s.primary {
		kind = "the key " + strings.Join(s.names, ", ") + " is that of a row before"
	}
	return sink.Refusal{Row: int(row), Column: s.names[0], Kind: kind,
		Message: fmt.Sprintf("%s: %s", kind, text)}
}

// settle finds the rows that break a key when all are in, and takes them out: a row stays
// unless one before it that stays has a key of it.
func (k *keys) settle(ctx context.Context) (refused []sink.Refusal, err error) {
	if k.l.spec.Once && len(k.l.before) == 0 {
		return nil, nil // each was looked at as it came
	}
	var found []shared
	for i := range k.sets {
		more, err := k.find(ctx, i)
		if err != nil {
			return nil, err
		}
		found = append(found, more...)
	}
	slices.SortFunc(found, func(a, b shared) int { return cmp.Or(cmp.Compare(a.row, b.row), a.set-b.set) })
	taken := map[hash]bool{}
	for i := 0; i < len(found); {
		end := i + 1
		for end < len(found) && found[end].row == found[i].row {
			end++
		}
		twice := slices.IndexFunc(found[i:end], func(x shared) bool { return taken[x.key] })
		if x := found[i+max(0, twice)]; twice >= 0 && x.row >= 0 {
			refused = append(refused, k.refusal(x.row, x.set, x.text))
		} else {
			for _, x := range found[i:end] {
				taken[x.key] = true
			}
		}
		i = end
	}
	if len(refused) == 0 {
		return nil, nil
	}
	if k.l.spec.Once {
		return nil, fmt.Errorf("%s, and a pipe cannot be read again to find the record: load it from a file",
			refused[0].Message)
	}
	return refused, k.without(ctx, refused)
}

// shared is a row with a key that another has, too.
type shared struct {
	row  int64 // below 0: it was there before
	set  int
	key  hash
	text string
}

// find reads the columns of a set, in parts by hash: first for half of each hash, which
// sorted tells those that may come twice, then for these alone.
func (k *keys) find(ctx context.Context, set int) (found []shared, err error) {
	files, err := k.l.all()
	if err != nil {
		return nil, err
	}
	defer closeAll(files)
	all := int64(0)
	for _, f := range files {
		all += f.Rows
	}
	parts := uint64(max(1, (all+heldKeys-1)/heldKeys))
	halves := make([]uint64, 0, min(all, heldKeys)+heldKeys/16)
	for part := range parts {
		halves = halves[:0]
		err := k.each(ctx, files, set, func(_ int64, _ []reading.Value, h hash) {
			if h[0]%parts == part {
				halves = append(halves, h[0])
			}
		})
		if err != nil {
			return nil, err
		}
		slices.Sort(halves)
		twice := map[uint64]bool{}
		for i := 1; i < len(halves); i++ {
			if halves[i] == halves[i-1] {
				twice[halves[i]] = true
			}
		}
		if len(twice) == 0 {
			continue
		}
		err = k.each(ctx, files, set, func(row int64, values []reading.Value, h hash) {
			if twice[h[0]] {
				found = append(found, shared{row, set, h, k.text(set, values)})
			}
		})
		if err != nil {
			return nil, err
		}
	}
	return found, nil
}

// each calls key for each row whose key of a set is whole, with its number in the load, below
// 0 for rows that were there before, and with a row of which only the key is filled.
func (k *keys) each(ctx context.Context, files []*columnar.File, set int,
	key func(row int64, values []reading.Value, h hash)) error {
	s := &k.sets[set]
	enc, buf, of := columnar.NewEncoder(s.types), []byte(nil), make([]reading.Value, len(k.l.columns))
	row := int64(0)
	for _, f := range files[:len(k.l.before)] {
		row -= f.Rows
	}
	return each(ctx, files, s.names, func(values []reading.Value) error {
		row++
		for j, at := range s.at {
			if of[at] = values[j]; values[j].Null {
				return nil
			}
		}
		buf = append(enc.Append(buf[:0], values), byte(set))
		key(row-1, of, k.sum(buf))
		return nil
	})
}

// without writes the load's files again, but for the rows that are refused.
func (k *keys) without(ctx context.Context, refused []sink.Refusal) error {
	l := k.l
	files, err := l.staged()
	if err != nil {
		return err
	}
	old := l.files
	err = l.again(ctx, files, old, refused)
	closeAll(files) // which no system lets go of a file before
	if err != nil {
		return err
	}
	return l.renamed(old)
}

// again writes files again, but for the rows that are refused.
func (l *load) again(ctx context.Context, files []*columnar.File, old []string, refused []sink.Refusal) error {
	l.files, l.spec.FileRows = nil, 0
	var names []string
	for _, c := range l.columns {
		names = append(names, c.Name)
	}
	enc := columnar.NewEncoder(l.types())
	var buf []byte
	row := 0
	for i, f := range files {
		err := l.openAs("again-" + old[i])
		if err != nil {
			return err
		}
		put := func() error {
			_, err := l.w.Write(buf, len(buf))
			buf = buf[:0]
			return err
		}
		err = each(ctx, []*columnar.File{f}, names, func(values []reading.Value) error {
			at := row
			if row++; len(refused) > 0 && refused[0].Row == at {
				refused = refused[1:]
				return nil
			}
			if buf = enc.Append(buf, values); len(buf) < 1<<20 {
				return nil
			}
			return put()
		})
		if err := errors.Join(err, put(), l.shut()); err != nil {
			return err
		}
	}
	return nil
}

// renamed gives files that were written again the names of those that they replace.
func (l *load) renamed(old []string) error {
	rows := filepath.Join(l.stage.path, rowsOf)
	for _, name := range old {
		if err := os.Remove(filepath.Join(rows, name)); err != nil {
			return l.d.fail("cannot write", err)
		}
	}
	for i, name := range l.files {
		l.files[i] = strings.TrimPrefix(name, "again-")
		if err := os.Rename(filepath.Join(rows, name), filepath.Join(rows, l.files[i])); err != nil {
			return l.d.fail("cannot write", err)
		}
	}
	return nil
}
