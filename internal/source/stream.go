package source

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"hash"
	"io"
	"sync/atomic"

	"ambertray/internal/source/delimited"
)

// A Stream yields a source's data as chunks.
type Stream struct {
	*delimited.Chunker
	file io.ReadCloser
	src  *Source
	read atomic.Int64
	sum  hash.Hash // nil: the bytes are not hashed, or at another place
	ink  *inking   // of their fingerprint, or nil
	body io.Reader
}

// Read starts at the first record of data. With sum, every byte of the file
// is hashed on the way, and held against what was looked at: see [Stream.Another].
func (s *Source) Read(sum bool) (*Stream, error) {
	if !sum {
		return s.read(nil, nil)
	}
	var ink *inking
	if s.print != nil {
		ink = s.print.ink()
	}
	return s.read(sha256.New(), ink)
}

// Look is Read that remembers what it has read by [Stream.Seen].
func (s *Source) Look() (*Stream, error) { return s.read(nil, new(inking)) }

// read is Read with what takes the bytes of the file as they are, if they have not been taken at
// another place.
func (s *Source) read(sum hash.Hash, ink *inking) (*Stream, error) {
	opened, err := s.open()
	if err != nil {
		return nil, &Problem{Source: s.Name, What: "cannot be read", Err: cause(err)}
	}
	f := io.ReadCloser(opened)
	if s.flow != nil {
		if s.flow.begun {
			return nil, &Problem{Source: s.Name, What: "can be read only once", Do: "put it into a file first"}
		}
		s.flow.begun = true
		f = flowing{io.MultiReader(f, s.flow.text)}
		sum, ink = nil, nil // they are taken on the way
	}
	if s.sum != "" { // what is read is our own copy
		sum, ink = nil, nil
	}
	st := &Stream{file: f, src: s, sum: sum, ink: ink}
	st.body, err = decode(raw{st}, s.Layout.Encoding, s.Layout.LineEnd, s.Layout.Form)
	if err != nil {
		f.Close()
		return nil, &Problem{Source: s.Name, What: err.Error(),
			Do: "name the encoding with --encoding, like utf-8, utf-16le or windows-1252"}
	}
	if _, err := io.CopyN(io.Discard, st.body, s.start); err != nil && !errors.Is(err, io.EOF) {
		f.Close()
		return nil, &Problem{Source: s.Name, What: "cannot be read", Err: cause(err)}
	}
	st.Chunker = delimited.NewChunker(st.body, s.Layout.Form, s.startLine)
	if s.MaxRecord > 0 {
		st.MaxRecord = s.MaxRecord
	}
	return st, nil
}

// raw reads the file's own bytes, counting and hashing them.
type raw struct{ s *Stream }

func (r raw) Read(p []byte) (int, error) {
	n, err := r.s.file.Read(p)
	r.s.read.Add(int64(n))
	if r.s.sum != nil {
		r.s.sum.Write(p[:n])
	}
	if r.s.ink != nil {
		r.s.ink.write(p[:n])
	}
	return n, err
}

// Bytes is how many bytes of the file have been read. Any goroutine may ask.
func (s *Stream) Bytes() int64 { return s.read.Load() }

// Sum returns the SHA-256 of the whole file, in hexadecimal, once all of it
// has been read.
func (s *Stream) Sum() string {
	if s.sum == nil {
		return s.src.sum
	}
	return hex.EncodeToString(s.sum.Sum(nil))
}

// Seen makes the source know the file again, all of which has been read by [Source.Look].
func (s *Stream) Seen() {
	if s.ink != nil {
		s.src.print = s.ink.taken()
	}
}

// Another reports whether what has been read, all of it, are other bytes than were looked at.
func (s *Stream) Another() bool { return s.ink != nil && *s.ink.taken() != *s.src.print }

// flowing is a pipe, which nobody closes.
type flowing struct{ io.Reader }

func (flowing) Close() error { return nil }

// Close ends the reading.
func (s *Stream) Close() error { return s.file.Close() }

// Each calls f for every row, one after the other, for what is small. The
// record is valid until f returns.
func (s *Source) Each(f func(Kind, *delimited.Record) error) error {
	st, err := s.Read(false)
	if err != nil {
		return err
	}
	defer st.Close()
	rows := NewRows(&s.Layout)
	var rec delimited.Record
	for {
		chunk, err := st.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		for rows.Reset(chunk); ; {
			kind, ok := rows.Next(&rec)
			if !ok {
				break
			}
			if err := f(kind, &rec); err != nil {
				return err
			}
		}
		chunk.Release()
	}
}
