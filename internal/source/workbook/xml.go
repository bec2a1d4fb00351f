package workbook

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"unicode/utf8"
)

var errDefinitions = errors.New("the XML has definitions of its own (<!DOCTYPE), which no workbook has")

// A scanner takes the XML of workbooks apart, without allocating. It knows
// elements, attributes, text, CDATA, comments and the five named entities;
// definitions of a document's own, which neither format has, are refused.
type scanner struct {
	r        io.ReadCloser
	buf      []byte
	pos, end int
	err      error // of reading

	name  []byte // of the element, without its prefix; with it, if it is of another namespace
	attrs []byte // of the element, as written
	list  []attr // the same taken apart, if taken
	taken bool
	text  []byte // of the text at hand
	dec   []byte // memory for text with entities
	self  bool   // the element ends itself
	open  bool   // its end is still to be told

	began  bool
	space  string   // the namespace of the part, if it says one
	others []string // prefixes of other namespaces
	odf    bool     // the part is of OpenDocument, whose namespaces are many
}

// odfSpace begins the namespaces of OpenDocument (ODF 1.3 part 3, 1.4).
const odfSpace = "urn:oasis:names:tc:opendocument:xmlns:"

// spaces takes the namespaces that the first element declares (Namespaces in XML
// 1.0, 3).
func (s *scanner) spaces(name []byte) {
	s.began = true
	own := prefixOf(name)
	declared := map[string]string{}
	for rest := s.attrs; ; {
		key, value, left, ok := attribute(rest)
		if !ok {
			break
		}
		rest = left
		if p, is := bytes.CutPrefix(key, []byte("xmlns")); is && (len(p) == 0 || p[0] == ':') {
			declared[strings.TrimPrefix(string(p), ":")] = string(value)
		}
	}
	s.space = declared[string(own)]
	s.odf = strings.HasPrefix(s.space, odfSpace)
	for p, uri := range declared {
		if p != "" && s.other(uri) {
			s.others = append(s.others, p)
		}
	}
}

// other reports whether a namespace is not one of the part's own.
func (s *scanner) other(uri string) bool {
	return s.space != "" && uri != s.space && !(s.odf && strings.HasPrefix(uri, odfSpace))
}

// named is the name of an element: without its prefix, unless that is of another
// namespace.
func (s *scanner) named(name []byte) []byte {
	p := prefixOf(name)
	if len(p) == 0 {
		return name
	}
	for _, x := range s.others {
		if string(p) == x {
			return name
		}
	}
	return name[len(p)+1:]
}

// foreign reports whether the element at hand declares a namespace of its own for
// itself that is not the part's.
func (s *scanner) foreign(name []byte) bool {
	if !bytes.Contains(s.attrs, []byte("xmlns")) {
		return false
	}
	want := "xmlns"
	if p := prefixOf(name); len(p) > 0 {
		want += ":" + string(p)
	}
	for rest := s.attrs; ; {
		key, value, left, ok := attribute(rest)
		if !ok {
			return false
		}
		if rest = left; string(key) == want {
			return s.other(string(value))
		}
	}
}

func prefixOf(name []byte) []byte { return name[:max(bytes.IndexByte(name, ':'), 0)] }

type token uint8

const (
	eof token = iota
	start
	end
	text
)

const (
	scanBuffer = 256 << 10
	longest    = 64 << 20 // bytes of one tag or text
)

func newScanner(r io.ReadCloser) *scanner { return &scanner{r: r, buf: make([]byte, scanBuffer)} }

func (s *scanner) close() { s.r.Close() }

// more reads on. What stands from pos on is kept, and moves to the front.
func (s *scanner) more() bool {
	if s.err != nil {
		return false
	}
	if s.pos > 0 {
		copy(s.buf, s.buf[s.pos:s.end])
		s.end -= s.pos
		s.pos = 0
	}
	if s.end == len(s.buf) {
		if len(s.buf) >= longest {
			s.err = fmt.Errorf("a text or tag of more than %d MiB", longest>>20)
			return false
		}
		s.buf = append(s.buf, make([]byte, len(s.buf))...)
	}
	for {
		n, err := s.r.Read(s.buf[s.end:])
		s.end += n
		if err != nil {
			s.err = err
		}
		if n > 0 || err != nil {
			return n > 0
		}
	}
}

// find returns the offset of c from pos+from on, relative to pos, reading on
// as needed; -1 at the end.
func (s *scanner) find(c byte, from int) int {
	for {
		if i := bytes.IndexByte(s.buf[s.pos+from:s.end], c); i >= 0 {
			return from + i
		}
		from = s.end - s.pos
		if !s.more() {
			return -1
		}
	}
}

func (s *scanner) findSeq(seq string, from int) int {
	for {
		i := s.find(seq[0], from)
		if i < 0 {
			return -1
		}
		for s.end-s.pos < i+len(seq) {
			if !s.more() {
				return -1
			}
		}
		if string(s.buf[s.pos+i:s.pos+i+len(seq)]) == seq {
			return i
		}
		from = i + 1
	}
}

func (s *scanner) broken(what string) error {
	if s.err != nil && s.err != io.EOF {
		return s.err
	}
	return fmt.Errorf("the XML is damaged: %s", what)
}

// next goes to the next start, end or text.
//
// It is long because all that XML may have at a place is decided in one switch, by the
// first bytes.
func (s *scanner) next() (token, error) {
	if s.open && s.self {
		s.open = false
		return end, nil
	}
	for {
		if s.pos == s.end && !s.more() {
			if s.err != io.EOF {
				return eof, s.err
			}
			return eof, nil
		}
		if s.buf[s.pos] != '<' {
			n := s.find('<', 0)
			if n < 0 {
				if s.err != io.EOF {
					return eof, s.err
				}
				n = s.end - s.pos
			}
			s.text = s.decode(s.buf[s.pos : s.pos+n])
			s.pos += n
			return text, nil
		}
		for s.end-s.pos < 2 {
			if !s.more() {
				return eof, s.broken("it ends within a tag")
			}
		}
		switch s.buf[s.pos+1] {
		case '?':
			n := s.findSeq("?>", 2)
			if n < 0 {
				return eof, s.broken("it ends within a tag")
			}
			s.pos += n + 2
			continue
		case '!':
			for s.end-s.pos < 9 && s.more() {
			}
			rest := s.buf[s.pos:s.end]
			switch {
			case bytes.HasPrefix(rest, []byte("<!--")):
				n := s.findSeq("-->", 4)
				if n < 0 {
					return eof, s.broken("it ends within a comment")
				}
				s.pos += n + 3
			case bytes.HasPrefix(rest, []byte("<![CDATA[")):
				n := s.findSeq("]]>", 9)
				if n < 0 {
					return eof, s.broken("it ends within a text")
				}
				s.text = s.buf[s.pos+9 : s.pos+n]
				s.pos += n + 3
				return text, nil
			case bytes.HasPrefix(rest, []byte("<!DOCTYPE")):
				// The name of a type of document, as older programs write it, defines
				// nothing here; what defines, or is fetched, is not taken.
				n := s.find('>', 9)
				if n < 0 || bytes.IndexByte(s.buf[s.pos:s.pos+n], '[') >= 0 ||
					!bytes.Contains(s.buf[s.pos:s.pos+n], []byte(" PUBLIC ")) {
					return eof, errDefinitions
				}
				s.pos += n + 1
			default:
				return eof, errDefinitions
			}
			continue
		case '/':
			n := s.find('>', 2)
			if n < 0 {
				return eof, s.broken("it ends within a tag")
			}
			s.name = s.named(bytes.TrimSpace(s.buf[s.pos+2 : s.pos+n]))
			s.pos += n + 1
			return end, nil
		}
		n := s.find('>', 1)
		for n >= 0 && inQuotes(s.buf[s.pos:s.pos+n]) {
			n = s.find('>', n+1)
		}
		if n < 0 {
			return eof, s.broken("it ends within a tag")
		}
		tag := s.buf[s.pos+1 : s.pos+n]
		s.pos += n + 1
		s.self = len(tag) > 0 && tag[len(tag)-1] == '/'
		if s.self {
			tag = tag[:len(tag)-1]
		}
		s.open = true
		i := 0
		for i < len(tag) && tag[i] > ' ' {
			i++
		}
		s.attrs, s.taken = tag[i:], false
		if !s.began {
			s.spaces(tag[:i])
		}
		if s.name = s.named(tag[:i]); s.foreign(tag[:i]) {
			s.name = tag[:0]
		}
		return start, nil
	}
}

// inQuotes reports whether a tag ends within an attribute's value.
func inQuotes(tag []byte) bool {
	for i := 0; i < len(tag); i++ {
		if q := tag[i]; q == '"' || q == '\'' {
			k := bytes.IndexByte(tag[i+1:], q)
			if k < 0 {
				return true
			}
			i += k + 1
		}
	}
	return false
}

// local is a name without its prefix.
func local(name []byte) []byte {
	if i := bytes.IndexByte(name, ':'); i >= 0 {
		return name[i+1:]
	}
	return name
}

func (s *scanner) is(name string) bool { return string(s.name) == name }

// attr is the value of an attribute of the element at hand, by its name
// without prefix; it is valid until the next token or attr with entities.
func (s *scanner) attr(name string) ([]byte, bool) {
	if !s.taken {
		s.takeAttributes()
	}
	for i := range s.list {
		if x := &s.list[i]; string(x.key) == name {
			return s.decode(x.value), true
		}
	}
	return nil, false
}

// takeAttributes takes those of the element at hand apart.
func (s *scanner) takeAttributes() {
	s.taken, s.list = true, s.list[:0]
	for rest := s.attrs; len(s.list) < mostAttributes; {
		key, value, left, ok := attribute(rest)
		if !ok {
			return
		}
		rest = left
		if s.odf {
			key = s.named(key)
		} else {
			key = local(key)
		}
		s.list = append(s.list, attr{key, value})
	}
}

// mostAttributes is how many of an element are looked at.
const mostAttributes = 1000

// attr is an attribute: its name without prefix, and its value as written.
type attr struct{ key, value []byte }

// attribute takes the first attribute off, as it is written.
func attribute(b []byte) (key, value, rest []byte, ok bool) {
	i := 0
	for i < len(b) && (b[i] <= ' ') {
		i++
	}
	b = b[i:]
	eq := bytes.IndexByte(b, '=')
	if eq < 0 {
		return nil, nil, nil, false
	}
	key = bytes.TrimSpace(b[:eq])
	b = b[eq+1:]
	for len(b) > 0 && b[0] <= ' ' {
		b = b[1:]
	}
	if len(b) == 0 || b[0] != '"' && b[0] != '\'' {
		return nil, nil, nil, false
	}
	n := bytes.IndexByte(b[1:], b[0])
	if n < 0 {
		return nil, nil, nil, false
	}
	return key, b[1 : 1+n], b[n+2:], true
}

func (s *scanner) attrInt(name string, otherwise int) int {
	b, ok := s.attr(name)
	if !ok {
		return otherwise
	}
	n, err := strconv.Atoi(string(b))
	if err != nil {
		return otherwise
	}
	return n
}

func (s *scanner) attrTrue(name string) bool {
	b, _ := s.attr(name)
	return string(b) == "1" || string(b) == "true" || string(b) == "on"
}

// decode puts characters in the place of entities.
func (s *scanner) decode(b []byte) []byte {
	i := bytes.IndexByte(b, '&')
	if i < 0 {
		return b
	}
	out := append(s.dec[:0], b[:i]...)
	for i < len(b) {
		c := b[i]
		if c != '&' {
			out = append(out, c)
			i++
			continue
		}
		n := bytes.IndexByte(b[i:min(len(b), i+12)], ';')
		if n < 0 {
			out = append(out, c)
			i++
			continue
		}
		switch name := string(b[i+1 : i+n]); {
		case name == "amp":
			out = append(out, '&')
		case name == "lt":
			out = append(out, '<')
		case name == "gt":
			out = append(out, '>')
		case name == "quot":
			out = append(out, '"')
		case name == "apos":
			out = append(out, '\'')
		case len(name) > 1 && name[0] == '#':
			base, digits := 10, name[1:]
			if digits[0] == 'x' || digits[0] == 'X' {
				base, digits = 16, digits[1:]
			}
			v, err := strconv.ParseUint(digits, base, 32)
			if err != nil || v == 0 || v > utf8.MaxRune {
				v = utf8.RuneError
			}
			out = utf8.AppendRune(out, rune(v))
		default:
			out = append(out, b[i:i+n+1]...)
		}
		i += n + 1
	}
	s.dec = out
	return out
}

// skip passes over the element that has just begun.
func (s *scanner) skip() error { return s.toEnd(1) }

// toEnd passes over what is left of an element, so deep within.
func (s *scanner) toEnd(depth int) error {
	for depth > 0 {
		t, err := s.next()
		switch {
		case err != nil:
			return err
		case t == eof:
			return s.broken("it ends within an element")
		case t == start:
			depth++
		case t == end:
			depth--
		}
	}
	return nil
}

// each calls f for every element of one of the names, anywhere, at its start.
func (s *scanner) each(f func() error, names ...string) error {
	for {
		t, err := s.next()
		if err != nil || t == eof {
			return err
		}
		if t != start {
			continue
		}
		for _, n := range names {
			if s.is(n) {
				if err := f(); err != nil {
					return err
				}
				break
			}
		}
	}
}
