package tray

import (
	"slices"

	"ambertray/internal/reading"
	"ambertray/internal/source/delimited"
)

// A Code names why a record was rejected, for programs. Reasons are for people,
// and change.
type Code string

// The codes that are neither of a value, see [reading.Misfit], nor of a record
// that does not read as one, see [delimited.Fault].
const (
	FieldCount Code = "field-count" // another number of fields than the header
	Expression Code = "expression"  // an expression of the plan failed
	Refused    Code = "refused"     // by the database
	Unmet      Code = "check"       // a condition of the plan is not met
)

// Codes are all of them.
func Codes() []Code {
	out := []Code{FieldCount, Expression, Refused, Unmet}
	for _, m := range reading.Misfits() {
		out = append(out, Code(m.Code()))
	}
	for _, f := range delimited.Faults() {
		out = append(out, Code(f.Code()))
	}
	return out
}

// Broken reports whether a reject with this code is no record of the source's
// columns, so that trying it again unchanged means nothing. Files of before have
// no code, but the fault's words.
func (c Code) Broken(reason string) bool {
	return slices.ContainsFunc(delimited.Faults(), func(f delimited.Fault) bool {
		return c == Code(f.Code()) || c == "" && reason == f.String()
	})
}
