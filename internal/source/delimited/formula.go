package delimited

import "bytes"

// mark stands before fields that a spreadsheet would take for formulas, in a text for
// spreadsheets: they show such a field as text.
const mark = '\''

// Formula reports whether a spreadsheet that opens a delimited text would take a field
// for a formula, and run it: it begins with =, @, a sign (and is no number), a tab or a
// carriage return, or with one of these signs in their wide form.
func Formula(field []byte) bool {
	if len(field) == 0 {
		return false
	}
	switch field[0] {
	case '=', '@', '\t', '\r':
		return true
	case '+', '-':
		rest := bytes.TrimLeft(field, "+-")
		return len(rest) > 0 && !plainNumber(rest)
	case 0xef:
		for _, wide := range []string{"＝", "＠", "＋", "－"} {
			if bytes.HasPrefix(field, []byte(wide)) {
				return true
			}
		}
	}
	return false
}

// plainNumber reports digits with marks between them, and perhaps an exponent or a
// percent sign behind.
func plainNumber(b []byte) bool {
	digits := false
	b = bytes.TrimSuffix(b, []byte("%"))
	for i, c := range b {
		switch {
		case c >= '0' && c <= '9':
			digits = true
		case c == '.' || c == ',':
		case (c == 'e' || c == 'E') && digits && i+1 < len(b):
			return len(bytes.Trim(b[i+1:], "0123456789+-")) == 0
		default:
			return false
		}
	}
	return digits
}

// NeedsMark reports whether a field gets a mark: also if it begins with one, so that what
// was marked is known again.
func NeedsMark(field []byte) bool { return len(field) > 0 && field[0] == mark || Formula(field) }

// Mark puts the mark before a field that needs one.
func Mark(field []byte) []byte {
	if NeedsMark(field) {
		return append([]byte{mark}, field...)
	}
	return field
}

// Unmark takes the mark off a field that has one.
func Unmark(field []byte) []byte {
	if len(field) > 1 && field[0] == mark && NeedsMark(field[1:]) {
		return field[1:]
	}
	return field
}
