package workbook

import (
	"bytes"
	"errors"
	"io"
	"math/rand/v2"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// closing counts how often it is closed.
type closing struct {
	io.Reader
	closed int
}

func (c *closing) Close() error { c.closed++; return nil }

// What is read ahead is what there is, up to an error and with it, however it comes.
func TestAhead(t *testing.T) {
	boom := errors.New("boom")
	r := rand.New(rand.NewPCG(4, 4))
	for _, size := range []int{0, 1, pieceSize - 1, pieceSize, pieceSize + 1, 5*pieceSize + 77} {
		text := make([]byte, size)
		for i := range text {
			text[i] = byte(r.Uint32())
		}
		for _, end := range []error{io.EOF, boom, io.ErrUnexpectedEOF} {
			for _, way := range []func(io.Reader) io.Reader{iotest.HalfReader, iotest.DataErrReader, iotest.OneByteReader} {
				c := &closing{Reader: way(io.MultiReader(bytes.NewReader(text), iotest.ErrReader(end)))}
				a := newAhead(c)
				got, err := io.ReadAll(a)
				if end == io.EOF {
					require.NoError(t, err)
				} else {
					require.ErrorIs(t, err, end)
				}
				require.True(t, bytes.Equal(text, got), "%d bytes", size)
				_, err = a.Read(make([]byte, 1))
				require.ErrorIs(t, err, end, "again")
				require.NoError(t, a.Close())
				assert.Equal(t, 1, c.closed)
			}
		}
	}
	// Who has enough closes it, wherever it is.
	for range 50 {
		c := &closing{Reader: rand.NewChaCha8([32]byte{})}
		a := newAhead(c)
		io.CopyN(io.Discard, a, int64(r.IntN(9*pieceSize)))
		require.NoError(t, a.Close())
		assert.Equal(t, 1, c.closed)
	}
	a := newAhead(&closing{Reader: readerFunc(func([]byte) (int, error) { panic("of the reader") })})
	_, err := io.ReadAll(a)
	assert.Error(t, err)
	a.Close()
}

type readerFunc func([]byte) (int, error)

func (f readerFunc) Read(b []byte) (int, error) { return f(b) }
