package cli

import "bufio"

// An indenter writes JSON that comes without spaces one value a line, as [json.Indent] does,
// and keeps nothing of it: a document about thousands of columns is many megabytes.
type indenter struct {
	w       *bufio.Writer
	depth   int
	opened  bool // nothing came behind the last bracket yet
	text    bool // within a text
	escaped bool // behind a backslash
}

// spaces are those of the depths that are usual.
const spaces = "\n                                        "

func (n *indenter) line() {
	n.w.WriteString(spaces[:1+min(2*n.depth, len(spaces)-1)])
	for range 2*n.depth - len(spaces) + 1 {
		n.w.WriteByte(' ')
	}
}

// Write implements io.Writer; the last Write has to be followed by a flush of the buffer.
func (n *indenter) Write(p []byte) (int, error) {
	from := 0 // what is not written yet
	for i, c := range p {
		if n.text {
			switch {
			case n.escaped:
				n.escaped = false
			case c == '\\':
				n.escaped = true
			case c == '"':
				n.text = false
			}
			continue
		}
		closes := c == '}' || c == ']'
		if n.opened && c != '\n' {
			n.w.Write(p[from:i])
			if from, n.opened = i, false; !closes {
				n.depth++
				n.line()
			} else {
				continue
			}
		}
		switch {
		case c == '"':
			n.text = true
		case c == '{' || c == '[':
			n.opened = true
		case closes:
			n.w.Write(p[from:i])
			from = i
			n.depth--
			n.line()
		case c == ',':
			n.w.Write(p[from : i+1])
			from = i + 1
			n.line()
		case c == ':':
			n.w.Write(p[from : i+1])
			n.w.WriteByte(' ')
			from = i + 1
		}
	}
	_, err := n.w.Write(p[from:])
	return len(p), err
}
