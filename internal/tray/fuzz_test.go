package tray

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A receipt is read or refused, and what is read is written the same again.
func FuzzReceipt(f *testing.F) {
	f.Add([]byte(`{"entry":"a","records":{"read":3,"loaded":2,"rejected":1},"columns":[{"name":"x","type":"decimal(6,2)","nulls":0,"sum":"1.25","smallest":"1","largest":"2"}],"mends":[{"mended":[1]}]}`))
	f.Add([]byte(`{"columns":[{"type":"date","ticks":"12","smallest":"2024-05-01","largest":"x"}],"waivers":[{"rejects":[1,2,99]}]}`))
	f.Fuzz(func(t *testing.T, b []byte) {
		e := &Entry{Dir: t.TempDir(), Name: "e"}
		require.NoError(t, os.WriteFile(e.Path(ReceiptFile), b, 0o600))
		r, err := e.Receipt()
		if err != nil || r == nil {
			return
		}
		for _, c := range r.Columns {
			_, _ = c.Tally(c.Type, r.Records.Loaded)
		}
		r.Settled()
		r.Uncompared()
		once, err := r.Encode()
		if err != nil {
			return
		}
		var again Receipt
		require.NoError(t, json.Unmarshal(once, &again))
		twice, err := again.Encode()
		require.NoError(t, err)
		assert.Equal(t, once, twice)
		r.Settle()
		e.Look()
	})
}

// A file of rejects, as somebody has left it, is read or refused; what is read, and
// written for a spreadsheet, reads the same.
func FuzzRejects(f *testing.F) {
	f.Add([]byte("reject,source,line,record,column,code,reason,value,id,toll\n1,a.csv,2,1,toll,not-a-number,not a number,x,1,x\n"))
	f.Add([]byte("reject;source;line;record;column;reason;value;id\r\n1;a.csv;2;1;toll;no;\"=1\";'=1\r\n"))
	f.Add([]byte("reject,source,line,cell,record,column,code,reason,value,marked,id\n7,a,2,B2,1,c,x,y,z,1,'=1\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		dir := t.TempDir()
		path := filepath.Join(dir, "r.csv")
		require.NoError(t, os.WriteFile(path, b, 0o600))
		var all []Reject
		headers, err := ReadRejects(t.Context(), path, func(x *Reject) error { all = append(all, *x); return nil })
		if err != nil || len(all) == 0 || len(headers) == 0 {
			return
		}
		var out bytes.Buffer
		w := RejectsTo(&out, headers).Cells().ForSpreadsheet()
		for _, x := range all {
			require.NoError(t, w.AddAs(x))
		}
		require.NoError(t, w.Finish())
		require.NoError(t, os.WriteFile(path, out.Bytes(), 0o600))
		n := 0
		_, err = ReadRejects(t.Context(), path, func(x *Reject) error {
			for i, f := range x.Fields {
				was := ""
				if i < len(all[n].Fields) {
					was = all[n].Fields[i].Text
				}
				require.Equal(t, was, f.Text) // a field that was left out at the end is blank
			}
			require.Equal(t, all[n].Value, x.Value)
			n++
			return nil
		})
		require.NoError(t, err)
		require.Len(t, all, n)
	})
}

// A chain is read whatever it is, and nothing that was changed passes.
func FuzzChain(f *testing.F) {
	f.Add([]byte(`{"number":1,"at":"2026-05-01T00:00:00Z","entry":"a","papers":{"plan.yaml":"00"},"previous":""}` + "\n"))
	f.Fuzz(func(t *testing.T, b []byte) {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, ChainFile), b, 0o600))
		c, err := ReadChain(dir)
		require.NoError(t, err)
		c.Gone(dir)
		_, err = c.Sealed(&Entry{Dir: dir, Name: "a"})
		require.NoError(t, err)
	})
}
