package delimited_test

import (
	"fmt"
	"io"
	"strings"

	"ambertray/internal/source/delimited"
)

// Text is cut into chunks at record ends, and a chunk into records.
func Example() {
	text := "lock,remarks\nAlder Gate,\"slow,\nand deep\"\nWithy Cut,\"torn\"page\n"
	chunks := delimited.NewChunker(strings.NewReader(text), delimited.DefaultForm, 1)
	splitter := delimited.NewSplitter(delimited.DefaultForm)
	for {
		chunk, err := chunks.Next()
		if err == io.EOF {
			return
		}
		var rec delimited.Record
		for splitter.Reset(chunk); splitter.Next(&rec); {
			fmt.Printf("line %d: %q", rec.Line, rec.Fields)
			if rec.Fault != delimited.NoFault {
				fmt.Printf(" (%s)", rec.Fault)
			}
			fmt.Println()
		}
		chunk.Release()
	}
	// Output:
	// line 1: ["lock" "remarks"]
	// line 2: ["Alder Gate" "slow,\nand deep"]
	// line 4: ["Withy Cut" "\"torn\"page"] (text follows the closing quote)
}
