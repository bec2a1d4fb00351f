package source

import (
	"archive/zip"
	"context"
	"fmt"
	"io"
	"path"
	"strings"

	"ambertray/internal/phrase"
)

// memberName is a member's name with slashes: some programs write backslashes, which
// APPNOTE.TXT 4.4.17 does not allow.
func memberName(f *zip.File) string { return strings.ReplaceAll(f.Name, `\`, "/") }

// safeMember reports whether a member's name stays within the archive.
func safeMember(name string) bool {
	return name != "" && !strings.HasPrefix(name, "/") &&
		!strings.Contains(name, ":") && path.Clean(name) == strings.TrimSuffix(name, "/") &&
		!strings.HasPrefix(path.Clean(name), "..")
}

// takeMember takes a member out of a zip archive.
func (s *Source) takeMember(ctx context.Context, known Known) error {
	f, at, size, err := s.inPlaces()
	if err != nil {
		return s.unpackProblem(err)
	}
	defer f.Close()
	z, err := zip.NewReader(at, size)
	if err != nil {
		return s.unpackProblem(err)
	}
	if s.Member != "" {
		// An archive within the archive has no member that was named.
		known.Member = ""
	}
	return s.chooseMember(ctx, z, known)
}

func (s *Source) chooseMember(ctx context.Context, z *zip.Reader, known Known) error {
	var all []*zip.File
	choice := &Choice{Source: s.Name, What: "member"}
	for _, f := range z.File {
		name := memberName(f)
		hidden := strings.HasPrefix(path.Base(name), ".") || strings.HasPrefix(name, "__MACOSX/")
		if hidden || strings.HasSuffix(name, "/") {
			continue
		}
		if !safeMember(name) {
			return &Problem{Source: s.Name,
				What: fmt.Sprintf("has a member %q, whose name leads out of the archive", f.Name),
				Do:   "do not trust this archive; ask where it comes from"}
		}
		if len(choice.Parts) < 1000 {
			choice.Parts = append(choice.Parts, Part{Name: name, Size: int64(f.UncompressedSize64)})
		}
		if known.Member == "" || known.Member == name || known.Member == f.Name {
			all = append(all, f)
			continue
		}
		if ok, err := path.Match(known.Member, name); err == nil && ok {
			all = append(all, f)
		} else if ok, err := path.Match(known.Member, path.Base(name)); err == nil && ok {
			all = append(all, f)
		}
	}
	if len(all) == 0 && known.Member != "" {
		return &Problem{Source: s.Name, What: fmt.Sprintf("has no member %q", known.Member), Decision: true,
			Do: choice.Error()}
	}
	if len(all) != 1 {
		return choice
	}
	f := all[0]
	if f.Flags&1 != 0 {
		return &Problem{Source: s.Name, What: fmt.Sprintf("its member %q has a password", f.Name),
			Do: "unpack it by hand"}
	}
	if int64(f.UncompressedSize64) > s.unpacked {
		return s.unpackProblem(errTooLarge)
	}
	sp, err := newSpool(s.unpacked)
	if err != nil {
		return err
	}
	if err := sp.room(int64(f.UncompressedSize64)); err != nil {
		sp.close()
		return s.unpackProblem(err)
	}
	r, err := f.Open()
	if err == nil {
		_, err = io.Copy(sp, &cancelled{ctx, r})
		r.Close()
	}
	if err != nil {
		sp.close()
		return s.unpackProblem(fmt.Errorf("%s: %w", f.Name, err))
	}
	s.swap(sp)
	s.Member = memberName(f)
	if known.Member != s.Member && known.Member != "" {
		s.Asked.Member = known.Member
	}
	for _, p := range choice.Parts {
		if p.Name != s.Member {
			s.Others = append(s.Others, p.Name)
		}
	}
	if known.Member != "" {
		s.Evidence = append(s.Evidence, Evidence{What: "member", Value: s.Member, Why: s.given(), Given: true})
	} else {
		s.Evidence = append(s.Evidence, Evidence{What: "member", Value: s.Member, Why: "the only one in the archive; " +
			phrase.Size(sp.size) + " unpacked", Given: false})
	}
	s.Name = s.FullName()
	return nil
}
