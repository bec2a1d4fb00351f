package engine

import (
	"fmt"

	"ambertray/internal/standin/oracle/sql"
)

// An Error is one that Oracle has a number for.
type Error = sql.Error

// fail is an error by its number (Database Error Messages).
func fail(number int, form string, args ...any) error {
	return &Error{Number: number, Text: fmt.Sprintf(form, args...)}
}

// unknown refuses what Oracle may know, and the stand-in does not.
func unknown(form string, args ...any) error {
	return fail(900, "the stand-in does not know this: "+form, args...)
}

// number is an error's, or 0.
func number(err error) int {
	if e, is := err.(*Error); is {
		return e.Number
	}
	return 0
}
