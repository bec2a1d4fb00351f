package sqlserver

import (
	"bytes"
	"encoding/binary"
	"io"
	"math/big"
	"math/rand/v2"
	"net"
	"strings"
	"testing"
	"time"
	"unicode/utf16"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/db"
	"ambertray/internal/reading"
	"ambertray/internal/sink"
	"ambertray/internal/sqltype"
)

// spoken is a connection that answers with bytes, and keeps what is written.
type spoken struct {
	net.Conn
	in  io.Reader
	out bytes.Buffer
}

func (s *spoken) Read(b []byte) (int, error)  { return s.in.Read(b) }
func (s *spoken) Write(b []byte) (int, error) { return s.out.Write(b) }

// Whatever is written goes out in packets of the size that was agreed on, none larger, all
// but the last full, and only the last marked as such.
func TestPackets(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 300 {
		c := &spoken{}
		w := &wire{Conn: c, size: []int{512, 4096, 16383, 32767}[r.IntN(4)]}
		var all []byte
		o := w.newOutlet()
		for range r.IntN(40) {
			b := make([]byte, r.IntN(9000))
			for i := range b {
				b[i] = byte(r.Uint32())
			}
			all = append(all, b...)
			o.write(b)
		}
		o.packet(true)
		require.NoError(t, o.err)
		var got []byte
		for id, rest := byte(1), c.out.Bytes(); len(rest) > 0; id++ {
			n := int(binary.BigEndian.Uint16(rest[2:]))
			require.LessOrEqual(t, n, w.size)
			last := len(rest) == n
			require.Equal(t, []byte{packBulk, map[bool]byte{true: 1}[last]}, rest[:2])
			require.Equal(t, id, rest[6])
			if !last {
				require.Equal(t, w.size, n)
			}
			got, rest = append(got, rest[headerSize:n]...), rest[n:]
		}
		require.True(t, bytes.Equal(all, got))
	}
}

func answer(tokens ...[]byte) []byte {
	body := bytes.Join(tokens, nil)
	return append(appendHeader(nil, packReply, len(body), true, 1), body...)
}

func errorOf(number int32, text string) []byte {
	u := utf16.Encode([]rune(text))
	b := binary.LittleEndian.AppendUint32(nil, uint32(number))
	b = binary.LittleEndian.AppendUint16(append(b, 1, 14), uint16(len(u)))
	for _, c := range u {
		b = binary.LittleEndian.AppendUint16(b, c)
	}
	b = append(b, 0, 0, 1, 0, 0, 0)
	return append(binary.LittleEndian.AppendUint16([]byte{tokenError}, uint16(len(b))), b...)
}

// An answer is an error, with its number and words, or all is well; and nothing else passes.
func TestAnswers(t *testing.T) {
	done, failed := make([]byte, 13), make([]byte, 13)
	done[0], failed[0], failed[1] = tokenDone, tokenDone, 2
	of := func(b []byte) (string, error) {
		m, err := (&wire{Conn: &spoken{in: bytes.NewReader(b)}}).answerOf()
		if m == nil {
			return "", err
		}
		return m.Message, err
	}
	for want, b := range map[string][]byte{"": answer(done), "étang 😀": answer(errorOf(2627, "étang 😀"), errorOf(3621, "ended"), failed), "the server could not take the rows, and did not say why": answer(failed)} {
		got, err := of(b)
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
	for _, b := range [][]byte{nil, answer([]byte{tokenError}), answer([]byte{tokenError, 200, 0}), answer([]byte{0x42}), answer(done[:5]), answer(done)[:12], appendHeader(nil, 9, 0, true, 1), {4, 1, 0, 3, 0, 0, 0, 0}} {
		_, err := of(b)
		assert.Error(t, err, "%x", b)
	}
}

func FuzzAnswers(f *testing.F) {
	f.Add(answer(errorOf(547, "no"), make([]byte, 13)))
	f.Fuzz(func(t *testing.T, b []byte) {
		(&wire{Conn: &spoken{in: bytes.NewReader(b)}}).answerOf()
		w := &wire{Conn: &spoken{in: bytes.NewReader(b)}, how: never}
		io.Copy(io.Discard, w)
		if len(b) > 0 {
			encryptionAt(b)
			agreed(b)
		}
	})
}

// Decimals of all sizes are the number that they were, as the protocol has it.
func TestDecimalsOnTheWire(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for range 5000 {
		prec := 1 + r.IntN(38)
		scale := r.IntN(prec + 1)
		read := r.IntN(scale + 1) // what is read has fewer decimals
		digits := make([]byte, 1+r.IntN(prec-scale+read+1))
		for i := range digits {
			digits[i] = '0' + byte(r.IntN(10))
		}
		if len(digits) > prec-scale+read {
			digits = digits[1:]
		}
		n, _ := new(big.Int).SetString("0"+string(digits), 10)
		if r.IntN(2) == 0 {
			n.Neg(n)
		}
		v := reading.Value{Int: n.Int64()}
		if !n.IsInt64() {
			v.Wide = []byte(n.String())
		}
		f := fieldOf(column{declared: declared{name: "decimal", a: prec, b: scale}}, sqltype.Type{Kind: sqltype.Decimal, Precision: prec, Scale: read})
		b, w := f.append(nil, &v)
		require.Equal(t, right, w)
		require.Len(t, b, int(b[0])+1)
		var big1 []byte
		for i := len(b) - 1; i >= 2; i-- {
			big1 = append(big1, b[i])
		}
		got := new(big.Int).SetBytes(big1)
		if b[1] == 0 {
			got.Neg(got)
		}
		want := new(big.Int).Mul(n, new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(scale-read)), nil))
		require.Zero(t, want.Cmp(got), "%s as decimal(%d,%d): %x", n, prec, scale, b)
	}
}

// Moments are days since 0001-01-01 and units of the scale since midnight, also before 1970.
func TestMomentsOnTheWire(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	first := time.Date(1, 1, 1, 0, 0, 0, 0, time.UTC)
	for range 5000 {
		micros := r.Int64N(253402300800e6+62135596800e6) - 62135596800e6
		scale := r.IntN(8)
		unit := int64(1)
		for range max(0, 6-scale) {
			unit *= 10
		}
		micros = micros / unit * unit
		f := fieldOf(column{declared: declared{name: "datetime2", a: scale}}, sqltype.Type{Kind: sqltype.Timestamp})
		b, w := f.append(nil, &reading.Value{Int: micros})
		require.Equal(t, right, w)
		size := timeSize(scale)
		low := func(b []byte) (n int64) {
			for i := len(b) - 1; i >= 0; i-- {
				n = n<<8 | int64(b[i])
			}
			return n
		}
		clock, day := low(b[1:1+size]), low(b[1+size:])
		for range 7 - scale {
			clock *= 10
		}
		at := first.AddDate(0, 0, int(day)).Add(time.Duration(clock) * 100)
		require.Equal(t, time.UnixMicro(micros).UTC(), at)
	}
}

// Text goes as it is, whatever its letters, in one piece with its length before it.
func TestTextOnTheWire(t *testing.T) {
	for _, s := range []string{"", "a", "étang", "日本", "😀x", strings.Repeat("é", 3000)} {
		wide := fieldOf(column{declared: declared{name: "nvarchar", a: 4000}}, sqltype.Type{})
		b, w := wide.append(nil, &reading.Value{Text: []byte(s)})
		require.Equal(t, right, w)
		u := make([]uint16, (len(b)-2)/2)
		for i := range u {
			u[i] = binary.LittleEndian.Uint16(b[2+2*i:])
		}
		assert.Equal(t, s, string(utf16.Decode(u)))
		assert.EqualValues(t, len(b)-2, binary.LittleEndian.Uint16(b))
		long := fieldOf(column{declared: declared{name: "nvarchar", a: -1}}, sqltype.Type{})
		l, _ := long.append(nil, &reading.Value{Text: []byte(s)})
		assert.EqualValues(t, len(b)-2, binary.LittleEndian.Uint64(l))
		assert.Equal(t, []byte{0, 0, 0, 0}, l[len(l)-4:])
		if s != "" {
			assert.Equal(t, b[2:], l[12:len(l)-4])
		}
	}
	page := fieldOf(column{declared: declared{name: "varchar", a: 5, page: 1252}}, sqltype.Type{})
	b, w := page.append(nil, &reading.Value{Text: []byte("é€")})
	assert.Equal(t, []any{right, []byte{2, 0, 0xe9, 0x80}}, []any{w, b})
	_, w = page.append(nil, &reading.Value{Text: []byte("łódź")})
	assert.Equal(t, noLetter, w)
	_, w = page.append(nil, &reading.Value{Text: []byte("123456")})
	assert.Equal(t, tooLong, w)
}

// Rows that are not sent are told with their reason, and the others keep their order.
func TestMarkedRows(t *testing.T) {
	l := &load{fields: []field{fieldOf(column{Column: db.Column{Name: "code"}, declared: declared{name: "varchar", a: 3, page: 1252}}, sqltype.Type{})}}
	e := l.Encoder()
	var data []byte
	for _, s := range []string{"a", "日", "b", "long", "c"} {
		data = e.Append(data, []reading.Value{{Text: []byte(s)}})
	}
	rest, numbers := l.sort(sink.Batch{Rows: 5, Data: data})
	assert.Equal(t, []int{0, 2, 4}, numbers)
	assert.Equal(t, 3*(4+1+2+1), len(rest))
	require.Len(t, l.refused, 2)
	assert.Equal(t, []any{1, "code", 3}, []any{l.refused[0].Row, l.refused[0].Column, l.refused[1].Row})
	assert.Contains(t, l.refused[0].Message, "code page (1252)")
	assert.Contains(t, l.refused[1].Message, "longer than varchar(3)")
}

// An encoder allocates nothing but its room.
func TestEncoderAllocatesNothing(t *testing.T) {
	l := &load{}
	row := []reading.Value{{Int: 7}, {Text: []byte("étang")}, {Int: -12345}, {Int: 1e15}, {Text: []byte("6f9619ff-8b86-d011-b42d-00c04fc964ff")}, {Null: true}}
	for _, d := range []declared{{name: "int"}, {name: "nvarchar", a: 20}, {name: "decimal", a: 9, b: 2}, {name: "datetime2", a: 6}, {name: "uniqueidentifier"}, {name: "varchar", a: -1, page: 1252}} {
		l.fields = append(l.fields, fieldOf(column{declared: d}, sqltype.Type{Scale: 2}))
	}
	e := l.Encoder()
	room := make([]byte, 0, 4096)
	assert.Zero(t, testing.AllocsPerRun(100, func() { e.Append(room, row) }))
}
