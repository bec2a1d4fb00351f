package sqlserver

import (
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"strings"
	"time"
	"unicode/utf16"

	driver "github.com/microsoft/go-mssqldb"
)

// rows are sent as a message of the kind for rows in bulk ([MS-TDS] 2.2.6.1), beneath the
// driver, when it has sent the INSERT BULK and has nothing on the way.

// An outlet cuts what is written into packets of one message.
type outlet struct {
	w    *wire
	buf  []byte
	room int // where the content of the packet begins
	id   byte
	err  error
}

// newOutlet begins a message.
func (w *wire) newOutlet() *outlet { return &outlet{w: w, buf: make([]byte, headerSize, 64<<10)} }

// write adds to the message. What is full goes out.
func (o *outlet) write(b []byte) {
	for len(b) > 0 && o.err == nil {
		n := min(len(b), o.w.size-(len(o.buf)-o.room))
		o.buf = append(o.buf, b[:n]...)
		if b = b[n:]; len(o.buf)-o.room == o.w.size {
			o.packet(false)
		}
	}
}

// packet ends a packet, and begins the next. Several go out at once.
func (o *outlet) packet(last bool) {
	n := len(o.buf) - o.room
	o.id++
	head := appendHeader(o.buf[o.room:o.room], packBulk, n-headerSize, last, o.id)
	o.room += len(head) - headerSize + n
	if last || len(o.buf)+o.w.size > cap(o.buf) {
		if o.err == nil {
			_, o.err = o.w.Conn.Write(o.buf)
		}
		o.buf, o.room = o.buf[:0], 0
	}
	o.buf = append(o.buf, make([]byte, headerSize)...)
}

// A bulk is what comes before rows: the statement, and what their columns are. A numbered
// one has the number of each row, from first on, as a column before the others.
type bulk struct {
	statement   string
	description []byte
	first       int64
	numbered    bool
}

// sendRows sends rows that an encoder has made, each behind its length, and returns the
// server's refusal.
func (d *DB) sendRows(ctx context.Context, k *bulk, rows []byte) (*driver.Error, error) {
	if _, err := d.c.ExecContext(ctx, k.statement); err != nil {
		if m := asServer(err); m != nil {
			return nil, d.fail("refuses rows in bulk", err)
		}
		return nil, err
	}
	w := d.wire
	w.Conn.SetDeadline(time.Time{})                           // which the driver may have set for what it did
	stop := context.AfterFunc(ctx, func() { w.Conn.Close() }) // what is on its way is not wanted
	defer stop()
	o := w.newOutlet()
	o.write(k.description)
	head := []byte{tokenRow, 8, 0, 0, 0, 0, 0, 0, 0, 0}
	for number := k.first; len(rows) > 0; number++ {
		n := int(binary.LittleEndian.Uint32(rows))
		row := rows[4 : 4+n]
		if k.numbered {
			binary.LittleEndian.PutUint64(head[2:], uint64(number))
			o.write(head)
			row = row[1:]
		}
		o.write(row)
		rows = rows[4+n:]
	}
	o.write([]byte{tokenDone, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0})
	o.packet(true)
	if o.err != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		return nil, o.err
	}
	m, err := w.answerOf()
	if err != nil && ctx.Err() != nil {
		return nil, ctx.Err()
	}
	return m, err
}

// answerOf reads the server's answer to a message, and returns the first error in it.
func (w *wire) answerOf() (*driver.Error, error) {
	var b []byte
	for last := false; !last; {
		p, err := readPacket(w.Conn)
		if err != nil {
			return nil, err
		}
		if p[0] != packReply {
			return nil, fmt.Errorf("a packet of type %d instead of an answer", p[0])
		}
		last = p[1]&statusEnd != 0
		b = append(b, p[headerSize:]...)
	}
	var first *driver.Error
	for len(b) > 0 {
		n := 0
		switch b[0] {
		case tokenChange, tokenInfo, tokenError:
			if len(b) < 3 {
				return nil, io.ErrUnexpectedEOF
			}
			n = 3 + int(binary.LittleEndian.Uint16(b[1:]))
		case tokenDone, tokenDoneProc, tokenDoneIn:
			n = 13
		case tokenReturn:
			n = 5
		default:
			return nil, fmt.Errorf("a token %#x in the answer to rows in bulk", b[0])
		}
		if len(b) < n {
			return nil, io.ErrUnexpectedEOF
		}
		if b[0] == tokenError && first == nil {
			first = errorToken(b[3:n])
		}
		if b[0] == tokenDone && b[1]&2 != 0 && first == nil {
			first = &driver.Error{Number: 4816, Message: "the server could not take the rows, and did not say why"}
		}
		b = b[n:]
	}
	return first, nil
}

// errorToken reads an error ([MS-TDS] 2.2.7.10).
func errorToken(b []byte) *driver.Error {
	e := &driver.Error{}
	if len(b) < 8 {
		return e
	}
	e.Number, e.State, e.Class = int32(binary.LittleEndian.Uint32(b)), b[4], b[5]
	n := 2 * int(binary.LittleEndian.Uint16(b[6:]))
	if text := b[8:]; n <= len(text) {
		u := make([]uint16, n/2)
		for i := range u {
			u[i] = binary.LittleEndian.Uint16(text[2*i:])
		}
		e.Message = strings.TrimSpace(string(utf16.Decode(u)))
	}
	return e
}
