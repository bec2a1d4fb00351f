package source

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/url"
	"path"
	"regexp"
	"strconv"
	"strings"
	"time"

	"ambertray/internal/phrase"
)

// IsLink reports whether a name is that of a file on the web.
func IsLink(name string) bool {
	n := strings.ToLower(name)
	return strings.HasPrefix(n, "http://") || strings.HasPrefix(n, "https://")
}

// Stdin is the name that stands for standard input.
const Stdin = "-"

const (
	attempts = 5

	maxRedirects = 10
	// DefaultIdle is how long a server may send nothing.
	DefaultIdle = 30 * time.Second
)

// keep takes all of a stream into a temporary file.
func (s *Source) keep(ctx context.Context, r io.Reader) error {
	sp, err := newSpool(s.unpacked)
	if err != nil {
		return err
	}
	if _, err := io.Copy(sp, &cancelled{ctx, r}); err != nil {
		sp.close()
		return err
	}
	s.swap(sp)
	s.FileSize, s.Modified = sp.size, time.Now()
	return nil
}

// firstPause is before the second attempt; each is twice as long as the one
// before.
var firstPause = 500 * time.Millisecond

// leastPace is how many bytes a second a server has to send, after so long: so no link
// takes longer than the limit of what is kept allows.
const leastPace = 1 << 10

var patience = 2 * time.Minute

// A fetch is the getting of one link, which may take several answers.
type fetch struct {
	s       *Source
	url     *url.URL
	idle    time.Duration
	sp      *spool
	etag    string // of what has been read so far, if it is a strong one
	weak    string // the same, also of a weak one
	changed string // Last-Modified
	digest  string // SHA-256 of the whole, in base64, as the server says
	whole   int64  // length in all; -1 unknown
	resume  bool
	base    string // the name in the answer
}

// permanent is a failure that trying again does not mend.
type permanent struct{ error }

// fetch gets a link. Where the connection breaks, it is tried again, from
// where it broke if the server allows that.
func (s *Source) fetch(ctx context.Context, link string, idle time.Duration) error {
	u, err := url.Parse(link)
	if err != nil || u.Host == "" {
		return &Problem{Source: s.Name, What: "is not a link that can be followed", Decision: true,
			Do: "write it like https://example.org/tolls.csv"}
	}
	if strings.Contains(link, "="+takenOut) || strings.Contains(link, "="+url.QueryEscape(takenOut)) {
		return &Problem{Source: s.Name, What: "lacks a part that gives access, which is not kept in papers and plans",
			Decision: true, Do: "name the whole link; behind a plan, too: ambertray load PLAN 'https://…'"}
	}
	if idle <= 0 {
		idle = DefaultIdle
	}
	f := &fetch{s: s, url: u, idle: idle, whole: -1}
	if f.sp, err = newSpool(s.unpacked); err != nil {
		return err
	}
	pause := firstPause
	for n := 1; ; n++ {
		err = f.once(ctx)
		if err == nil {
			break
		}
		var p permanent
		if errors.As(err, &p) || ctx.Err() != nil || errors.Is(err, errTooLarge) || n == attempts {
			f.sp.close()
			if ctx.Err() != nil {
				return ctx.Err()
			}
			var pr *Problem
			if errors.As(err, &pr) {
				return pr
			}
			if errors.Is(err, errTooLarge) {
				return s.unpackProblem(err)
			}
			what := "cannot be fetched"
			if n > 1 {
				what += fmt.Sprintf(", tried %d times", n)
			}
			return &Problem{Source: s.Name, What: what, Err: clean(err),
				Do: "check the link and the network, or fetch the file by hand"}
		}
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
		pause *= 2
	}
	s.swap(f.sp)
	s.FileSize, s.Modified = f.sp.size, time.Now()
	s.Base = f.base
	s.Evidence = append(s.Evidence, Evidence{What: "link", Value: s.Base,
		Why: fmt.Sprintf("%s fetched", phrase.Size(f.sp.size))})
	return nil
}

// clean takes the link, which may have a password, off an error.
func clean(err error) error {
	var u *url.Error
	if errors.As(err, &u) {
		return u.Err
	}
	return err
}

// once makes one request, and reads its answer as far as it goes.
func (f *fetch) once(ctx context.Context) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	quiet := time.AfterFunc(f.idle, cancel)
	defer quiet.Stop()
	req, err := f.request(ctx)
	if err != nil {
		return permanent{err}
	}
	silent := func(err error) error {
		if ctx.Err() != nil {
			return fmt.Errorf("the server sent nothing for %s", f.idle)
		}
		return err
	}
	resp, err := (&http.Client{CheckRedirect: follow}).Do(req)
	if err != nil {
		return silent(err)
	}
	defer resp.Body.Close()
	if err := f.answered(resp); err != nil {
		return err
	}
	buf := make([]byte, 256<<10)
	begun, came := time.Now(), int64(0)
	for {
		n, err := resp.Body.Read(buf)
		if n > 0 {
			quiet.Reset(f.idle)
			came += int64(n)
			if d := time.Since(begun); d > patience && came < int64(d.Seconds())*leastPace {
				return permanent{fmt.Errorf("the server sends less than %s a second, for %s now",
					phrase.Size(leastPace), patience)}
			}
			if _, err := f.sp.Write(buf[:n]); err != nil {
				if errors.Is(err, errTooLarge) {
					return err
				}
				return permanent{err}
			}
		}
		if err == io.EOF {
			break
		}
		if err != nil {
			return silent(err)
		}
	}
	if f.whole >= 0 && f.sp.size != f.whole {
		return fmt.Errorf("%s came, and %s were announced", phrase.Count(f.sp.size, "byte"), phrase.Grouped(f.whole))
	}
	return f.asSaid()
}

// request asks for the file, or for what is missing of it where the server allows
// that (RFC 9110, 14.2).
func (f *fetch) request(ctx context.Context) (*http.Request, error) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, f.url.String(), nil)
	if err != nil {
		return nil, err
	}
	req.Header.Set("Accept-Encoding", "gzip")
	req.Header.Set("User-Agent", "ambertray")
	if f.sp.size > 0 && f.resume {
		req.Header.Set("Range", "bytes="+strconv.FormatInt(f.sp.size, 10)+"-")
		req.Header.Set("If-Range", cmp.Or(f.etag, f.changed))
	}
	return req, nil
}

// follow decides whether a redirect is followed.
func follow(r *http.Request, via []*http.Request) error {
	if len(via) >= maxRedirects {
		return permanent{fmt.Errorf("more than %d redirects", maxRedirects)}
	}
	r.Header.Del("Referer") // which would tell others what the link has in it
	if !IsLink(r.URL.String()) {
		return permanent{fmt.Errorf("it redirects to %s, which is not followed", r.URL.Scheme)}
	}
	return nil
}

// answered takes over what the head of an answer says, and makes room for what
// follows it.
func (f *fetch) answered(resp *http.Response) error {
	from := f.sp.size
	switch {
	case resp.StatusCode == http.StatusPartialContent && from > 0:
		var at int64
		part := resp.Header.Get("Content-Range")
		if _, err := fmt.Sscanf(part, "bytes %d-", &at); err != nil || at != from {
			return permanent{fmt.Errorf("the server answers with another part than was asked for (%s)", part)}
		}
		if !f.sameVersion(resp, part) {
			f.resume = false // the next attempt begins anew
			if err := f.again(); err != nil {
				return permanent{err}
			}
			return errors.New("the server answers with a part of another version than was begun")
		}
	case resp.StatusCode == http.StatusOK:
		if err := f.again(); err != nil { // from the beginning
			return permanent{err}
		}
		f.whole = resp.ContentLength
	case resp.StatusCode >= 500 || resp.StatusCode == http.StatusTooManyRequests ||
		resp.StatusCode == http.StatusRequestTimeout:
		return fmt.Errorf("the server answers %s", resp.Status)
	default:
		return permanent{fmt.Errorf("the server answers %s", resp.Status)}
	}
	f.etag, f.changed = resp.Header.Get("ETag"), resp.Header.Get("Last-Modified")
	f.weak = f.etag
	if d := digestOf(resp); d != "" || resp.StatusCode == http.StatusOK {
		f.digest = d
	}
	if strings.HasPrefix(f.etag, "W/") {
		f.etag = ""
	}
	f.resume = resp.Header.Get("Accept-Ranges") == "bytes" && (f.etag != "" || f.changed != "") ||
		resp.StatusCode == http.StatusPartialContent
	f.base = answerName(resp)
	if f.whole <= 0 {
		return nil
	}
	if err := f.sp.room(f.whole - f.sp.size); err != nil {
		return permanent{err}
	}
	if f.whole > f.sp.limit {
		return errTooLarge
	}
	return nil
}

// sameVersion reports whether a part belongs to what has been read so far: by the tag,
// the time and the length that the server says of both (RFC 9110, 8.8 and 14.4).
func (f *fetch) sameVersion(resp *http.Response, part string) bool {
	etag, changed := resp.Header.Get("ETag"), resp.Header.Get("Last-Modified")
	if etag != f.weak && etag != "" || changed != f.changed && changed != "" || etag == "" && changed == "" {
		return false
	}
	if _, whole, is := strings.Cut(part, "/"); is && whole != "*" && f.whole >= 0 {
		n, err := strconv.ParseInt(whole, 10, 64)
		return err == nil && n == f.whole
	}
	return true
}

var sha256In = regexp.MustCompile(`sha-256=:([A-Za-z0-9+/=]+):`)

// digestOf is the SHA-256 of the whole file that an answer gives (RFC 9530).
func digestOf(resp *http.Response) string {
	given := resp.Header.Get("Repr-Digest")
	if given == "" && resp.StatusCode == http.StatusOK {
		given = resp.Header.Get("Content-Digest")
	}
	if m := sha256In.FindStringSubmatch(given); m != nil {
		return m[1]
	}
	return ""
}

// asSaid compares what was read with the digest that the server has said.
func (f *fetch) asSaid() error {
	if f.digest == "" {
		return nil
	}
	sum := sha256.New()
	if _, err := io.Copy(sum, io.NewSectionReader(f.sp.f, 0, f.sp.size)); err != nil {
		return permanent{err}
	}
	if base64.StdEncoding.EncodeToString(sum.Sum(nil)) == f.digest {
		return nil
	}
	if err := f.again(); err != nil {
		return permanent{err}
	}
	return errors.New("what came is not what the server says it sent (SHA-256)")
}

// again throws away what has been read.
func (f *fetch) again() error {
	if f.sp.size == 0 {
		return nil
	}
	sp, err := newSpool(f.sp.limit)
	if err != nil {
		return err
	}
	f.sp.close()
	f.sp = sp
	return nil
}

// answerName is the file's name as the answer gives it (RFC 6266), or the last
// part of the link.
func answerName(r *http.Response) string {
	if _, params, err := mime.ParseMediaType(r.Header.Get("Content-Disposition")); err == nil &&
		params["filename"] != "" {
		return path.Base(strings.ReplaceAll(params["filename"], `\`, "/"))
	}
	if name := path.Base(r.Request.URL.Path); name != "." && name != "/" {
		return name
	}
	return r.Request.URL.Hostname()
}

// secret is what parameters are called that give access to whoever has them.
var secret = regexp.MustCompile(`(?i)sig|token|key|secret|pass|pwd|auth|cred|jwt|session|^code$|^sas`)

// takenOut stands for the value of such a parameter.
const takenOut = "…"

// redactLink takes user, password and what else gives access out of a link.
func redactLink(link string) string {
	u, err := url.Parse(link)
	if err != nil {
		if i := strings.LastIndexByte(link, '@'); i >= 0 {
			return "https://…@" + link[i+1:]
		}
		return link
	}
	u.User = nil
	parts := strings.Split(u.RawQuery, "&")
	for i, p := range parts {
		if name, value, has := strings.Cut(p, "="); has && value != "" && (secret.MatchString(name) ||
			len(value) > 40) {
			parts[i] = name + "=" + takenOut
		}
	}
	u.RawQuery, u.Fragment = strings.Join(parts, "&"), ""
	return u.String()
}
