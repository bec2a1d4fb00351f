package plan_test

import (
	"fmt"

	"ambertray/internal/plan"
)

// A plan is read strictly: a slip is an error with its line.
func ExampleParse() {
	text := `ambertray: 1
sources:
  - file: tolls.csv
    header: 1
table:
  name: tolls
columns:
  - name: toll
    from: Toll
    type: decimal(8,2)
    readng: {decimal: ","}
`
	_, err := plan.Parse([]byte(text))
	fmt.Println(err)
	// Output:
	// line 11: unknown key "readng"; did you mean reading?
}
