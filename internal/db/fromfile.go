package db

import (
	"ambertray/internal/reading"
	"ambertray/internal/sqltype"
)

// A FileReader is how scripts have a server read a file of its own host: into a stage whose
// columns are texts, of which SQL makes values. What x stands for is SQL, too.
type FileReader struct {
	// Encodings are the server's names of those that it reads, by their IANA names.
	Encodings map[string]string
	// OneLine tells that no more than one line can be passed over at the top.
	OneLine bool
	// NeedsQuotes tells that a file without quotes is not read as it is.
	NeedsQuotes bool
	// StageType is the type of a column of the stage.
	StageType string
	// Stage writes its definition; nil: a table of the session as others.
	Stage func(stage string, columns []string, f FileForm) []string
	// Fill writes the statements that fill it.
	Fill func(stage string, columns []string, f FileForm) []string
	// Text is a column of the stage as the file has it, and Trim a text without blanks around it.
	Text, Trim func(x string) string
	// Blank is the condition that a text is empty.
	Blank func(x string) string
	// Truth is true or false as a value.
	Truth func(is bool) string
	// Replace is a text with one piece of text for another, wherever it stands.
	Replace func(x, old, new string) string
	// Joined puts texts behind each other.
	Joined func(x ...string) string
	// Value is what a text in plain form is as a type; of a date or time, in ISO 8601.
	Value func(t sqltype.Type, x string) string
	// Moment is what a text in the form of a pattern is; if there is no way, it says why.
	Moment func(t sqltype.Type, p *reading.Pattern, x string) (sql, why string)
	// Year is the year of a value, and Years moves a value by so many.
	Year  func(x string) string
	Years func(t sqltype.Type, x string, n int) string
	// Fail is a value of a type that cannot be made, and names a text when that is tried.
	Fail func(t sqltype.Type, x string) string
	// Remarks are what somebody who runs the script has to know.
	Remarks []string
}

// A FileForm is what a server has to know of a file.
type FileForm struct {
	// Path is where the server finds it.
	Path string
	// Encoding is the server's name of it.
	Encoding  string
	Delimiter string // empty: one field a line
	Quote     byte   // 0: none
	CRLF      bool
	Skip      int64 // lines at the top
}
