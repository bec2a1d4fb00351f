package desk_test

import (
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"

	"ambertray/internal/db"
	"ambertray/internal/desk"
)

// A load without a terminal: request in, answer out.
func ExampleDesk_Load() {
	dir, err := os.MkdirTemp("", "harrowmere")
	if err != nil {
		panic(err)
	}
	defer os.RemoveAll(dir)
	file := filepath.Join(dir, "tolls.csv")
	if err := os.WriteFile(file, []byte("id,toll\n1,0.50\n2,1.25\n"), 0o600); err != nil {
		panic(err)
	}
	d := &desk.Desk{Version: "example", Tray: filepath.Join(dir, "tray"), Log: slog.New(slog.DiscardHandler)}
	defer d.Close()
	answer, err := d.Load(context.Background(), desk.LoadRequest{
		Input: desk.Input{Names: []string{file}},
		Into:  desk.DatabaseRequest{URL: "sqlite:" + filepath.Join(dir, "canal.db")},
		Mode:  db.Create,
		Limit: desk.RejectLimit{Count: -1},
	})
	if err != nil {
		panic(err)
	}
	fmt.Println(answer.Receipt.Records.Read, "read,", answer.Receipt.Table.Rows, "in the table:", answer.Receipt.Verdict)
	// Output:
	// 2 read, 2 in the table: clear
}
