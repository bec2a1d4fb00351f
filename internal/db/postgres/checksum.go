package postgres

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"math/big"
	"math/bits"
	"slices"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5/pgconn"

	"ambertray/internal/db"
	"ambertray/internal/db/dialect"
	"ambertray/internal/reading"
	"ambertray/internal/sqltype"
)

// The checksum of a row is made by the server's own hash functions, those that
// it puts rows into hash partitions by: each value is hashed with the hash of
// the values before it as the seed. What stands here is the same in Go, over
// rows as they are sent. Should a server ever compute something else (one with
// another byte order does), its answer for a row of constants shows it, and
// the table is tallied instead.

// checksum is the SQL for the checksum of a row with these columns.
func checksum(columns []summed) string {
	x := "0::bigint"
	for i, c := range columns {
		if !c.nullable {
			x = c.hash(c.name, x)
			continue
		}
		x = fmt.Sprintf("hashint8extended(coalesce(%s, %d), %s)", c.hash(c.name, fmt.Sprintf("%d::bigint", i+1)), -1-i,
			x)
	}
	return x
}

// summed is a column of which checksums are made.
type summed struct {
	name     string // quoted
	typ      sqltype.Type
	nullable bool
}

// hash is the SQL for the hash of a value x.
func (c *summed) hash(x, seed string) string {
	call := func(f, x string) string { return f + "(" + x + ", " + seed + ")" }
	switch c.typ.Kind {
	case sqltype.Boolean:
		return call("hashint4extended", x+"::int")
	case sqltype.SmallInt:
		return call("hashint2extended", x)
	case sqltype.Integer:
		return call("hashint4extended", x)
	case sqltype.BigInt:
		return call("hashint8extended", x)
	case sqltype.Double:
		return call("hashfloat8extended", x)
	case sqltype.Decimal:
		// The hash of a number does not tell its sign.
		return fmt.Sprintf("hash_numeric_extended(%[1]s, %[2]s + (%[1]s < 0)::int)", x, seed)
	case sqltype.Date:
		return call("hashint4extended", "("+x+" - DATE '2000-01-01')")
	case sqltype.Time:
		return call("time_hash_extended", x)
	case sqltype.Timestamp:
		return call("timestamp_hash_extended", x)
	case sqltype.TimestampTZ:
		return call("timestamp_hash_extended", "timezone('UTC', "+x+")")
	case sqltype.UUID:
		return call("uuid_hash_extended", x)
	case sqltype.Char:
		return call("hashbpcharextended", x)
	case sqltype.None, sqltype.Text, sqltype.VarChar:
	}
	return call("hashtextextended", x+` COLLATE "C"`)
}

// of is the hash of a value as binary COPY has it.
func (c *summed) of(v []byte, seed uint64) uint64 {
	be := binary.BigEndian
	switch c.typ.Kind {
	case sqltype.Boolean:
		return hash32(uint32(v[0]), seed)
	case sqltype.SmallInt:
		return hash32(uint32(int16(be.Uint16(v))), seed)
	case sqltype.Integer, sqltype.Date:
		return hash32(be.Uint32(v), seed)
	case sqltype.BigInt, sqltype.Time, sqltype.Timestamp, sqltype.TimestampTZ:
		return hash64(int64(be.Uint64(v)), seed)
	case sqltype.Double:
		n := be.Uint64(v)
		if n<<1 == 0 {
			return seed
		}
		var b [8]byte
		binary.LittleEndian.PutUint64(b[:], n)
		return hashBytes(b[:], seed)
	case sqltype.Decimal:
		n, weight, negative := int(be.Uint16(v)), int16(be.Uint16(v[2:])), v[4] != 0
		if negative {
			seed++
		}
		if n == 0 {
			return seed - 1
		}
		var groups [64]byte // the server's memory has them in its own byte order
		for i := range n {
			groups[2*i], groups[2*i+1] = v[8+2*i+1], v[8+2*i]
		}
		return hashBytes(groups[:2*n], seed) ^ uint64(int64(weight))
	case sqltype.Char:
		for len(v) > 0 && v[len(v)-1] == ' ' {
			v = v[:len(v)-1]
		}
	case sqltype.None, sqltype.Text, sqltype.UUID, sqltype.VarChar:
	}
	return hashBytes(v, seed)
}

// rowSums adds up the checksums of rows as binary COPY has them, column by column: the hash of a
// value waits for the one before, but that of a row for no other. at is where the fields' lengths
// stand, and sums is memory.
func rowSums(columns []summed, rows []byte, at []uint32, sums []uint64) (sum uint64) {
	width := len(columns)
	sums = sums[:len(at)/width]
	clear(sums)
	for i := range columns {
		c := &columns[i]
		for k := range sums {
			field := rows[at[k*width+i]:]
			n := int32(binary.BigEndian.Uint32(field))
			switch {
			case n < 0: // also where that will be refused
				sums[k] = hash64(int64(-1-i), sums[k])
			case !c.nullable:
				sums[k] = c.of(field[4:4+n], sums[k])
			default:
				sums[k] = hash64(int64(c.of(field[4:4+n], uint64(i+1))), sums[k])
			}
		}
	}
	for _, x := range sums {
		sum += x
	}
	return sum
}

// hash32 is hash_bytes_uint32_extended of src/common/hashfn.c.
func hash32(k uint32, seed uint64) uint64 {
	a, b, c := begin(4, seed)
	a += k
	return final(a, b, c)
}

// hash64 is hashint8extended of src/backend/access/hash/hashfunc.c.
func hash64(k int64, seed uint64) uint64 {
	high := uint32(k >> 32)
	if k < 0 {
		high = ^high
	}
	return hash32(uint32(k)^high, seed)
}

// hashBytes is hash_bytes_extended of src/common/hashfn.c, for servers whose
// lowest byte comes first.
func hashBytes(k []byte, seed uint64) uint64 {
	a, b, c := begin(len(k), seed)
	le := binary.LittleEndian
	for len(k) >= 12 {
		a += le.Uint32(k)
		b += le.Uint32(k[4:])
		c += le.Uint32(k[8:])
		a, b, c = mix(a, b, c)
		k = k[12:]
	}
	switch {
	case len(k) >= 8:
		// The lowest byte of the third word is the length's.
		return final(a+le.Uint32(k), b+le.Uint32(k[4:]), c+few(k[8:])<<8)
	case len(k) >= 4:
		return final(a+le.Uint32(k), b+few(k[4:]), c)
	}
	return final(a+few(k), b, c)
}

// few are up to three bytes.
func few(k []byte) (x uint32) {
	if len(k) > 0 {
		x = uint32(k[0])
	}
	if len(k) > 1 {
		x |= uint32(k[1]) << 8
	}
	if len(k) > 2 {
		x |= uint32(k[2]) << 16
	}
	return x
}

func begin(length int, seed uint64) (a, b, c uint32) {
	a = 0x9e3779b9 + uint32(length) + 3923095
	b, c = a, a
	if seed != 0 {
		a += uint32(seed >> 32)
		b += uint32(seed)
		return mix(a, b, c)
	}
	return a, b, c
}

func mix(a, b, c uint32) (uint32, uint32, uint32) {
	a -= c
	a ^= bits.RotateLeft32(c, 4)
	c += b
	b -= a
	b ^= bits.RotateLeft32(a, 6)
	a += c
	c -= b
	c ^= bits.RotateLeft32(b, 8)
	b += a
	a -= c
	a ^= bits.RotateLeft32(c, 16)
	c += b
	b -= a
	b ^= bits.RotateLeft32(a, 19)
	a += c
	c -= b
	c ^= bits.RotateLeft32(b, 4)
	b += a
	return a, b, c
}

func final(a, b, c uint32) uint64 {
	c ^= b
	c -= bits.RotateLeft32(b, 14)
	a ^= c
	a -= bits.RotateLeft32(c, 11)
	b ^= a
	b -= bits.RotateLeft32(a, 25)
	c ^= b
	c -= bits.RotateLeft32(b, 16)
	a ^= c
	a -= bits.RotateLeft32(c, 4)
	b ^= a
	b -= bits.RotateLeft32(a, 14)
	c ^= b
	c -= bits.RotateLeft32(b, 24)
	return uint64(b)<<32 | uint64(c)
}

// summing is an encoder that makes checksums, too.
type summing struct {
	binaryEncoder
	columns []summed
	sum     uint64
	sums    []uint64 // memory
}

// Append implements sink.Encoder.
func (e *summing) Append(b []byte, row []reading.Value) []byte { return e.AppendRows(b, row, len(row)) }

// AppendRows implements sink.Taker.
func (e *summing) AppendRows(b []byte, values []reading.Value, width int) []byte {
	from := len(b)
	b = e.binaryEncoder.AppendRows(b, values, width)
	if n := len(values) / width; len(e.sums) < n {
		e.sums = make([]uint64, n)
	}
	e.sum += rowSums(e.columns, b[from:], e.at[:len(values)], e.sums)
	return b
}

// Sum implements sink.Summer.
func (e *summing) Sum() uint64 {
	sum := e.sum
	e.sum = 0
	return sum
}

// summedColumns are the columns of a load into a table that holds nothing
// else, or nil where there are to be no checksums.
func (l *load) summedColumns(ctx context.Context, found *db.Table) (out []summed, err error) {
	// PostgreSQL 11 brought these functions.
	if l.d.version() < 11 || !l.binary {
		return nil, nil
	}
	if l.spec.Mode == db.Append {
		var some bool
		if err := l.tx.QueryRow(ctx, "SELECT EXISTS (SELECT FROM "+l.table+")").Scan(&some); err != nil {
			return nil, l.d.fail("cannot be read", err)
		}
		if some || l.spec.Steps != "" {
			return nil, nil
		}
	}
	for _, c := range l.spec.Table.Columns {
		s := summed{name: quote(c.Name), typ: c.Type, nullable: true}
		for _, f := range found.Columns {
			if f.Name == c.Name && f.Keeps.Labels != nil {
				return nil, nil // what is hashed are its numbers
			}
			if f.Name == c.Name {
				s.nullable = !f.Required
			}
		}
		out = append(out, s)
	}
	return out, nil
}

// Check implements db.Checker.
func (l *load) Check(ctx context.Context) (*db.Checks, error) {
	if l.sums == nil {
		return nil, nil
	}
	if !l.d.inUTF8() && slices.ContainsFunc(l.sums, func(c summed) bool { return c.typ.IsText() }) {
		return nil, nil // what is hashed are bytes of another encoding
	}
	if same, err := l.sameHash(ctx); err != nil || !same {
		return nil, err
	}
	if err := useProcessors(ctx, l.tx); err != nil {
		return nil, l.d.fail("cannot be set up", err)
	}
	columns := l.spec.Table.Columns
	list := []string{"count(*)::text", "coalesce(sum(" + checksum(l.sums) + "), 0)::text"}
	for _, c := range columns {
		if db.HasTotal(c.Type) {
			list = append(list, l.d.facts(quote(c.Name), c.Type, false)[1])
		}
	}
	got, err := texts(ctx, l.tx, list, l.table)
	if err != nil {
		return nil, l.d.fail("cannot be checked", err)
	}
	var c db.Checks
	if c.Rows, err = strconv.ParseInt(*got[0], 10, 64); err != nil {
		return nil, l.d.fail("cannot be checked", err)
	}
	sum, is := new(big.Int).SetString(*got[1], 10)
	if !is {
		return nil, l.d.fail("cannot be checked: the sum is "+*got[1], nil)
	}
	word := new(big.Int).Lsh(big.NewInt(1), 64)
	c.Sum = sum.Mod(sum, word).Uint64()
	if c.Totals, err = db.ParseTotals(columns, db.HasTotal, got[2:]); err != nil {
		return nil, l.d.fail("cannot be checked", err)
	}
	return &c, nil
}

// sameHash asks the server for the checksum of a row of constants.
func (l *load) sameHash(ctx context.Context) (bool, error) {
	var values []string
	var types []sqltype.Type
	var row []reading.Value
	columns := append([]summed(nil), l.sums...)
	for i := range columns {
		c := &columns[i]
		d := dialect.Column{Type: c.typ}
		text, v := db.Sample(c.typ)
		c.name = fmt.Sprintf("c%d", i)
		values = append(values, fmt.Sprintf("%s::%s AS %s", Dialect.Literal(d, text), Dialect.Type(d, false), c.name))
		types, row = append(types, c.typ), append(row, v)
	}
	// A server that only speaks like PostgreSQL may not have the functions.
	if err := l.d.simple(ctx, "SAVEPOINT trial"); err != nil {
		return false, err
	}
	var got int64
	err := l.tx.QueryRow(ctx, fmt.Sprintf("SELECT %s FROM (SELECT %s) x", checksum(columns),
		strings.Join(values, ", "))).Scan(&got)
	var refused *pgconn.PgError
	if errors.As(err, &refused) {
		return false, l.d.simple(ctx, "ROLLBACK TO trial; RELEASE trial")
	}
	if err == nil {
		err = l.d.simple(ctx, "RELEASE trial")
	}
	if err != nil {
		return false, l.d.fail("cannot compute checksums", err)
	}
	e := summing{binaryEncoder: binaryEncoder{types: types}, columns: columns}
	e.Append(nil, row)
	return uint64(got) == e.Sum(), nil
}
