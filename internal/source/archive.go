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

// SafeMember reports whether a member's name stays within the archive.
func safeMember(name string) bool {
	return name != "" && !strings.HasPrefix(name, "/") && !strings.Contains(name, `\`) &&
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
		if f.FileInfo().IsDir() || strings.HasPrefix(path.Base(f.Name), ".") || strings.HasPrefix(f.Name, "__MACOSX/") {
			continue
		}
		if !safeMember(f.Name) {
			return &Problem{Source: s.Name,
				What: fmt.Sprintf("has a member %q, whose name leads out of the archive", f.Name),
				Do:   "do not trust this archive; ask where it comes from"}
		}
		if len(choice.Parts) < 1000 {
			choice.Parts = append(choice.Parts, Part{Name: f.Name, Size: int64(f.UncompressedSize64)})
		}
		if known.Member == "" || f.Name == known.Member {
			all = append(all, f)
			continue
		}
		if ok, err := path.Match(known.Member, f.Name); err == nil && ok {
			all = append(all, f)
		} else if ok, err := path.Match(known.Member, path.Base(f.Name)); err == nil && ok {
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
	s.Member = f.Name
	if known.Member != f.Name && known.Member != "" {
		s.Asked.Member = known.Member
	}
	for _, p := range choice.Parts {
		if p.Name != f.Name {
			s.Others = append(s.Others, p.Name)
		}
	}
	if known.Member != "" {
		s.Evidence = append(s.Evidence, Evidence{What: "member", Value: f.Name, Why: s.given(), Given: true})
	} else {
		s.Evidence = append(s.Evidence, Evidence{What: "member", Value: f.Name, Why: "the only one in the archive; " +
			phrase.Size(sp.size) + " unpacked", Given: false})
	}
	s.Name = s.FullName()
	return nil
}
