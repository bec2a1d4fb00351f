package workbook

import (
	"bufio"
	"crypto/md5"
	"crypto/rc4"
	"crypto/sha1"
	"encoding/binary"
	"errors"
	"fmt"
	"io"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/japanese"
	"golang.org/x/text/encoding/korean"
	"golang.org/x/text/encoding/simplifiedchinese"
	"golang.org/x/text/encoding/traditionalchinese"
)

// The records of an older workbook that are read ([MS-XLS] 2.3).
const (
	recFormula     = 0x06
	recEOF         = 0x0a
	recExternSheet = 0x17
	recName        = 0x18
	recDate1904    = 0x22
	recFilePass    = 0x2f
	recContinue    = 0x3c
	recCodePage    = 0x42
	recBoundSheet  = 0x85
	recColInfo     = 0x7d
	recMulRk       = 0xbd
	recRString     = 0xd6
	recXF          = 0xe0
	recMergeCells  = 0xe5
	recSST         = 0xfc
	recLabelSST    = 0xfd
	recSupBook     = 0x1ae
	recNumber      = 0x203
	recLabel       = 0x204
	recBoolErr     = 0x205
	recString      = 0x207
	recRow         = 0x208
	recRk          = 0x27e
	recFormat      = 0x41e
	recBOF         = 0x809
)

// biff reads the records of a stream one after the other.
type biff struct {
	r    *bufio.Reader
	typ  int
	data []byte
	at   int64 // in the stream, behind the record
	key  *rc4Key
	next int // type of the next record, once it has been looked at; -1: not yet
	size int
}

func newBIFF(r io.Reader, at int64, key *rc4Key) *biff {
	return &biff{r: bufio.NewReaderSize(r, 64<<10), at: at, key: key, next: -1}
}

// peek looks at the type of the next record; false is the end of the stream.
func (r *biff) peek() (typ int, more bool, err error) {
	if r.next < 0 {
		var head [4]byte
		if _, err := io.ReadFull(r.r, head[:]); err == io.EOF {
			return 0, false, nil
		} else if err != nil {
			return 0, false, errEnds
		}
		r.at += 4
		r.next, r.size = int(binary.LittleEndian.Uint16(head[:])), int(binary.LittleEndian.Uint16(head[2:]))
	}
	return r.next, true, nil
}

var errEnds = errors.New("the workbook is damaged: it ends within a record")

// read reads the next record; false is the end of the stream.
func (r *biff) read() (more bool, err error) {
	if r.typ, more, err = r.peek(); err != nil || !more {
		return false, err
	}
	if cap(r.data) < r.size {
		r.data = make([]byte, max(r.size, 8224))
	}
	r.data = r.data[:r.size]
	if _, err := io.ReadFull(r.r, r.data); err != nil {
		return false, errEnds
	}
	if r.key != nil {
		r.key.decrypt(r.typ, r.data, r.at)
	}
	r.at += int64(r.size)
	r.next = -1
	return true, nil
}

// chars appends a text of n characters that begins at a place of the record at hand, with
// the flags before it, and may go on in others: each has flags of its own ([MS-XLS]
// 2.5.293, 2.5.294). It returns the place behind it.
func (r *biff) chars(b []byte, n, at int, flags byte) (_ []byte, _ int, err error) {
	for n > 0 {
		if at >= len(r.data) {
			if flags, err = r.goOn(); err != nil {
				return b, 0, err
			}
			at = 1
			continue
		}
		if flags&1 != 0 {
			k := min(n, (len(r.data)-at)/2)
			if k == 0 {
				return b, 0, errEnds // half of a character
			}
			b = appendUTF16(b, r.data[at:at+2*k])
			n, at = n-k, at+2*k
			continue
		}
		k := min(n, len(r.data)-at)
		for _, c := range r.data[at : at+k] {
			b = appendUTF16(b, []byte{c, 0})
		}
		n, at = n-k, at+k
	}
	return b, at, nil
}

// goOn reads a record that goes on with the one at hand, and returns its first byte.
func (r *biff) goOn() (byte, error) {
	typ, more, err := r.peek()
	if err != nil || !more || typ != recContinue || r.size == 0 {
		return 0, errEnds
	}
	if _, err := r.read(); err != nil {
		return 0, err
	}
	return r.data[0], nil
}

// skip passes over n bytes, which may go on in other records.
func (r *biff) skip(n, at int) (int, error) {
	for n > len(r.data)-at {
		n -= len(r.data) - at
		if _, err := r.goOn(); err != nil {
			return 0, err
		}
		at = 0
	}
	return at + n, nil
}

// An rc4Key decrypts a stream ([MS-OFFCRYPTO] 2.3.5, 2.3.6): each 1024 bytes of it have a
// key of their own.
type rc4Key struct {
	base  []byte // what the keys are made of
	sha   bool   // they are made by SHA-1, else by MD5
	bytes int    // of a key, where they are made by SHA-1
	block int64
	c     *rc4.Cipher
	used  int // bytes of its block
}

// defaultPassword is the one with which workbooks are obscured that nobody has given a
// password ([MS-OFFCRYPTO] 2.4.2.3 names it for the purpose).
const defaultPassword = "VelvetSweatshop"

func (k *rc4Key) cipher(block int64) *rc4.Cipher {
	in := binary.LittleEndian.AppendUint32(append([]byte(nil), k.base...), uint32(block))
	var key []byte
	if k.sha {
		sum := sha1.Sum(in)
		if key = sum[:k.bytes]; k.bytes == 5 {
			key = append(append([]byte(nil), key...), make([]byte, 11)...)
		}
	} else {
		sum := md5.Sum(in)
		key = sum[:]
	}
	c, _ := rc4.NewCipher(key) // keys of 5 to 16 bytes are fine
	return c
}

// clearRecord reports whether a record is one that is not encrypted ([MS-XLS] 2.2.10).
func clearRecord(typ int) bool {
	switch typ {
	case recBOF, recFilePass, 0xe1, 0x138, 0x194, 0x195, 0x196:
		return true
	}
	return false
}

// decrypt decrypts the data of a record that begins at a place of the stream.
func (k *rc4Key) decrypt(typ int, data []byte, at int64) {
	from := 0
	if clearRecord(typ) {
		return
	}
	if typ == recBoundSheet {
		from = min(4, len(data)) // where the sheet begins
	}
	for i := from; i < len(data); {
		block, in := (at+int64(i))/1024, int((at+int64(i))%1024)
		if k.c == nil || block != k.block || in < k.used {
			k.c, k.block, k.used = k.cipher(block), block, 0
		}
		if skip := in - k.used; skip > 0 {
			var none [1024]byte
			k.c.XORKeyStream(none[:skip], none[:skip])
		}
		n := min(1024-in, len(data)-i)
		k.c.XORKeyStream(data[i:i+n], data[i:i+n])
		k.used = in + n
		i += n
	}
}

// keyOf makes the key of a workbook that is obscured with the default password; with
// another one, it is ErrEncrypted.
func keyOf(pass []byte, old bool) (*rc4Key, error) {
	f := field{b: pass}
	if old || f.u16() != 1 {
		return nil, ErrEncrypted
	}
	major, minor := f.u16(), f.u16()
	var password []byte
	for _, c := range defaultPassword {
		password = append(password, byte(c), 0)
	}
	var key *rc4Key
	var verifier, sum []byte
	switch {
	case major == 1 && minor == 1:
		salt := f.take(16)
		verifier, sum = f.take(16), f.take(16)
		first := md5.Sum(password)
		var in []byte
		for range 16 {
			in = append(append(in, first[:5]...), salt...)
		}
		second := md5.Sum(in)
		key = &rc4Key{base: second[:5]}
	case minor == 2 && major >= 2 && major <= 4:
		f.take(4)
		header := field{b: f.take(int(f.u32()))}
		header.take(16)
		bits := int(header.u32())
		if bits == 0 {
			bits = 40
		}
		if bits < 40 || bits > 128 || bits%8 != 0 || f.u32() != 16 {
			return nil, ErrEncrypted
		}
		salt := f.take(16)
		verifier = f.take(16)
		sum = f.take(min(int(f.u32()), 20))
		first := sha1.Sum(append(append([]byte(nil), salt...), password...))
		key = &rc4Key{base: first[:], sha: true, bytes: bits / 8}
	default:
		return nil, ErrEncrypted
	}
	if f.bad {
		return nil, fmt.Errorf("the workbook is damaged: what says how it is encrypted is too short")
	}
	c := key.cipher(0)
	plain, is := make([]byte, len(verifier)), make([]byte, len(sum))
	c.XORKeyStream(plain, verifier)
	c.XORKeyStream(is, sum)
	var want []byte
	if key.sha {
		s := sha1.Sum(plain)
		want = s[:]
	} else {
		s := md5.Sum(plain)
		want = s[:]
	}
	if string(want) != string(is) {
		return nil, ErrEncrypted
	}
	return key, nil
}

// codePage is the encoding of texts in bytes, by its number ([MS-XLS] 2.4.52); others than
// these are read as Windows-1252.
func codePage(n int) encoding.Encoding {
	switch n {
	case 437:
		return charmap.CodePage437
	case 850:
		return charmap.CodePage850
	case 852:
		return charmap.CodePage852
	case 866:
		return charmap.CodePage866
	case 874:
		return charmap.Windows874
	case 932:
		return japanese.ShiftJIS
	case 936:
		return simplifiedchinese.GBK
	case 949:
		return korean.EUCKR
	case 950:
		return traditionalchinese.Big5
	case 1250:
		return charmap.Windows1250
	case 1251:
		return charmap.Windows1251
	case 1253:
		return charmap.Windows1253
	case 1254:
		return charmap.Windows1254
	case 1255:
		return charmap.Windows1255
	case 1256:
		return charmap.Windows1256
	case 1257:
		return charmap.Windows1257
	case 1258:
		return charmap.Windows1258
	case 10000, 0x8000:
		return charmap.Macintosh
	}
	return charmap.Windows1252
}
