package source

import (
	"archive/zip"
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func zipOf(t *testing.T, names ...string) string {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, n := range names {
		w, err := z.Create(n)
		require.NoError(t, err)
		_, err = w.Write([]byte("id,name\n1,a\n"))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return b.String()
}

// What is no table is recognised by what it is, also where it is text, and told
// with what to do.
func TestForeignFiles(t *testing.T) {
	for what, texts := range map[string][]string{
		"a web page":                   {"<!DOCTYPE html>\n<html><head>", "\xef\xbb\xbf\n <html lang=\"en\">", "<!-- a -->\n<HTML>"},
		"XML":                          {"<?xml version=\"1.0\"?><a/>", "<soap:Envelope xmlns:soap=\"x\">"},
		"JSON":                         {"{\"id\": 1, \"name\": \"a\"}\n", "[\n {\"id\": 1}]", "{\"id\":1}\n{\"id\":2}\n", "[]", "[[1,2],[3,4]]", "[1, 2, 3]"},
		"a plan without its first key": {"sources:\n  - file: a.csv\ntable:\n  name: a\n", "# of March\ntable:\n  name: a\n"},
		"a plan":                       {"ambertray: 1\nsources:\n"},
		"a PDF document":               {"%PDF-1.4\n"},
		"a picture":                    {"GIF89a\x01", "II*\x00\x01"},
		"a program":                    {"\x7fELF\x02\x01", "MZ\x90\x00\x03"},
		"a tar archive":                {strings.Repeat("a", 257) + "ustar\x0000"},
		"xz data":                      {"\xfd7zXZ\x00\x00"},
		"a text with formatting":       {"{\\rtf1\\ansi"},
		"a workbook with a password":   {"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1" + strings.Repeat("\x00", 504) + "E\x00n\x00c\x00r\x00y\x00p\x00t\x00e\x00d\x00P\x00a\x00c\x00k\x00"},
		"a compound file":              {"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1" + strings.Repeat("\x00", 1024)},
		"a document":                   {zipOf(t, "[Content_Types].xml", "word/document.xml"), zipOf(t, "mimetype", "META-INF/manifest.xml", "content.xml")},
	} {
		for _, text := range texts {
			path := filepath.Join(t.TempDir(), "march.csv")
			require.NoError(t, os.WriteFile(path, []byte(text), 0o666))
			_, err := Open(t.Context(), path, Known{})
			require.ErrorContains(t, err, "is "+what, text)
			var p *Problem
			require.ErrorAs(t, err, &p)
			assert.NotEmpty(t, p.Do)
			// The same from a pipe.
			for _, once := range []bool{false, true} {
				_, err = Open(t.Context(), Stdin, Known{Stdin: strings.NewReader(text), Once: once, MaxUnpacked: 1 << 30})
				require.ErrorContains(t, err, "is "+what, text)
			}
		}
	}
	for _, x := range foreign {
		assert.Nil(t, x.open, x.name)
		assert.NotEmpty(t, x.lacks, x.name)
	}
}

// What only begins like one of these is text.
func TestNotForeign(t *testing.T) {
	for _, text := range []string{"<id>,<name>\n1,a\n2,b\n", "{id},name\n1,a\n", "[id],[name]\n1,a\n", "MZ,name\n1,a\n", "sources:,tables\n1,a\n",
		"# a comment\nid,name\n1,a\n", "[1] note,x\n2,3\n", "xml,html\n<html>,b\n", "{\"a},b\n1,2\n"} {
		path := filepath.Join(t.TempDir(), "march.csv")
		require.NoError(t, os.WriteFile(path, []byte(text), 0o666))
		s, err := Open(t.Context(), path, Known{})
		require.NoError(t, err, text)
		s.Close()
	}
	path := filepath.Join(t.TempDir(), "march.csv")
	require.NoError(t, os.WriteFile(path, []byte("{\"id\",\"name\"}\n"), 0o666))
	s, err := Open(t.Context(), path, Known{Encoding: "utf-8"})
	require.NoError(t, err, "a person says that it is text")
	s.Close()
	// An archive with texts in folders is an archive.
	require.NoError(t, os.WriteFile(path, []byte(zipOf(t, "word/a.csv")), 0o666))
	s, err = Open(t.Context(), path, Known{})
	require.NoError(t, err)
	s.Close()
}

func TestLinksOfOtherKinds(t *testing.T) {
	for name, want := range map[string]string{"s3://bucket/a.csv": "is a link of s3", "ftp://h/a.csv": "is a link of ftp",
		"sqlserver://h/db": "is the URL of a database", "postgres://keeper:secret@h/canal": "is the URL of a database", "sqlite:canal.db": "is the URL of a database",
		"file:///tmp/a.csv": "is a link to a file here", "jdbc:mysql://h/x": "is the URL of a database", "none.csv": "no such file"} {
		_, err := Open(t.Context(), name, Known{})
		require.ErrorContains(t, err, want, name)
		assert.NotContains(t, err.Error(), "secret")
	}
}
