package derive

import (
	"testing"

	"ambertray/internal/sqltype"
)

// Whatever is written as an expression compiles or is a mistake, and yields a value, a
// null or an error for every type; within its bounds.
func FuzzExpression(f *testing.F) {
	for _, text := range []string{`n + 1`, `pad(field["Permit No."], 6)`, `filter(1..10, # % 2 == 0)`, `let a = lock; a + a`,
		`part(source.file, "([0-9]+)")`, `choose(lock, {"a": 1}, 2)`, `day.Year()`, `toll ?? 0`, `note?.x`, `reduce(1..5, #acc + #)`,
		`replace(lock, "e", "ee")`, `repeat("x", n)`, `join(split(lock, ""), ",")`, `1 / 0`, `"a" in ["a"]`, `lock matches "^N"`} {
		f.Add(text)
	}
	types := []sqltype.Type{{Kind: sqltype.Text}, {Kind: sqltype.Integer}, {Kind: sqltype.Decimal, Precision: 8, Scale: 2}, {Kind: sqltype.Date}}
	f.Fuzz(func(t *testing.T, text string) {
		r, vars := record(t)
		for _, condition := range []bool{false, true} {
			p, err := Compile(text, vars, condition)
			if err != nil {
				if err.Error() == "" {
					t.Fatal("a mistake without a word")
				}
				continue
			}
			if condition {
				_, _ = p.Keep(r)
				continue
			}
			for _, typ := range types {
				if b, err := p.Text(r, typ); err == nil && len(b) > 2*mostText {
					t.Fatalf("%d bytes", len(b))
				}
			}
		}
	})
}
