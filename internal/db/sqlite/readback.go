package sqlite

import (
	"context"
	"encoding/binary"
	"math"

	lib "modernc.org/sqlite/lib"
)

// rawValue is a value as SQLite stores it.
type rawValue struct {
	kind  int32 // its storage class
	int   int64
	float float64
	text  []byte // valid until the next
}

// readBackBytes is about how much is handed on at once.
const readBackBytes = 128 << 10

// readBack reads all rows of a statement and calls f for each value, on another
// goroutine: one steps through the table, the other looks at the values. Rows
// count from 1, columns from 0. It returns how many rows there were.
func (d *DB) readBack(ctx context.Context, s *stmt,
	f func(row int64, column int, x *rawValue) error) (rows int64, err error) {
	columns := s.columns()
	full, free := make(chan []byte, 2), make(chan []byte, 3)
	for range 3 {
		free <- make([]byte, 0, readBackBytes+4096)
	}
	failed := make(chan error, 1)
	done := make(chan struct{})
	go func() {
		defer close(done)
		row, bad := int64(0), false
		var x rawValue
		for b := range full {
			for rest := b; len(rest) > 0 && !bad; {
				row++
				for i := range columns {
					rest = x.take(rest)
					if err := f(row, i, &x); err != nil {
						failed <- err
						bad = true
						break
					}
				}
			}
			free <- b[:0]
		}
	}()
	b := <-free
	for err == nil {
		var more bool
		if more, err = s.step(); err != nil {
			if err = d.fail("cannot read the table back", err); ctx.Err() != nil {
				err = ctx.Err()
			}
		}
		if !more {
			break
		}
		rows++
		for i := range columns {
			b = appendRaw(b, s, i)
		}
		if len(b) >= readBackBytes {
			full <- b
			b = <-free
		}
		select {
		case err = <-failed:
		default:
		}
	}
	full <- b
	close(full)
	<-done
	if err == nil {
		select {
		case err = <-failed:
		default:
		}
	}
	return rows, err
}

// appendRaw writes a value of a statement's row.
func appendRaw(b []byte, s *stmt, i int) []byte {
	x := rawValue{kind: s.kind(i)}
	switch x.kind {
	case lib.SQLITE_NULL:
	case lib.SQLITE_INTEGER:
		x.int = s.int(i)
	case lib.SQLITE_FLOAT:
		x.float = s.float(i)
	default:
		x.text = s.text(i)
	}
	return x.append(b)
}

// append writes the value: its storage class, then eight bytes of number, or
// four of length and the bytes.
func (x *rawValue) append(b []byte) []byte {
	b = append(b, byte(x.kind))
	switch x.kind {
	case lib.SQLITE_NULL:
	case lib.SQLITE_INTEGER:
		b = binary.LittleEndian.AppendUint64(b, uint64(x.int))
	case lib.SQLITE_FLOAT:
		b = binary.LittleEndian.AppendUint64(b, math.Float64bits(x.float))
	default:
		b = binary.LittleEndian.AppendUint32(b, uint32(len(x.text)))
		b = append(b, x.text...)
	}
	return b
}

// take reads a value as append wrote it, and returns what follows.
func (x *rawValue) take(b []byte) []byte {
	x.kind = int32(b[0])
	b = b[1:]
	switch x.kind {
	case lib.SQLITE_NULL:
		return b
	case lib.SQLITE_INTEGER:
		x.int = int64(binary.LittleEndian.Uint64(b))
		return b[8:]
	case lib.SQLITE_FLOAT:
		x.float = math.Float64frombits(binary.LittleEndian.Uint64(b))
		return b[8:]
	}
	n := binary.LittleEndian.Uint32(b)
	x.text = b[4 : 4+n]
	return b[4+n:]
}
