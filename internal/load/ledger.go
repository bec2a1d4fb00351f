package load

import (
	"encoding/json"

	"ambertray/internal/db"
)

// ledgerRows are what the ledger says of the load, a row for each source.
func (r *run) ledgerRows() (rows []db.LedgerRow) {
	receipt := r.job.Receipt
	sums := map[string]string{}
	for _, c := range receipt.Columns {
		if c.Sum != "" {
			sums[c.Name] = c.Sum
		}
	}
	text, _ := json.Marshal(sums) // a map of texts can be encoded
	for _, s := range receipt.Sources {
		rows = append(rows, db.LedgerRow{Entry: receipt.Entry, Table: receipt.Table.Name, Mode: receipt.Table.Mode,
			Source: s.Path, Part: s.Part, Bytes: s.Size, SHA256: s.SHA256, Before: receipt.Table.Before,
			After: receipt.Table.Rows, Read: r.Records.Read, Loaded: r.Records.Loaded, Reject: r.Records.Rejected,
			Sums: string(text), By: r.job.By, At: receipt.Started.Format("2006-01-02 15:04:05.000"),
			Version: receipt.Version})
	}
	return rows
}
