package tray

import (
	"bufio"
	"bytes"
	"crypto/ed25519"
	"crypto/rand"
	"crypto/sha256"
	"crypto/x509"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"time"
)

// ChainFile lies in the tray. It has a line for each time that the papers of an entry
// were settled: at the load, and when its rejects were mended or waived. Lines are only
// added. Each has the hash of the one before, so that none can be changed or taken out
// of the middle without all that follow telling.
const ChainFile = "chain.jsonl"

// A Link is a line of the chain, in JSON.
type Link struct {
	Number int64     `json:"number"` // from 1
	At     time.Time `json:"at"`
	Entry  string    `json:"entry,omitempty"`
	// Papers are the SHA-256 of the entry's papers, but for those that people correct and
	// the log.
	Papers map[string]string `json:"papers,omitempty"`
	// Previous is the SHA-256 of the line before, without its end; of the first, nothing.
	Previous string `json:"previous"`
	// Key and Signature are of a line that signs all before it: an Ed25519 signature (RFC
	// 8032) of Previous, in base64.
	Key       string `json:"key,omitempty"`
	Signature string `json:"signature,omitempty"`
}

// papers are the files of an entry that nobody changes, with their hashes: of the receipt
// that is named, or of the one that is prepared.
func (e *Entry) papers(prepared bool) (map[string]string, error) {
	names := []string{PlanFile, TableFile, OriginalFile, ReceiptFile, BeforeFile, BeforePlanFile}
	for _, pattern := range []string{"mend-*.csv", "refit-*.yaml"} {
		more, err := filepath.Glob(e.Path(pattern))
		if err != nil {
			return nil, err
		}
		for _, m := range more {
			names = append(names, filepath.Base(m))
		}
	}
	out := map[string]string{}
	for _, n := range names {
		path := e.Path(n)
		if n == ReceiptFile && prepared {
			path += ".part"
		}
		f, err := os.Open(path)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		h := sha256.New()
		_, err = io.Copy(h, f)
		f.Close()
		if err != nil {
			return nil, err
		}
		out[n] = hex.EncodeToString(h.Sum(nil))
	}
	return out, nil
}

// seal adds the entry's papers, with the receipt that is prepared, to the chain of its
// tray.
func (e *Entry) seal() error {
	papers, err := e.papers(true)
	if err == nil {
		err = addLink(filepath.Dir(e.Dir), func(string) (*Link, error) {
			return &Link{Entry: e.Name, Papers: papers}, nil
		})
	}
	if err != nil {
		return fmt.Errorf("the papers of %s cannot be sealed: %w", e.Name, err)
	}
	return nil
}

// Sign adds a signature of all that the chain has.
func Sign(tray string, key ed25519.PrivateKey) (*Link, error) {
	made := &Link{}
	err := addLink(tray, func(previous string) (*Link, error) {
		if previous == "" {
			return nil, errors.New("the tray has no chain yet, so that there is nothing to sign")
		}
		sig, err := key.Sign(rand.Reader, []byte(previous), &ed25519.Options{})
		made.Key = base64.StdEncoding.EncodeToString(key.Public().(ed25519.PublicKey))
		made.Signature = base64.StdEncoding.EncodeToString(sig)
		return made, err
	})
	return made, err
}

// addLink adds what a function makes of the hash of the last line. Others that add to
// the chain are waited for.
func addLink(tray string, link func(previous string) (*Link, error)) (err error) {
	f, err := OpenFile(filepath.Join(tray, ChainFile), os.O_RDWR|os.O_CREATE)
	if err != nil {
		return err
	}
	defer func() {
		if err2 := f.Close(); err == nil {
			err = err2
		}
	}()
	for until := time.Now().Add(10 * time.Second); ; time.Sleep(5 * time.Millisecond) {
		if err = lockFile(f); err == nil {
			break
		}
		if time.Now().After(until) {
			return fmt.Errorf("%s is held by another program", ChainFile)
		}
	}
	last, end, err := lastLine(f)
	if err != nil {
		return err
	}
	before, previous := Link{}, ""
	if last != nil {
		if err := json.Unmarshal(last, &before); err != nil {
			return fmt.Errorf("the last line of %s is none of a chain", ChainFile)
		}
		previous = hashOf(last)
	}
	x, err := link(previous)
	if err != nil {
		return err
	}
	x.Number, x.At, x.Previous = before.Number+1, time.Now().UTC().Truncate(time.Millisecond), previous
	b, err := json.Marshal(x)
	if err != nil {
		return err
	}
	if err := f.Truncate(end); err != nil { // half a line, of a program that was ended
		return err
	}
	if _, err := f.WriteAt(append(b, '\n'), end); err != nil {
		return err
	}
	return f.Sync()
}

// lastLine is the last whole line of a file, and where it ends.
func lastLine(f *os.File) (line []byte, end int64, err error) {
	size, err := f.Seek(0, io.SeekEnd)
	if err != nil {
		return nil, 0, err
	}
	for n := int64(64 << 10); ; n *= 4 {
		from := max(size-n, 0)
		b := make([]byte, size-from)
		if _, err := f.ReadAt(b, from); err != nil && err != io.EOF {
			return nil, 0, err
		}
		i := bytes.LastIndexByte(b, '\n')
		if i < 0 && from == 0 {
			return nil, 0, nil
		}
		if j := bytes.LastIndexByte(b[:max(i, 0)], '\n'); i >= 0 && (j >= 0 || from == 0) {
			return b[j+1 : i], from + int64(i) + 1, nil
		}
	}
}

func hashOf(line []byte) string {
	sum := sha256.Sum256(line)
	return hex.EncodeToString(sum[:])
}

// A Chain is what is found of a tray's chain.
type Chain struct {
	Links int64 `json:"links"`
	// Broken says where it does not hold together.
	Broken []string `json:"broken,omitempty"`
	// Signed are the signatures that hold, the last of each key, of what comes before any
	// break.
	Signed []Signature `json:"signed,omitempty"`
	// latest is the last link of each entry.
	latest map[string]Link
}

// A Signature is by whom all links up to a number are signed.
type Signature struct {
	Key     string    `json:"key"` // of the signer, in base64
	At      time.Time `json:"at"`
	Through int64     `json:"through"`
}

// ReadChain reads a tray's chain, and sees whether it holds together. A tray without
// one has no links.
func ReadChain(tray string) (*Chain, error) {
	c := &Chain{latest: map[string]Link{}}
	f, err := os.Open(filepath.Join(tray, ChainFile))
	if errors.Is(err, fs.ErrNotExist) {
		return c, nil
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	previous := ""
	r := bufio.NewReader(f)
	for {
		line, err := r.ReadBytes('\n')
		if err == io.EOF {
			return c, nil // behind the last whole line
		}
		if err != nil {
			return nil, err
		}
		line = line[:len(line)-1]
		c.Links++
		c.add(line, previous)
		previous = hashOf(line)
	}
}

func (c *Chain) add(line []byte, previous string) {
	var x Link
	if err := json.Unmarshal(line, &x); err != nil {
		c.Broken = append(c.Broken, fmt.Sprintf("line %d is none of a chain", c.Links))
		return
	}
	switch {
	case x.Previous != previous:
		c.Broken = append(c.Broken, fmt.Sprintf("line %d does not follow on the one before, which was changed or "+
			"taken out",
			c.Links))
	case x.Number != c.Links:
		c.Broken = append(c.Broken, fmt.Sprintf("line %d has the number %d", c.Links, x.Number))
	}
	if x.Signature == "" {
		c.latest[x.Entry] = x
		return
	}
	key, err1 := base64.StdEncoding.DecodeString(x.Key)
	sig, err2 := base64.StdEncoding.DecodeString(x.Signature)
	if err1 != nil || err2 != nil || len(key) != ed25519.PublicKeySize ||
		!ed25519.Verify(key, []byte(x.Previous), sig) {
		c.Broken = append(c.Broken, fmt.Sprintf("the signature in line %d is not of what stands before it", c.Links))
		return
	}
	if len(c.Broken) > 0 {
		return // of what, nobody knows
	}
	c.Signed = slices.DeleteFunc(c.Signed, func(s Signature) bool { return s.Key == x.Key })
	c.Signed = append(c.Signed, Signature{x.Key, x.At, c.Links - 1})
}

// A Sealed says whether the papers of an entry are as they were sealed.
type Sealed struct {
	Entry string `json:"entry"`
	// Link is the number of its last link; 0: it was never sealed.
	Link int64     `json:"link"`
	At   time.Time `json:"at,omitzero"`
	// Changed are papers that are not what they were, or not there.
	Changed []string `json:"changed,omitempty"`
	// SignedBy are the keys that have signed the link.
	SignedBy []string `json:"signed_by,omitempty"`
}

// Sealed compares the papers of an entry with its last link.
func (c *Chain) Sealed(e *Entry) (Sealed, error) {
	x, is := c.latest[e.Name]
	s := Sealed{Entry: e.Name, Link: x.Number, At: x.At}
	if !is {
		return s, nil
	}
	now, err := e.papers(false)
	if err != nil {
		return s, err
	}
	if was := x.Papers[ReceiptFile]; now[ReceiptFile] != was {
		// A program that was ended when it had sealed the receipt has left it prepared.
		ahead, err := e.papers(true)
		if err != nil {
			return s, err
		}
		if ahead[ReceiptFile] == was {
			now[ReceiptFile] = was
		}
	}
	for name, was := range x.Papers {
		if now[name] == "" {
			s.Changed = append(s.Changed, name+" (not there)")
		} else if now[name] != was {
			s.Changed = append(s.Changed, name)
		}
	}
	slices.Sort(s.Changed)
	for _, k := range c.Signed {
		if k.Through >= x.Number {
			s.SignedBy = append(s.SignedBy, k.Key)
		}
	}
	return s, nil
}

// Gone are entries that were sealed and are not on the tray any more.
func (c *Chain) Gone(tray string) (names []string) {
	for name := range c.latest {
		if _, err := os.Stat(filepath.Join(tray, name)); errors.Is(err, fs.ErrNotExist) {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	return names
}

// SigningKey reads an Ed25519 private key (PKCS #8, PEM), as openssl genpkey writes it.
func SigningKey(path string) (ed25519.PrivateKey, error) {
	x, err := keyIn(path, "PRIVATE KEY", x509.ParsePKCS8PrivateKey)
	if err != nil {
		return nil, err
	}
	if key, is := x.(ed25519.PrivateKey); is {
		return key, nil
	}
	return nil, fmt.Errorf("%s: is no Ed25519 key\n  make one: openssl genpkey -algorithm ed25519 -out %s", path, path)
}

// PublicKey reads an Ed25519 public key (SubjectPublicKeyInfo, PEM) in base64, as links
// have it.
func PublicKey(path string) (string, error) {
	x, err := keyIn(path, "PUBLIC KEY", x509.ParsePKIXPublicKey)
	if err != nil {
		return "", err
	}
	if key, is := x.(ed25519.PublicKey); is {
		return base64.StdEncoding.EncodeToString(key), nil
	}
	return "", fmt.Errorf("%s: is no Ed25519 key", path)
}

func keyIn(path, kind string, parse func([]byte) (any, error)) (any, error) {
	b, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	block, _ := pem.Decode(b)
	if block == nil || block.Type != kind {
		return nil, fmt.Errorf("%s: has no %s (PEM)", path, kind)
	}
	x, err := parse(block.Bytes)
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return x, nil
}
