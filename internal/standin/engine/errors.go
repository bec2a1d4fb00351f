package engine

import "fmt"

// An Error is a message of the server's with its number ("Database engine errors").
type Error struct {
	Number   int
	Class    int // severity
	State    int
	Message  string
	Line     int
	Proc     string
	raised   bool // by THROW or RAISERROR
	thrown   bool
	endsTran bool
}

func (e *Error) Error() string { return fmt.Sprintf("%d: %s", e.Number, e.Message) }

func fail(number, class int, format string, args ...any) *Error {
	return &Error{Number: number, Class: class, State: 1, Message: fmt.Sprintf(format, args...)}
}

// unknown is what the stand-in refuses because it does not know it.
func unknown(format string, args ...any) *Error {
	return fail(40517, 16, "The stand-in does not know "+format, args...)
}

// endsBatch reports errors behind which a batch does not go on; doomed those that end the
// transaction with it ("SET XACT_ABORT", "Error severities").
func (e *Error) endsBatch() bool {
	return e.thrown || e.endsTran || batchEnds[e.Number] || e.Class >= 20
}

func (e *Error) dooms() bool { return e.endsTran || tranEnds[e.Number] || e.Class >= 20 }

var tranEnds = map[int]bool{241: true, 242: true, 244: true, 245: true, 248: true, 8114: true, 8169: true, 1205: true,
	9002: true, 1105: true, 3609: true, 295: true}

var batchEnds = map[int]bool{102: true, 105: true, 113: true, 207: true, 208: true, 209: true, 4104: true,
	8120: true, 2714: true, 40517: true, 137: true, 134: true, 448: true, 195: true}

func init() {
	for n := range tranEnds {
		batchEnds[n] = true
	}
}
