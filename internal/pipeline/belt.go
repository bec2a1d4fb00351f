package pipeline

import (
	"ambertray/internal/fault"
	"ambertray/internal/source/delimited"
)

// A belt carries rows from who reads them to who writes them, side by side, in order. Fields are
// copied into crates, which go round.
type belt struct {
	full, empty chan *crate
	at          *crate
	fields      [][]byte
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

// Carried has read call its argument for each row, and row called with each, in another
// goroutine; simple tells that the row has nothing but ASCII, and no NUL. What either of them fails with
// ends both.
func Carried(columns int, read func(row func(fields [][]byte) error) error,
	row func(fields [][]byte, simple bool) error) error {
	b := &belt{full: make(chan *crate, crates), empty: make(chan *crate, crates), fields: make([][]byte, columns)}
	for range crates {
		b.empty <- &crate{data: make([]byte, 0, crateBytes*5/4)}
	}
	ended := make(chan error, 1)
	go func() { ended <- b.unload(row) }()
	b.at = <-b.empty
	var failed error // of who writes
	err := read(func(fields [][]byte) error {
		b.at.add(fields)
		if len(b.at.data) < crateBytes && len(b.at.ends) < crateBytes/4 {
			return nil
		}
		select {
		case failed = <-ended:
			ended <- failed
			return failed
		case b.full <- b.at:
		}
		select {
		case failed = <-ended:
			ended <- failed
			return failed
		case b.at = <-b.empty:
		}
		return nil
	})
	if err == nil {
		b.full <- b.at // there is room for all of them
	}
	close(b.full)
	if err2 := <-ended; err == nil {
		err = err2
	}
	return err
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

// unload calls row for each row of all crates.
func (b *belt) unload(row func([][]byte, bool) error) (err error) {
	defer fault.Recovered(&err)
	for k := range b.full {
		from, n := 0, len(b.fields)
		ascii, zero := delimited.ByteRange(k.data)
		simple := ascii && !zero
		for r := range k.rows {
			for i, end := range k.ends[r*n : (r+1)*n] {
				if end == none {
					b.fields[i] = nil
					continue
				}
				b.fields[i], from = k.data[from:end:end], end
			}
			if err := row(b.fields, simple); err != nil {
				return err
			}
		}
		k.data, k.ends, k.rows = k.data[:0], k.ends[:0], 0
		b.empty <- k
	}
	return nil
}
