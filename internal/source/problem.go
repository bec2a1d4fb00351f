package source

import (
	"errors"
	"fmt"
	"io/fs"
)

// A Problem is an error about a source: what, where and what to do.
type Problem struct {
	Source string
	Line   int64 // 0: the whole source
	What   string
	Do     string
	// Decision is set when it is the caller's decision that is missing.
	Decision bool
	Err      error
}

func (p *Problem) Error() string {
	s := p.Source
	if p.Line > 0 {
		s += fmt.Sprintf(", line %d", p.Line)
	}
	s += ": " + p.What
	if p.Err != nil {
		s += ": " + p.Err.Error()
	}
	if p.Do != "" {
		s += "\n  " + p.Do
	}
	return s
}

func (p *Problem) Unwrap() error { return p.Err }

// cause takes the path off an error that names it, since ours names it too.
func cause(err error) error {
	var p *fs.PathError
	if errors.As(err, &p) {
		return p.Err
	}
	return err
}
