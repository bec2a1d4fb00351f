package source

import (
	"archive/zip"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// longPipe makes pipes flow from 40 KB on, and returns the text of a longer one.
func longPipe(t *testing.T) string {
	was := flowFrom
	flowFrom = 40 << 10
	t.Cleanup(func() { flowFrom = was })
	var b strings.Builder
	b.WriteString("Lock,Fell mm\n")
	for i := range 20_000 {
		fmt.Fprintf(&b, "lock %d,%d\n", i%9, i)
	}
	b.WriteString("Total,199990000\n")
	return b.String()
}

func sumOf(b []byte) string {
	s := sha256.Sum256(b)
	return hex.EncodeToString(s[:])
}

// all reads a stream's text, chunk by chunk.
func all(t *testing.T, s *Source, st *Stream) string {
	var got strings.Builder
	st.Size = 8 << 10
	for {
		c, err := st.Next()
		if err == io.EOF {
			s.Ended(st)
			return got.String()
		}
		require.NoError(t, err)
		assert.Equal(t, int64(got.Len()), c.Offset)
		got.Write(c.Data)
		c.Release()
	}
}

func pipe(t *testing.T, r io.Reader, once bool) *Source {
	s, err := Open(context.Background(), Stdin, Known{Stdin: r, Once: once})
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	return s
}

func TestLongPipeFlows(t *testing.T) {
	text := longPipe(t)
	head, body, _ := strings.Cut(text, "\n")
	s := pipe(t, strings.NewReader(text), true)
	require.True(t, s.Flows())
	assert.Equal(t, strings.Split(head, ","), s.Layout.Columns)
	assert.Zero(t, s.Layout.Footer, "its end is not known")
	_, err := s.Sum()
	assert.ErrorContains(t, err, "not been read to its end")

	st, err := s.Read(true)
	require.NoError(t, err)
	assert.Equal(t, body, all(t, s, st))
	assert.Equal(t, sumOf([]byte(text)), st.Sum())
	assert.Equal(t, int64(len(text)), s.FileSize)
	assert.Equal(t, int64(len(text)), s.Size)
	_, err = s.Read(false)
	assert.ErrorContains(t, err, "only once")
}

func TestPipeThatIsKept(t *testing.T) {
	text := longPipe(t)
	for what, s := range map[string]*Source{
		"short":              pipe(t, strings.NewReader(text[:3000]), true),
		"to be read twice":   pipe(t, strings.NewReader(text), false),
		"packed, and short":  pipe(t, bytes.NewReader(gzipped(text[:3000])), true),
		"packed, read twice": pipe(t, bytes.NewReader(gzipped(text)), false),
		"an archive":         pipe(t, bytes.NewReader(zipped(t, text)), true),
	} {
		assert.False(t, s.Flows(), what)
		first, err := s.Read(true)
		require.NoError(t, err, what)
		one := all(t, s, first)
		again, err := s.Read(true)
		require.NoError(t, err, what)
		assert.Equal(t, one, all(t, s, again), what)
		assert.NotEmpty(t, first.Sum(), what)
	}
}

func gzipped(text string) []byte {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	io.WriteString(z, text)
	z.Close()
	return b.Bytes()
}

func zipped(t *testing.T, text string) []byte {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	w, err := z.Create("gauges.csv")
	require.NoError(t, err)
	io.WriteString(w, text)
	require.NoError(t, z.Close())
	return b.Bytes()
}

func TestPackedPipeFlows(t *testing.T) {
	text := longPipe(t)
	_, body, _ := strings.Cut(text, "\n")
	// Two streams behind each other are one text, as of files put together.
	half := strings.LastIndexByte(text[:len(text)/2], '\n') + 1
	packed := append(gzipped(text[:half]), gzipped(text[half:])...)
	s := pipe(t, iotest.HalfReader(bytes.NewReader(packed)), true)
	require.True(t, s.Flows())
	st, err := s.Read(true)
	require.NoError(t, err)
	assert.Equal(t, body, all(t, s, st))
	assert.Equal(t, sumOf(packed), st.Sum(), "the hash is that of what came")
	assert.Equal(t, int64(len(packed)), s.FileSize)
	assert.Equal(t, int64(len(text)), s.Size)
}

// What breaks off is an error, and never a shorter text.
func TestBrokenPipe(t *testing.T) {
	text := longPipe(t)
	lost := errors.New("the line is dead")
	for what, r := range map[string]io.Reader{
		"cut off":      bytes.NewReader(gzipped(text)[:len(gzipped(text))-300]),
		"with an end":  io.MultiReader(strings.NewReader(text[:60_000]), iotest.ErrReader(lost)),
		"wrong packed": bytes.NewReader(append(gzipped(text), "more"...)),
	} {
		s := pipe(t, r, true)
		require.True(t, s.Flows(), what)
		st, err := s.Read(true)
		require.NoError(t, err)
		for err == nil {
			_, err = st.Next()
		}
		assert.NotErrorIs(t, err, io.EOF, what)
	}
	_, err := Open(context.Background(), Stdin, Known{Stdin: iotest.ErrReader(lost), Once: true})
	assert.ErrorIs(t, err, lost)
	_, err = Open(context.Background(), Stdin, Known{Stdin: strings.NewReader(""), Once: true})
	assert.ErrorContains(t, err, "empty")
	_, err = Open(context.Background(), Stdin, Known{Stdin: bytes.NewReader([]byte("\x1f\x8bno")), Once: true})
	assert.Error(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err = Open(ctx, Stdin, Known{Stdin: strings.NewReader(text), Once: true})
	assert.ErrorIs(t, err, context.Canceled)
}
