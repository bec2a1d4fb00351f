package source

import (
	"ambertray/internal/source/workbook"
	"bytes"
	"encoding/binary"
	"encoding/json"
	"errors"
	"io"
	"regexp"
)

// keyless is how a plan goes on that lacks its first key.
const keyless = `^(sources|table|columns):[ \t]*\r?\n(.*\r?\n)*?\s*(- )?(file|name|from|type):\s`

const (
	askForText = "ask for the data as a delimited file"
	orText     = askForText + "; if it is one all the same, say its --encoding"
	unpackIt   = "unpack it first, and name what was in it"
)

// foreign is what is recognised and not read, by the first bytes. What begins
// like text is recognised by more than one sign.
var foreign = []*format{
	{name: "a workbook with a password", is: isProtected,
		lacks: "open it with its password, take the password off, and save it"},
	{name: "a compound file without an older workbook (.xls), or a damaged one", is: begins(workbook.Compound),
		lacks: "if it is a workbook, open it and save it anew; if a text or a presentation, save its table as one"},
	{name: "a worksheet of programs before 1993", is: begins("\x09\x00\x04\x00", "\x09\x00\x06\x00", "\x09\x02\x06\x00",
		"\x09\x04\x06\x00"), lacks: "open it in a spreadsheet program, and save it as a workbook of today"},
	{name: "a PDF document", is: begins("%PDF"), lacks: askForText},
	{name: "a PostScript document", is: begins("%!PS"), lacks: askForText},
	{name: "a text with formatting (RTF)", is: begins("{\\rtf"), lacks: askForText},
	{name: "a picture", is: begins("\x89PNG", "\xff\xd8\xff", "GIF87a", "GIF89a", "II*\x00", "MM\x00*"),
		lacks: askForText},
	{name: "an SQLite database", is: begins("SQLite format 3\x00"), lacks: "it is a place to load into, with --into"},
	{name: "zstd data", is: begins("\x28\xb5\x2f\xfd"), lacks: unpackIt},
	{name: "bzip2 data", is: begins("BZh"), lacks: unpackIt},
	{name: "xz data", is: begins("\xfd7zXZ\x00"), lacks: unpackIt},
	{name: "lz4 data", is: begins("\x04\x22\x4d\x18"), lacks: unpackIt},
	{name: "a 7z archive", is: begins("7z\xbc\xaf\x27\x1c"), lacks: unpackIt},
	{name: "a RAR archive", is: begins("Rar!\x1a\x07"), lacks: unpackIt},
	{name: "a tar archive", is: has(257, "ustar"), lacks: unpackIt},
	{name: "a Parquet file", is: begins("PAR1"), lacks: askForText},
	{name: "an ORC file", is: begins("ORC\x0a", "ORC\x08"), lacks: askForText},
	{name: "an Avro file", is: begins("Obj\x01"), lacks: askForText},
	{name: "an Arrow file", is: begins("ARROW1\x00"), lacks: askForText},
	{name: "a program", is: isProgram, lacks: "name the file with the data"},
	{name: "a web page", is: looks(`(?i)^(<!--.*?-->\s*)*<(!doctype\s+html|html|head|body)[\s>]`),
		lacks: "it may be a page to sign in, or one that tells of an error: open it in a browser, and save the data " +
			"itself"},
	{name: "XML", is: looks(`^<(\?xml\s|!DOCTYPE\s|[A-Za-z][\w.-]*:[\w.-]+[\s>])`), lacks: orText},
	{name: "JSON", is: isJSON, lacks: orText},
	{name: "a plan without its first key",
		is:    looks(keyless),
		lacks: "write 'ambertray: 1' as its first line"},
	{name: "a plan", is: looks(`^ambertray:\s*\d`),
		lacks: "a load has one plan, and it comes first; name files behind it"},
}

// isProtected recognises a package in a compound file, by the names in the first sector
// of its directory: a workbook of today's form that is encrypted ([MS-CFB] section 2.2,
// [MS-OFFCRYPTO] section 2.3.4).
func isProtected(s *Source, head []byte) (bool, error) {
	if is, _ := begins(workbook.Compound)(s, head); !is || len(head) < 512 {
		return false, nil
	}
	file, at, size, err := s.inPlaces()
	if err != nil {
		return false, err
	}
	defer file.Close()
	sector := int64(512)
	if head[30] == 12 {
		sector = 4096
	}
	first := (int64(binary.LittleEndian.Uint32(head[48:])) + 1) * sector
	names := make([]byte, 4096)
	n, err := at.ReadAt(names, min(first, size))
	if err != nil && err != io.EOF {
		return false, err
	}
	return bytes.Contains(names[:n], []byte("E\x00n\x00c\x00r\x00y\x00p\x00t\x00e\x00d\x00P\x00a\x00c\x00k")), nil
}

// has recognises a format by what stands at an offset.
func has(at int, magic string) func(*Source, []byte) (bool, error) {
	return func(_ *Source, head []byte) (bool, error) {
		return len(head) >= at+len(magic) && string(head[at:at+len(magic)]) == magic, nil
	}
}

// looks recognises text by how it begins, behind a byte order mark, blanks and
// the comments of a plan.
func looks(pattern string) func(*Source, []byte) (bool, error) {
	re := regexp.MustCompile(pattern)
	return func(_ *Source, head []byte) (bool, error) { return re.Match(textOf(head)), nil }
}

var beforeText = regexp.MustCompile(`^(\s+|#.*\n|---\r?\n)+`)

func textOf(head []byte) []byte {
	head = bytes.TrimPrefix(head, []byte("\ufeff"))
	return head[len(beforeText.Find(head)):]
}

// isJSON recognises an object or a list of them by its first few tokens: a
// bracket alone may begin a name.
func isJSON(_ *Source, head []byte) (bool, error) {
	head = bytes.TrimSpace(bytes.TrimPrefix(head, []byte("\ufeff")))
	if len(head) == 0 || head[0] != '{' && head[0] != '[' {
		return false, nil
	}
	d := json.NewDecoder(bytes.NewReader(head))
	for n := range 5 {
		switch _, err := d.Token(); {
		case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
			return n >= 2, nil
		case err != nil:
			return false, nil
		}
	}
	return true, nil
}

// isProgram recognises programs; MZ may begin a name, but then no NUL follows.
func isProgram(_ *Source, head []byte) (bool, error) {
	for _, magic := range []string{"\x7fELF", "\xcf\xfa\xed\xfe", "\xce\xfa\xed\xfe", "\xca\xfe\xba\xbe\x00"} {
		if bytes.HasPrefix(head, []byte(magic)) {
			return true, nil
		}
	}
	return bytes.HasPrefix(head, []byte("MZ")) && bytes.IndexByte(head, 0) > 0, nil
}
