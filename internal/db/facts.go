package db

import (
	"fmt"
	"math/big"
	"strconv"
	"strings"

	"ambertray/internal/db/dialect"
	"ambertray/internal/sqltype"
	"ambertray/internal/tally"
)

// LooseColumns tells of each column whether a table has it in a type that
// cannot be compared by value.
func LooseColumns(t *Table, columns []dialect.Column) []bool {
	loose := make([]bool, len(columns))
	if t == nil {
		return loose
	}
	places := t.Places()
	for i, c := range columns {
		at, is := places[c.Name]
		loose[i] = is && t.Columns[at].SQL.Kind == sqltype.None
	}
	return loose
}

// ParseFacts makes tallies of what a server says in one row: the number of
// rows, and for each column how many values are not null, their sum, the
// smallest and the largest, all as text. Dates count in days, times in
// microseconds; the sum of text is its length in bytes.
func ParseFacts(columns []dialect.Column, loose []bool, row []*string) (int64, []tally.Tally, error) {
	if len(row) != 1+4*len(columns) || row[0] == nil {
		return 0, nil, fmt.Errorf("the tally has %d values, not %d", len(row), 1+4*len(columns))
	}
	rows, err := strconv.ParseInt(*row[0], 10, 64)
	if err != nil {
		return 0, nil, err
	}
	out := make([]tally.Tally, len(columns))
	for i, c := range columns {
		t := &out[i]
		t.Type, t.Loose = c.Type, loose[i]
		f := row[1+4*i : 5+4*i]
		filled, err := strconv.ParseInt(*f[0], 10, 64)
		if err != nil {
			return 0, nil, err
		}
		nulls := rows - filled
		switch {
		case t.Loose:
			t.Set(rows, nulls, nil, nil, nil)
		case c.Type.IsText() || c.Type.Kind == sqltype.UUID:
			octets := int64(0)
			if f[1] != nil {
				if octets, err = strconv.ParseInt(*f[1], 10, 64); err != nil {
					return 0, nil, err
				}
			}
			t.SetText(rows, nulls, octets, bytesOf(f[2]), bytesOf(f[3]))
		case c.Type.Kind == sqltype.Double:
			lo, hi := 0.0, 0.0
			if f[2] != nil {
				if lo, err = strconv.ParseFloat(*f[2], 64); err != nil {
					return 0, nil, err
				}
				if hi, err = strconv.ParseFloat(*f[3], 64); err != nil {
					return 0, nil, err
				}
			}
			t.SetFloat(rows, nulls, lo, hi)
		default:
			var n [3]*big.Int
			for k := range n {
				if n[k], err = unscaled(f[1+k], decimals(c.Type)); err != nil {
					return 0, nil, fmt.Errorf("column %s: %w", c.Name, err)
				}
			}
			t.Set(rows, nulls, n[0], n[1], n[2])
		}
	}
	return rows, out, nil
}

// HasTotal reports whether [Checks] have the sum of a type's values: of all that
// are not sent as they are read.
func HasTotal(t sqltype.Type) bool {
	return !t.IsText() && t.Kind != sqltype.UUID && t.Kind != sqltype.Double && t.Kind != sqltype.None
}

// ParseTotals makes sums of what a server says of those columns whose types
// have one.
func ParseTotals(columns []dialect.Column, have func(sqltype.Type) bool, texts []*string) ([]*big.Int, error) {
	out := make([]*big.Int, len(columns))
	for i, c := range columns {
		if !have(c.Type) {
			continue
		}
		n, err := unscaled(texts[0], decimals(c.Type))
		if err != nil {
			return nil, fmt.Errorf("column %s: %w", c.Name, err)
		}
		if texts = texts[1:]; n == nil {
			n = new(big.Int)
		}
		out[i] = n
	}
	return out, nil
}

// decimals is how many digits of a type's values stand behind the point.
func decimals(t sqltype.Type) int {
	if t.Kind == sqltype.Decimal {
		return t.Scale
	}
	return 0
}

func bytesOf(s *string) []byte {
	if s == nil {
		return nil
	}
	return []byte(*s)
}

// unscaled reads a decimal and takes the point out at a scale. Digits beyond
// the scale must be zeros: anything else is not what was loaded.
func unscaled(s *string, scale int) (*big.Int, error) {
	if s == nil {
		return nil, nil
	}
	whole, fraction, _ := strings.Cut(*s, ".")
	if len(fraction) > scale {
		if strings.Trim(fraction[scale:], "0") != "" {
			return nil, fmt.Errorf("%s has more than %d decimals", *s, scale)
		}
		fraction = fraction[:scale]
	}
	n, ok := new(big.Int).SetString(whole+fraction+strings.Repeat("0", scale-len(fraction)), 10)
	if !ok {
		return nil, fmt.Errorf("%q is not a number", *s)
	}
	return n, nil
}
