package charset

import (
	"bytes"
	"cmp"
	"fmt"
	"io"
	"math"
	"slices"
	"strings"
	"sync"
	"unicode"
	"unicode/utf8"

	"ambertray/internal/phrase"
)

// A Verdict is which encoding a text is in.
type Verdict struct {
	Encoding, Why string
	// Guess tells that nothing but the letters it has speaks for it.
	Guess bool
	// Others are encodings that are as likely, or nearly, and give another text.
	Others []string
	// Mixed is what the bytes that are not UTF-8 are likely to be, in a text of which
	// others are.
	Mixed string
}

// Of is the encoding that the beginning of a text is in. The error is a NoText, or
// nil. cut tells that the text goes on.
func Of(head []byte, cut bool) (v Verdict, err error) {
	if v.Encoding, v.Why = byMark(head); v.Encoding != "" {
		return v, nil
	}
	if v.Encoding, v.Why = byNULs(head); v.Encoding != "" {
		return v, nil
	}
	if shifted(head) {
		return Verdict{Encoding: "iso-2022-jp", Why: "escapes to its characters and back"}, nil
	}
	if err := binary(head); err != nil {
		return v, err
	}
	good, bad := countUTF8(head, cut)
	v.Encoding = "utf-8"
	switch {
	case bad == 0 && good == 0 && inUTF7.Match(head):
		return v, &NoText{fmt.Sprintf("looks like UTF-7: %q stands for a letter in it", inUTF7.Find(head)),
			"ask for the file as UTF-8; if it is plain text after all, use --encoding utf-8"}
	case bad == 0 && good == 0:
		v.Why = "the beginning is plain ASCII"
		return v, nil
	case bad == 0:
		v.Why = phrase.Plain(good, "character") + " beyond ASCII in the beginning, all valid UTF-8"
		return v, nil
	}
	tries := guess(head, good > 0)
	best := tries[0]
	if mixed := strings.HasPrefix(best.encoding, Mixed); mixed || good > bad {
		v.Why = fmt.Sprintf("%s valid UTF-8, but %s not", phrase.Plain(good, "character"), phrase.Plain(bad, "byte"))
		if mixed {
			v.Mixed = best.encoding
		}
		return v, nil
	}
	v.Encoding, v.Guess = best.encoding, true
	v.Why = fmt.Sprintf("%s in the beginning cannot be UTF-8; as %s, %s the letters of %s; a guess",
		phrase.Plain(bad, "byte"), best.encoding, best.has(), best.tongue)
	for _, t := range tries[1:] {
		if best.score-t.score < enough && !slices.Equal(t.words, best.words) && len(v.Others) < 3 &&
			!slices.ContainsFunc(tries, func(o *try) bool { // the same text by another name
				return slices.Contains(v.Others, o.encoding) && slices.Equal(o.words, t.words)
			}) {
			v.Others = append(v.Others, t.encoding)
		}
	}
	return v, nil
}

// A candidate is an encoding that texts without a mark come in. Before a text is
// looked at, it is rare by so many powers of ten.
type candidate struct {
	name    string
	rare    float64
	tongues string
	seldom  string // tongues that are mostly written in others
}

const (
	western = "German French Spanish Italian Portuguese Dutch Swedish Danish Norwegian Finnish Icelandic Catalan " +
		"Albanian"
	central  = "Polish Czech Slovak Hungarian Slovene Croatian Romanian"
	cyrillic = "Russian Ukrainian Bulgarian Belarusian Serbian Macedonian"
)

// The candidates, the usual ones first: of two that give the same text, the first is
// taken.
var candidates = []candidate{
	{"windows-1252", 0, western, "Estonian"},
	{"iso-8859-15", 1, western, "Estonian"},
	{"windows-1250", 0.8, central, "German"},
	{"iso-8859-2", 1, central, "German"},
	{"windows-1251", 0.5, cyrillic, ""},
	{"windows-1253", 0.5, "Greek", ""},
	{"windows-1254", 1, "Turkish", "German"},
	{"windows-1255", 0.7, "Hebrew", ""},
	{"windows-1256", 0.7, "Arabic Persian", "French"},
	{"windows-1257", 1.2, "Lithuanian Latvian Estonian", "German"},
	{"windows-874", 1, "Thai", ""},
	{"koi8-r", 1, "Russian", "Bulgarian"},
	{"koi8-u", 1, "Ukrainian", "Russian"},
	{"iso-8859-5", 2, cyrillic, ""},
	{"iso-8859-7", 1, "Greek", ""},
	{"iso-8859-16", 3, "Romanian", ""},
	{"ibm850", 1.2, western, ""},
	{"ibm437", 1.5, western, ""},
	{"ibm852", 1.2, central, "German"},
	{"ibm866", 1, "Russian Ukrainian Bulgarian Belarusian", ""},
	{"macintosh", 1.5, western, ""},
	{"x-mac-cyrillic", 2, cyrillic, ""},
	{"shift_jis", 0.7, "Japanese", ""},
	{"euc-jp", 1, "Japanese", ""},
	{"gb18030", 0.7, "Chinese, simplified", ""},
	{"big5", 0.7, "Chinese, traditional", ""},
	{"euc-kr", 0.7, "Korean", ""},
}

// enough is by how many powers of ten one has to be more likely than another for no
// question to be asked.
const enough = 1.5

// seldom is how rare a tongue is in an encoding that it is seldom written in, several
// is how rare texts in several tongues are, and hopeless is how far behind an encoding
// is after the first words to be given up: all powers of ten.
const (
	seldom   = 1.5
	several  = 0.5
	hopeless = 15
)

// A try is a text as it reads in one encoding.
type try struct {
	candidate
	encoding string
	words    []string // with something beyond ASCII
	score    float64  // how likely it is, as a power of ten
	tongue   string
	known    int // words with none but the tongue's letters
}

func (t *try) has() string {
	if t.known == len(t.words) {
		return phrase.Plain(t.known, "word") + " beyond ASCII " +
			map[bool]string{true: "has", false: "have"}[t.known == 1]
	}
	return fmt.Sprintf("%d of %s beyond ASCII have", t.known, phrase.Plain(len(t.words), "word"))
}

var weighed = sync.OnceValue(func() []*tongue {
	for _, t := range tongues {
		t.weigh()
	}
	return tongues
})

// guess tries all candidates, the likeliest first: with few words all of them, then
// those that are left with all words.
func guess(head []byte, mixed bool) []*try {
	var tries []*try
	for _, c := range candidates {
		tries = append(tries, &try{candidate: c, encoding: c.name})
	}
	if mixed {
		c := candidates[0]
		c.rare = 1
		tries = append(tries, &try{candidate: c, encoding: Mixed + c.name})
	}
	parts := partsOf(head)
	for _, n := range []int{min(30, len(parts)), len(parts)} {
		for _, t := range tries {
			t.read(parts[:n])
		}
		slices.SortStableFunc(tries, func(a, b *try) int { return cmp.Compare(b.score, a.score) })
		tries = slices.DeleteFunc(tries, func(t *try) bool { return tries[0].score-t.score > hopeless })
	}
	return tries
}

// partsOf cuts a text where no encoding has a part of a character, and returns the
// different parts that have something beyond ASCII, with a digit on either side if there
// is one; as many as tell enough.
func partsOf(head []byte) (parts [][]byte) {
	seen := map[string]bool{}
	room := 6 << 10
	for i := 0; i < len(head) && room > 0; i++ {
		if head[i] < utf8.RuneSelf {
			continue
		}
		from, to := i, i
		for from > 0 && head[from-1] >= '@' {
			from--
		}
		for to < len(head) && head[to] >= '@' {
			to++
		}
		i = to
		if from > 0 && isDigit(head[from-1]) {
			from--
		}
		if to < len(head) && isDigit(head[to]) {
			to++
		}
		if p := head[from:to]; len(p) <= 1<<10 && !seen[string(p)] {
			seen[string(p)] = true
			parts = append(parts, p)
			room -= len(p)
		}
	}
	return parts
}

func isDigit(c byte) bool { return c >= '0' && c <= '9' }

// read reads parts of a text, and says how likely it is that people have written
// these words: in one tongue, or each in one of several.
func (t *try) read(parts [][]byte) {
	words := make([][]rune, len(parts))
	each := make([]float64, len(parts)) // the best of all tongues
	t.words = make([]string, len(parts))
	for i, p := range parts {
		// What is in memory and known to be an encoding is read without an error.
		r, err := Decode(bytes.NewReader(p), t.encoding)
		if err == nil {
			b, _ := io.ReadAll(r)
			t.words[i] = string(b)
		}
		each[i], words[i] = math.Inf(-1), []rune(t.words[i])
	}
	t.score = math.Inf(-1)
	tongues := t.those()
	for _, g := range tongues {
		sum, known := -t.rare, 0
		if strings.Contains(t.seldom, g.name) {
			sum -= seldom
		}
		for i, w := range words {
			s, all := g.likely(w)
			sum += s
			each[i] = max(each[i], s)
			if all {
				known++
			}
		}
		if sum > t.score {
			t.score, t.tongue, t.known = sum, g.name, known
		}
	}
	sum := -t.rare - several
	for _, s := range each {
		sum += s - math.Log10(float64(len(tongues)))
	}
	if sum > t.score {
		t.score, t.tongue, t.known = sum, "several languages", len(words)
	}
}

// those are the tongues that the candidate is written in.
func (c *candidate) those() (out []*tongue) {
	for _, g := range weighed() {
		if strings.Contains(c.tongues, g.name) || strings.Contains(c.seldom, g.name) {
			out = append(out, g)
		}
	}
	return out
}

// likely is how likely a word is in a tongue, as a power of ten; all tells that it
// has no letters beyond ASCII but the tongue's.
func (g *tongue) likely(word []rune) (sum float64, all bool) {
	beyond := 0.15 // share of the letters beyond ASCII, in words that have some
	if g.script != unicode.Latin {
		beyond = 0.97
	}
	all = true
	before := ' '
	for i, r := range word {
		p := 1 - beyond
		letter := unicode.IsLetter(r) && r != 'ª' && r != 'º'
		switch {
		case r < utf8.RuneSelf && !letter:
			p = 1
		case r < utf8.RuneSelf:
		case letter:
			w, is := g.weights[unicode.ToLower(r)]
			p = beyond * w
			if !is {
				all, p = false, beyond*g.strange(r)
			}
		default:
			p = symbol(r, unicode.IsLetter(before), i+1 < len(word) && unicode.IsLetter(word[i+1]))
			if unicode.Is(unicode.Mn, r) && g.weights[r] > 0 { // a vowel over a consonant
				p = beyond * g.weights[r]
			}
		}
		if alone := letter && r >= utf8.RuneSelf && !unicode.IsLetter(before) && !g.many() &&
			(i+1 == len(word) || !unicode.IsLetter(word[i+1])); alone && (unicode.IsDigit(before) ||
			i+1 < len(word) && unicode.IsDigit(word[i+1])) {
			p *= 0.001 // a sign of a currency, or of a unit, stands there
		}
		if letter && unicode.IsLetter(before) && (r >= utf8.RuneSelf || before >= utf8.RuneSelf) {
			if unicode.IsUpper(r) && unicode.IsLower(before) {
				p *= 0.01
			}
			if scriptOf(r) != scriptOf(before) {
				p *= 0.001
			}
		}
		sum += math.Log10(p)
		before = r
	}
	return sum, all
}

// many reports whether the tongue is written with a letter for a syllable or a word.
func (g *tongue) many() bool { return g.script == unicode.Han || g.script == unicode.Hangul }

// strange is the share of a letter that the tongue is not written with.
func (g *tongue) strange(r rune) float64 {
	switch s := scriptOf(r); {
	case r >= 0xff66 && r <= 0xff9f && g.weights['ン'] > 0: // of half width
		return 3e-3
	case s == nil || s != g.script:
		return 1e-6
	case g.many():
		return 1e-4
	}
	return 2e-4
}

// symbol is how likely a character is that is no letter, with letters before and after
// it or not.
func symbol(r rune, before, after bool) float64 {
	switch {
	case r == utf8.RuneError, r >= 0x80 && r < 0xa0, unicode.Is(unicode.Co, r):
		return 1e-6 // not defined, a control, or private
	case r == '’' && before, strings.ContainsRune("\u00a0·–", r):
		return 0.01
	case before && after:
		return 1e-4
	case strings.ContainsRune("“”‘„…—€£°²³µ½¼«»§×ªº©®™•", r):
		return 0.01
	case r >= 0x3000 && r < 0x3040, r >= 0xff00 && r < 0xff61: // marks and letters of full width
		return 0.01
	case r >= 0x2500 && r < 0x2600: // lines and blocks
		return 1e-5
	}
	return 2e-4
}
