package source

import (
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Forgive reduces a header to what matters when names are compared: case,
// spaces and punctuation do not.
func Forgive(h string) string {
	return strings.ToLower(strings.Join(strings.FieldsFunc(h, func(r rune) bool {
		return r == ' ' || r == '_' || r == '-' || r == '.' || r == '\t' || r == '\u00a0'
	}), ""))
}

// Match matches the columns of sources by name, the n-th of a name being the
// n-th elsewhere. It returns the headers of all, those of the first first, and
// the place of each source's columns among them. same names headers that mean
// another.
func Match(sources []*Source, same map[string]string) (headers []string, at [][]int) {
	means := func(h string) string {
		for from, to := range same {
			if Forgive(from) == Forgive(h) {
				return to
			}
		}
		return h
	}
	known := map[string][]int{} // the places of a name among the headers
	for _, s := range sources {
		own := s.Layout.Columns[s.Layout.Lead:]
		var to []int
		nth := map[string]int{}
		for _, h := range own {
			h = means(h)
			key := Forgive(h)
			n := nth[key]
			nth[key]++
			if n == len(known[key]) {
				known[key] = append(known[key], len(headers))
				headers = append(headers, h)
			}
			to = append(to, known[key][n])
		}
		at = append(at, to)
	}
	return headers, at
}

var months = []string{"january", "february", "march", "april", "may", "june", "july", "august", "september", "october",
	"november", "december"}

// MonthOf finds the month that a text names, in English, German, French,
// Spanish, Italian or Dutch, whole or by its first letters; 0 if none.
func MonthOf(s string) int {
	s = strings.ToLower(strings.TrimSpace(strings.Trim(s, ".")))
	for _, list := range monthNames {
		for i, m := range list {
			if s == m || len([]rune(s)) >= 3 && strings.HasPrefix(m, s) {
				return i + 1
			}
		}
	}
	return 0
}

var monthNames = [][]string{
	months,
	{"januar", "februar", "märz", "april", "mai", "juni", "juli", "august", "september", "oktober", "november",
		"dezember"},
	{"janvier", "février", "mars", "avril", "mai", "juin", "juillet", "août", "septembre", "octobre", "novembre",
		"décembre"},
	{"enero", "febrero", "marzo", "abril", "mayo", "junio", "julio", "agosto", "septiembre", "octubre", "noviembre",
		"diciembre"},
	{"gennaio", "febbraio", "marzo", "aprile", "maggio", "giugno", "luglio", "agosto", "settembre", "ottobre",
		"novembre", "dicembre"},
	{"januari", "februari", "maart", "april", "mei", "juni", "juli", "augustus", "september", "oktober", "november",
		"december"},
}

var (
	numberIn = regexp.MustCompile(`\d+`)
	monthIn  = regexp.MustCompile(`(\d{4})[-_.]?(\d{2})`)
	wordIn   = regexp.MustCompile(`\pL+`)
)

// Gaps finds what is missing in names that follow each other: months by name,
// year and month, or numbers.
func Gaps(names []string) (missing []string) {
	if len(names) < 3 {
		return nil
	}
	if out, ok := monthGaps(names); ok {
		return out
	}
	if out, ok := gaps(names, monthIn, func(m []string) (int, bool) {
		y, _ := strconv.Atoi(m[1])
		n, _ := strconv.Atoi(m[2])
		return y*12 + n - 1, y > 1800 && y < 2200 && n >= 1 && n <= 12
	}, func(n int, like string) string {
		sep := strings.Trim(like, "0123456789")
		return time.Date(n/12, time.Month(n%12+1), 1, 0, 0, 0, 0, time.UTC).Format("2006" + sep + "01")
	}); ok {
		return out
	}
	out, _ := gaps(names, numberIn, func(m []string) (int, bool) {
		n, err := strconv.Atoi(m[0])
		return n, err == nil
	}, func(n int, like string) string {
		s := strconv.Itoa(n)
		for len(s) < len(like) && like[0] == '0' {
			s = "0" + s
		}
		return s
	})
	return out
}

// monthGaps reads names that have one month's name each, apart from which they
// are alike.
func monthGaps(names []string) (missing []string, ok bool) {
	seen := map[int]bool{}
	rest, language, short := "", -1, false
	for k, name := range names {
		found := 0
		other := name
		for _, w := range wordIn.FindAllString(name, -1) {
			if n := MonthOf(w); n > 0 && found == 0 {
				found = n
				other = strings.Replace(name, w, "%", 1)
				for l := range monthNames {
					full := monthNames[l][n-1]
					if language < 0 && strings.HasPrefix(full, strings.ToLower(w)) {
						language = l
					}
					short = short || l == language && len([]rune(w)) < len([]rune(full))
				}
			}
		}
		if found == 0 || seen[found] || k > 0 && other != rest {
			return nil, false
		}
		seen[found], rest = true, other
	}
	lo, hi := 12, 1
	for n := range seen {
		lo, hi = min(lo, n), max(hi, n)
	}
	for n := lo; n <= hi; n++ {
		if !seen[n] {
			m := monthNames[max(language, 0)][n-1]
			m = strings.ToUpper(m[:1]) + m[1:]
			if short {
				m = string([]rune(m)[:3])
			}
			missing = append(missing, strings.Replace(rest, "%", m, 1))
		}
	}
	return missing, true
}

// gaps reads names that have one number each, apart from which they are alike.
func gaps(names []string, in *regexp.Regexp,
	read func([]string) (int, bool), write func(n int, like string) string) (missing []string, ok bool) {
	var numbers []int
	rest, like := "", ""
	for k, name := range names {
		all := in.FindAllStringSubmatchIndex(name, -1)
		if len(all) == 0 {
			return nil, false
		}
		at := all[len(all)-1]
		n, good := read(in.FindStringSubmatch(name[at[0]:at[1]]))
		other := name[:at[0]] + "%" + name[at[1]:]
		if !good || k > 0 && other != rest {
			return nil, false
		}
		rest, like = other, name[at[0]:at[1]]
		numbers = append(numbers, n)
	}
	slices.Sort(numbers)
	for i := 1; i < len(numbers); i++ {
		for n := numbers[i-1] + 1; n < numbers[i]; n++ {
			if missing = append(missing, strings.Replace(rest, "%", write(n, like), 1)); len(missing) > 100 {
				return nil, false // these do not follow each other
			}
		}
	}
	return missing, true
}
