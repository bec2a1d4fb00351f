package phrase

import (
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/agnivade/levenshtein"
)

// Nearest are the words that may be meant by one that is not known: those that are the fewest
// letters away, two at most, and fewer for a short word; none if that is true of too many.
func Nearest(word string, known []string) (out []string) {
	best := min(2, utf8.RuneCountInString(word)/2)
	for _, k := range known {
		d := levenshtein.ComputeDistance(strings.ToLower(word), strings.ToLower(k))
		if d < best {
			out, best = nil, d
		}
		if d == best && d > 0 || d == 0 && k != word {
			out = append(out, k)
		}
	}
	// Letters that were swapped tell more than letters that are others.
	same := slices.DeleteFunc(slices.Clone(out), func(k string) bool { return letters(k) != letters(word) })
	if len(same) > 0 {
		out = same
	}
	if len(out) > 3 {
		return nil
	}
	return out
}

// letters are those of a word in order.
func letters(s string) string {
	r := []rune(strings.ToLower(s))
	slices.Sort(r)
	return string(r)
}

// Meant asks whether one of the words that are near was meant; nothing if none is.
func Meant(word string, known []string) string {
	if near := Nearest(word, known); len(near) > 0 {
		return "did you mean " + strings.Join(near, " or ") + "?"
	}
	return ""
}
