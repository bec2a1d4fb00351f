package reading_test

import (
	"fmt"

	"ambertray/internal/reading"
	"ambertray/internal/sqltype"
)

// A reader turns a field into a typed value, or says why it is none.
func ExampleReader() {
	typ, _ := sqltype.Parse("decimal(8,2)")
	r := &reading.Reader{Type: typ, Number: reading.Number{Thousands: reading.Point, Decimal: reading.Comma}}
	if err := r.Prepare(); err != nil {
		panic(err)
	}
	for _, field := range []string{"1.250,50", "0,5", "1O,50", "1,005"} {
		var v reading.Value
		if misfit := r.Read([]byte(field), false, &v); misfit != reading.OK {
			fmt.Printf("%s: %s\n", field, misfit.Reason(typ, []byte(field)))
			continue
		}
		fmt.Printf("%s is %s\n", field, v.Plain(typ))
	}
	// Output:
	// 1.250,50 is 1250.50
	// 0,5 is 0.50
	// 1O,50: not a number
	// 1,005: more digits behind the point than decimal(8,2) holds
}

// Patterns are those of Unicode LDML.
func ExamplePattern() {
	p := reading.MustPattern("d MMM yyyy, HH:mm")
	for _, text := range []string{"5 Mar 2024, 07:30", "31 Feb 2024, 07:30", "2024-03-05"} {
		var c reading.Civil
		if m := p.Parse([]byte(text), &c); m != reading.OK {
			fmt.Println(text, "is", m.Code())
			continue
		}
		fmt.Printf("%04d-%02d-%02d %02d:%02d\n", c.Year, c.Month, c.Day, c.Hour, c.Minute)
	}
	// Output:
	// 2024-03-05 07:30
	// 31 Feb 2024, 07:30 is no-such-date
	// 2024-03-05 is not-this-form
}
