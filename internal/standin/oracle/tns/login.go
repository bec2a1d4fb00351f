package tns

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha512"
	"encoding/hex"
	"fmt"
	"strings"

	"ambertray/internal/standin/oracle/engine"
)

// The kinds of messages.
const (
	sayProtocol  = 1
	sayTypes     = 2
	sayCall      = 3
	sayEnd       = 4
	sayRowHeader = 6
	sayRow       = 7
	sayReturn    = 8
	sayLob       = 14
	sayColumns   = 16
	sayBefore    = 17
	sayState     = 23
)

// The calls.
const (
	callReexecute      = 4
	callFetch          = 5
	callLogoff         = 9
	callCommit         = 14
	callRollback       = 15
	callVersion        = 59
	callReexecuteFetch = 78
	callExecute        = 94
	callLob            = 96
	callClose          = 105
	callLoginTwo       = 115
	callLoginOne       = 118
	callCancel         = 120
	callPing           = 147
)

// The character sets AL32UTF8 and AL16UTF16.
const (
	charset   = 873
	ncharset  = 2000
	verifier  = 18453 // of version 12: PBKDF2 and SHA-512
	turns     = 4096
	moreTurns = 3
)

// compileCaps and runtimeCaps say what the server can: version 18 of the calls' form, large
// pieces, the newer login, an end-of-call status, no texts above 4,000 bytes.
func compileCaps() []byte {
	c := make([]byte, 45)
	c[0], c[1] = 6, 1
	c[4] = 2 | 8 | 32 | 64 | 128
	c[7] = fieldVersion
	c[8], c[9] = 1, 1
	c[15] = 1
	c[16] = 1
	c[27] = 1
	c[37] = 32
	return c
}

const fieldVersion = 11

func runtimeCaps() []byte { return []byte{2, 1, 0, 0, 0, 0, 0} }

// protocol answers what the client says of its protocol.
func (k *conn) protocol() {
	l := k.line
	for l.byte() != 0 { // versions
	}
	for l.byte() != 0 { // the client's name
	}
	l.putByte(sayProtocol, 6, 0)
	l.putByte([]byte("Harrowmere stand-in, x86_64\x00")...)
	l.putByte(charset&0xff, charset>>8, 1, 0, 0)
	fdo := make([]byte, 16)
	fdo[9], fdo[10] = ncharset>>8, ncharset&0xff
	l.putByte(0, byte(len(fdo)))
	l.putByte(fdo...)
	l.putBytes(compileCaps())
	l.putBytes(runtimeCaps())
}

// types answers how the client writes types. Of all that it says, two things matter here: the
// scale of a column is a byte, or an integer, and whether it wants to know the server's zone.
func (k *conn) types() {
	l := k.line
	rest := string(l.in)
	l.in = nil
	k.scaleIsByte = strings.Contains(rest, "\x00\x1b\x00\x1b\x00\x0a")
	l.putByte(sayTypes)
	if wantsZone(rest) {
		l.putByte(0x80, 0, 0, 0, 60, 60, 60, 0x80, 0, 0, 0) // UTC
	}
	l.putByte(0, 0)
}

// wantsZone looks at what the client can at run time: that stands behind its two character
// sets, a byte, and what it was compiled for.
func wantsZone(said string) bool {
	const sets = 5
	if len(said) <= sets {
		return false
	}
	at := sets + 1 + int(said[sets])
	return len(said) > at+2 && said[at] > 1 && said[at+2]&1 != 0
}

// credentials are what a login is checked with.
type credentials struct {
	user                     string
	password                 string
	known                    bool
	salt, mix, session, hash []byte
}

func random(n int) []byte {
	b := make([]byte, n)
	rand.Read(b)
	return b
}

// stretched is PBKDF2 with SHA-512, of one block (RFC 8018, section 5.2).
func stretched(password, salt []byte, turns int) []byte {
	mac := hmac.New(sha512.New, password)
	mac.Write(append(append([]byte{}, salt...), 0, 0, 0, 1))
	u := mac.Sum(nil)
	out := append([]byte{}, u...)
	for range turns - 1 {
		mac.Reset()
		mac.Write(u)
		u = mac.Sum(nil)
		for i := range out {
			out[i] ^= u[i]
		}
	}
	return out
}

func enciphered(key, b []byte) []byte {
	blk, _ := aes.NewCipher(key)
	out := make([]byte, len(b))
	cipher.NewCBCEncrypter(blk, make([]byte, aes.BlockSize)).CryptBlocks(out, b)
	return out
}

func deciphered(key, b []byte) []byte {
	blk, _ := aes.NewCipher(key)
	out := make([]byte, len(b))
	cipher.NewCBCDecrypter(blk, make([]byte, aes.BlockSize)).CryptBlocks(out, b)
	return out
}

// userAndPairs reads a login's user and what it says beside.
func (k *conn) userAndPairs() (user string, pairs map[string]string) {
	l := k.line
	has := l.byte()
	l.int() // length
	l.int() // mode
	l.byte()
	n := l.int()
	l.skip(2)
	if has != 0 {
		user = string(l.bytes())
	}
	pairs = map[string]string{}
	for range n {
		key := string(l.long())
		pairs[key] = strings.TrimRight(string(l.long()), "\x00")
		l.int()
	}
	return user, pairs
}

// loginOne tells the client what to make its key of.
func (k *conn) loginOne() {
	l := k.line
	c := &k.login
	c.user, _ = k.userAndPairs()
	c.user = strings.ToUpper(c.user)
	c.password, c.known = k.srv.Engine.Password(c.user)
	c.salt, c.mix, c.session = random(16), random(16), random(32)
	speedy := stretched([]byte(c.password), append(append([]byte{}, c.salt...), "AUTH_PBKDF2_SPEEDY_KEY"...), turns)
	sum := sha512.Sum512(append(speedy, c.salt...))
	c.hash = sum[:32]
	l.putByte(sayReturn)
	l.putInt(5)
	l.putPair("AUTH_SESSKEY", fmt.Sprintf("%X", enciphered(c.hash, c.session)), 0)
	l.putPair("AUTH_VFR_DATA", fmt.Sprintf("%X", c.salt), verifier)
	l.putPair("AUTH_PBKDF2_CSK_SALT", fmt.Sprintf("%X", c.mix), 0)
	l.putPair("AUTH_PBKDF2_VGEN_COUNT", fmt.Sprint(turns), 0)
	l.putPair("AUTH_PBKDF2_SDER_COUNT", fmt.Sprint(moreTurns), 0)
	k.end(nil, 0, 0)
}

// loginTwo looks at the password, and lets the client in.
func (k *conn) loginTwo() bool {
	l := k.line
	_, pairs := k.userAndPairs()
	combined, ok := k.login.check(pairs)
	if !ok {
		k.end(&engine.Error{Number: 1017, Text: "invalid username/password; logon denied"}, 0, 0)
		return false
	}
	k.session = k.srv.Engine.Login(k.login.user, pairs["SESSION_CLIENT_DRIVER_NAME"])
	// What the language is, so that clients do not ask.
	l.putByte(sayState, 5)
	l.putInt(0)
	l.putByte(0)
	l.putInt(1)
	l.putByte(0)
	l.putPair("", "AMERICAN", 16)
	l.putInt(0)
	answer := [][2]string{
		{"AUTH_SVR_RESPONSE", fmt.Sprintf("%X", enciphered(combined, append(random(16), "SERVER_TO_CLIENT"...)))},
		{"AUTH_VERSION_NO", fmt.Sprint(k.version())}, {"AUTH_SESSION_ID", fmt.Sprint(k.session.ID)},
		{"AUTH_SERIAL_NUM", "1"}, {"AUTH_SC_INSTANCE_NAME", "canal"}, {"AUTH_INSTANCENAME", "canal"},
		{"AUTH_SC_SERVICE_NAME", engine.Service}, {"AUTH_SC_DB_DOMAIN", ""}, {"AUTH_SC_DBUNIQUE_NAME", "canal"},
		{"AUTH_SC_REAL_DBUNIQUE_NAME", "canal"}, {"AUTH_DBNAME", engine.Service}, {"AUTH_MAX_OPEN_CURSORS", "300"},
		{"AUTH_MAX_IDEN_LENGTH", "128"}, {"AUTH_VERSION_STRING", "- Production"}}
	l.putByte(sayReturn)
	l.putInt(int64(len(answer)))
	for _, p := range answer {
		l.putPair(p[0], p[1], 0)
	}
	k.end(nil, 0, 0)
	return true
}

// check tells whether the client has the password, and the key that both have made.
func (c *credentials) check(pairs map[string]string) (combined []byte, ok bool) {
	theirs, err := hex.DecodeString(pairs["AUTH_SESSKEY"])
	if err != nil || len(theirs) != 32 || !c.known || c.hash == nil {
		return nil, false
	}
	both := append(deciphered(c.hash, theirs), c.session...)
	combined = stretched([]byte(fmt.Sprintf("%X", both)), c.mix, moreTurns)[:32]
	given, err := hex.DecodeString(pairs["AUTH_PASSWORD"])
	if err != nil || len(given) < 32 || len(given)%aes.BlockSize != 0 {
		return nil, false
	}
	plain := deciphered(combined, given)[16:]
	if n := int(plain[len(plain)-1]); n > 0 && n <= aes.BlockSize && n <= len(plain) {
		plain = plain[:len(plain)-n]
	}
	return combined, hmac.Equal(plain, []byte(c.password))
}

// version is the server's as a number of four bytes.
func (k *conn) version() int64 {
	var v [5]int64
	fmt.Sscanf(k.srv.Engine.Version, "%d.%d.%d.%d.%d", &v[0], &v[1], &v[2], &v[3], &v[4])
	if v[0] >= 18 {
		return v[0]<<24 | v[1]<<16 | v[2]<<12 | v[3]<<4 | v[4]
	}
	return v[0]<<24 | v[1]<<20 | v[2]<<12 | v[3]<<8 | v[4]
}
