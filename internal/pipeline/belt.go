package pipeline

import (
	"ambertray/internal/fault"
	"ambertray/internal/source/delimited"
)

// A belt carries crates from who fills them to who unloads them, side by side, in order. The crates go round.
type belt[C any] struct {
	full, empty chan C
	ended       chan error // what unloading them came to
}

// A crate is rows one behind the other: the bytes of all fields, and of each where it ends, or
// none for a null.
type crate struct {
	data []byte
	ends []int
	rows int
}

// crateBytes is about how much a crate carries, and crates how many there are.
const (
	crateBytes = 128 << 10
	crates     = 4
	none       = -1
)

// carry has fill put full crates on a belt, and unload called with each in another goroutine. What
// either of them fails with ends both.
func carry[C any](new func() C, fill func(first C, next func(full C) (C, error)) (last C, err error),
	unload func(C) error) error {
	b := &belt[C]{make(chan C, crates), make(chan C, crates), make(chan error, 1)}
	for range crates {
		b.empty <- new()
	}
	go func() { b.ended <- b.unload(unload) }()
	last, err := fill(<-b.empty, b.next)
	if err == nil {
		b.full <- last // there is room for all of them
	}
	close(b.full)
	if err2 := <-b.ended; err == nil {
		err = err2
	}
	return err
}

// next takes a full crate, and returns an empty one.
func (b *belt[C]) next(full C) (empty C, err error) {
	select {
	case err = <-b.ended:
		b.ended <- err
		return empty, err
	case b.full <- full:
	}
	select {
	case err = <-b.ended:
		b.ended <- err
		return empty, err
	case empty = <-b.empty:
	}
	return empty, nil
}

func (b *belt[C]) unload(unload func(C) error) (err error) {
	defer fault.Recovered(&err)
	for k := range b.full {
		if err := unload(k); err != nil {
			return err
		}
		b.empty <- k
	}
	return nil
}

// Carried has read call its argument for each row, and row called with each, in another
// goroutine; simple tells that the row has nothing but ASCII, and no NUL. What either of them fails with
// ends both.
func Carried(columns int, read func(row func(fields [][]byte) error) error,
	row func(fields [][]byte, simple bool) error) error {
	fields := make([][]byte, columns)
	return carry(newCrate, func(at *crate, next func(*crate) (*crate, error)) (*crate, error) {
		err := read(func(fields [][]byte) (err error) {
			if at.add(fields); len(at.data) >= crateBytes || len(at.ends) >= crateBytes/4 {
				at, err = next(at)
			}
			return err
		})
		return at, err
	}, func(k *crate) error { return k.unload(fields, row) })
}

// CarriedText is Carried for rows that come as text: read calls its argument with whole rows, and apart takes
// them apart, in the other goroutine.
func CarriedText(read func(take func(rows []byte) error) error,
	apart func(rows []byte, row func(fields [][]byte) error) error,
	row func(fields [][]byte, simple bool) error) error {
	return carry(newCrate, func(at *crate, next func(*crate) (*crate, error)) (*crate, error) {
		err := read(func(rows []byte) (err error) {
			if at.data = append(at.data, rows...); len(at.data) >= crateBytes {
				at, err = next(at)
			}
			return err
		})
		return at, err
	}, func(k *crate) error {
		simple := k.simple()
		defer k.clear()
		return apart(k.data, func(fields [][]byte) error { return row(fields, simple) })
	})
}

func newCrate() *crate { return &crate{data: make([]byte, 0, crateBytes*5/4)} }

func (k *crate) clear() { k.data, k.ends, k.rows = k.data[:0], k.ends[:0], 0 }

// simple reports that there is nothing but ASCII, and no NUL.
func (k *crate) simple() bool {
	ascii, zero := delimited.ByteRange(k.data)
	return ascii && !zero
}

func (k *crate) add(fields [][]byte) {
	k.rows++
	for _, f := range fields {
		if f == nil {
			k.ends = append(k.ends, none)
			continue
		}
		k.data = append(k.data, f...)
		k.ends = append(k.ends, len(k.data))
	}
}

// unload calls row for each row.
func (k *crate) unload(fields [][]byte, row func([][]byte, bool) error) error {
	from, n, simple := 0, len(fields), k.simple()
	for r := range k.rows {
		for i, end := range k.ends[r*n : (r+1)*n] {
			if end == none {
				fields[i] = nil
				continue
			}
			fields[i], from = k.data[from:end:end], end
		}
		if err := row(fields, simple); err != nil {
			return err
		}
	}
	k.clear()
	return nil
}
