package delimited

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"io"
	"math/rand/v2"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// quarrel is a text of records of every length, some with line breaks within
// quotes, and where each record begins.
func quarrel(n int) (text string, starts []int) {
	r := rand.New(rand.NewPCG(1, uint64(n)))
	var b strings.Builder
	for i := range n {
		starts = append(starts, b.Len())
		switch r.IntN(4) {
		case 0:
			fmt.Fprintf(&b, "%d,\"the keeper said\n\"\"no\"\"\",%s\n", i, strings.Repeat("x", r.IntN(300)))
		case 1:
			fmt.Fprintf(&b, "%d,,\n", i)
		case 2:
			b.WriteString("\n")
		default:
			fmt.Fprintf(&b, "%d,%s,%d\n", i, strings.Repeat("lock ", r.IntN(60)), r.IntN(99))
		}
	}
	return b.String(), starts
}

// chunks cuts a text, and checks what every chunk says of itself.
func chunks(t *testing.T, text string, set func(*Chunker)) (out []string) {
	t.Helper()
	c := NewChunker(iotest.HalfReader(strings.NewReader(text)), DefaultForm, 1)
	c.Size = 4 << 10
	set(c)
	at := 0
	for seq := 0; ; seq++ {
		ch, err := c.Next()
		if err == io.EOF {
			require.Equal(t, len(text), at, "nothing is lost")
			return
		}
		require.NoError(t, err)
		require.Equal(t, seq, ch.Seq)
		require.Equal(t, int64(at), ch.Offset)
		require.Equal(t, int64(1+strings.Count(text[:at], "\n")), ch.Line)
		require.Equal(t, text[at:at+len(ch.Data)], string(ch.Data))
		if c.Hash != nil {
			sum := sha256.Sum256([]byte(text[:at+len(ch.Data)]))
			require.Equal(t, sum[:], ch.Sum, "the hash is that of all so far")
		}
		at += len(ch.Data)
		require.Equal(t, at == len(text), ch.Last)
		out = append(out, string(ch.Data))
		ch.Release()
	}
}

func TestChunksTellWhereTheyAre(t *testing.T) {
	text, _ := quarrel(3000)
	plain := chunks(t, text, func(*Chunker) {})
	hashed := chunks(t, text, func(c *Chunker) { c.Hash = sha256.New() })
	assert.Equal(t, plain, hashed)
	assert.Greater(t, len(plain), 10)
}

// A chunk ends where it is told to, wherever that is, and whatever the size of
// chunks was when the place was found.
func TestChunksEndAtACut(t *testing.T) {
	text, starts := quarrel(3000)
	for _, n := range []int{1, 2, 3, 700, 1500, 2998} {
		cut := starts[n]
		for _, size := range []int{1 << 10, 16 << 10, 1 << 20} {
			got := chunks(t, text, func(c *Chunker) { c.Cut, c.Size = int64(cut), size })
			at, met := 0, false
			for _, g := range got {
				at += len(g)
				met = met || at == cut
			}
			assert.True(t, met, "record %d, chunks of %d bytes", n, size)
		}
	}
	whole := chunks(t, text, func(c *Chunker) { c.Cut = int64(len(text)) })
	assert.Equal(t, chunks(t, text, func(*Chunker) {}), whole)
	assert.Equal(t, whole, chunks(t, text, func(c *Chunker) { c.Cut = int64(len(text)) + 5000 }), "a place behind the end is never met")
}

// What is done in one goroutine only: reading, counting lines, finding where records end, and
// the hash. It bounds what more processors bring; see docs/large.md.
func BenchmarkChunk(b *testing.B) {
	quotes := bytes.Repeat([]byte("1,2025-03-04,\"Keeper, 7\",\"water low at the upper gate since morning, \"\"sic\"\" and the\nkeeper waited for the boat from Withy Cut\"\n"), 1<<19)
	plain := bytes.Repeat([]byte("1234,04/03/2025,Withy Cut,Grey Heron 17,004417,up,12.50,0.85,\n"), 1<<20)
	for name, text := range map[string][]byte{"plain": plain, "quotes": quotes} {
		for _, hashed := range []bool{false, true} {
			b.Run(fmt.Sprintf("%s/hash=%v", name, hashed), func(b *testing.B) {
				b.SetBytes(int64(len(text)))
				for b.Loop() {
					c := NewChunker(bytes.NewReader(text), DefaultForm, 1)
					if hashed {
						c.Hash = sha256.New()
					}
					for {
						x, err := c.Next()
						if err != nil {
							break
						}
						x.Release()
					}
				}
			})
		}
	}
}

// By blocks, the same ends of records and the same open quotes are found as one by one.
func TestEndsByMarks(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 4))
	letters := []string{"a", "b", "é", ",", "\"", "\"\"", "\n", "\r\n", ",\"", "\",", "\"\n", strings.Repeat("x", 50)}
	for range 20_000 {
		var text []byte
		for range r.IntN(60) {
			text = append(text, letters[r.IntN(len(letters))]...)
		}
		for _, f := range []Form{DefaultForm, {Delimiter: "é", Quote: '"'}, {Quote: '"'}} {
			for _, atEOF := range []bool{false, true} {
				c := &Chunker{form: f}
				end, open := c.lastEnd(text, atEOF) // mostly too few quotes for blocks
				got, still := lastEndByMarks(text, f, atEOF)
				if open < 0 && !atEOF && end > 0 {
					still = -1 // it is not asked
				}
				require.Equal(t, []int{end, open}, []int{got, still}, "%q, %v", text, atEOF)
			}
		}
	}
}
