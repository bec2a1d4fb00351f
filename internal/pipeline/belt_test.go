package pipeline

import (
	"bytes"
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// All rows come, in order, with nulls and empty texts told apart, however long they are.
func TestCarried(t *testing.T) {
	long := make([]byte, 3*crateBytes)
	for _, rows := range []int{0, 1, 7, 100_000} {
		n := 0
		err := Carried(3, func(row func([][]byte) error) error {
			for i := range rows {
				f := [][]byte{fmt.Appendf(nil, "%d", i), nil, {}}
				if i%20_000 == 5 {
					f[2] = long
				}
				if err := row(f); err != nil {
					return err
				}
			}
			return nil
		}, func(f [][]byte, _ bool) error {
			if string(f[0]) != fmt.Sprint(n) || f[1] != nil || f[2] == nil || len(f[2]) != map[bool]int{true: len(long)}[n%20_000 == 5] {
				return fmt.Errorf("row %d is %.40q", n, f)
			}
			n++
			return nil
		})
		require.NoError(t, err)
		assert.Equal(t, rows, n)
	}
}

// What fails on either side ends both, and is told.
func TestCarriedFails(t *testing.T) {
	boom := errors.New("boom")
	for _, at := range []int{0, 1, 60_000} {
		endless := func(row func([][]byte) error) error {
			for {
				if err := row([][]byte{[]byte("a text of some length")}); err != nil {
					return err
				}
			}
		}
		n := 0
		assert.ErrorIs(t, Carried(1, endless, func([][]byte, bool) error {
			if n++; n > at {
				return boom
			}
			return nil
		}), boom)
		assert.Error(t, Carried(1, endless, func([][]byte, bool) error { panic("of the writer") }))
		n = 0
		assert.ErrorIs(t, Carried(1, func(row func([][]byte) error) error {
			for range at {
				if err := row([][]byte{nil}); err != nil {
					return err
				}
			}
			return boom
		}, func([][]byte, bool) error { n++; return nil }), boom)
	}
}

// Text goes over the belt as rows do: all of it, in order, however it comes; what fails on either side ends both.
func TestCarriedText(t *testing.T) {
	lines := func(rows []byte, row func([][]byte) error) error {
		for line := range bytes.Lines(rows) {
			if err := row([][]byte{bytes.TrimSuffix(line, []byte("\n"))}); err != nil {
				return err
			}
		}
		return nil
	}
	boom := errors.New("boom")
	for _, rows := range []int{0, 1, 1000, 200_000} {
		send := func(last error) func(func([]byte) error) error {
			return func(take func([]byte) error) error {
				var piece []byte
				for i := range rows {
					if piece = fmt.Appendf(piece, "Withy Cut %d\n", i); i%7 == 0 || i == rows-1 {
						if err := take(piece); err != nil {
							return err
						}
						piece = piece[:0]
					}
				}
				return last
			}
		}
		n := 0
		count := func(f [][]byte, simple bool) error {
			if string(f[0]) != fmt.Sprintf("Withy Cut %d", n) || !simple {
				return fmt.Errorf("row %d is %q, %v", n, f, simple)
			}
			n++
			return nil
		}
		require.NoError(t, CarriedText(send(nil), lines, count))
		assert.Equal(t, rows, n)
		n = 0
		assert.ErrorIs(t, CarriedText(send(boom), lines, count), boom)
		if rows > 0 {
			assert.ErrorIs(t, CarriedText(send(nil), lines, func([][]byte, bool) error { return boom }), boom)
			assert.ErrorIs(t, CarriedText(send(nil), func([]byte, func([][]byte) error) error { return boom }, count), boom)
			assert.Error(t, CarriedText(send(nil), lines, func([][]byte, bool) error { panic("of the writer") }))
		}
	}
	said := map[string]bool{}
	for _, text := range []string{"plain\n", "é\n", "a\x00b\n"} {
		require.NoError(t, CarriedText(func(take func([]byte) error) error { return take([]byte(text)) }, lines,
			func(_ [][]byte, simple bool) error { said[text] = simple; return nil }))
	}
	assert.Equal(t, map[string]bool{"plain\n": true, "é\n": false, "a\x00b\n": false}, said)
}
