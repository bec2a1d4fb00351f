package connect_test

import (
	"fmt"

	"ambertray/internal/db/connect"
	"ambertray/internal/db/dialect"
	"ambertray/internal/sqltype"
)

// One table of standard types has a definition in each database.
func Example() {
	table := dialect.Table{Name: "tolls", Key: []string{"id"}, Columns: []dialect.Column{
		{Name: "id", Type: sqltype.Type{Kind: sqltype.Integer}, Required: true},
		{Name: "order", Type: sqltype.Type{Kind: sqltype.VarChar, Length: 20}, ASCII: true},
	}}
	for _, name := range []string{"postgres", "sqlserver"} {
		d, err := connect.ByName(name)
		if err != nil {
			panic(err)
		}
		fmt.Println(d.Create(table)[0])
	}
	// Output:
	// CREATE TABLE tolls (
	//     id      integer     NOT NULL,
	//     "order" varchar(20),
	//     PRIMARY KEY (id)
	// )
	// CREATE TABLE tolls (
	//     id      int         NOT NULL,
	//     [order] varchar(20),
	//     PRIMARY KEY (id)
	// )
}
