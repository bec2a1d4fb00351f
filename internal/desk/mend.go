package desk

import (
	"context"
	"fmt"
	"os"
	"os/user"
	"slices"
	"strconv"
	"strings"
	"time"

	"ambertray/internal/account"
	"ambertray/internal/db"
	"ambertray/internal/tray"
)

// A MendRequest loads corrected rejects.
type MendRequest struct {
	Entry string
	// File has them; empty: the entry's own.
	File     string
	At       DatabaseRequest
	SlowPath bool
}

// A MendAnswer is what became of them.
type MendAnswer struct {
	Document
	Entry         string              `json:"entry"`
	Tried         int                 `json:"tried"`
	Mended        []int64             `json:"mended"`
	Refused       []tray.RefusedAgain `json:"refused"`
	SettledBefore []int64             `json:"settled_before"`
	Records       tray.Records        `json:"records"`
	Verdict       tray.Verdict        `json:"verdict"`

	File    string        `json:"-"` // as the person called it
	Receipt *tray.Receipt `json:"-"` // the entry's new one
}

// Outcome is what it comes to.
func (a *MendAnswer) Outcome() Outcome { return settled(a.Receipt) }

// Mend loads the corrected rejects of an entry, and settles its account.
func (d *Desk) Mend(ctx context.Context, r MendRequest) (*MendAnswer, error) {
	e, err := d.entryAt(ctx, r.Entry, r.At, true)
	if err != nil {
		return nil, err
	}
	defer e.close()
	if e.Receipt.Verdict != tray.Waiting {
		return nil, need("%s: nothing waits to be mended", e.Name)
	}
	t := e.Receipt.Table
	if err := d.hold(ctx, e.conn, db.Name{Schema: t.Schema, Table: t.Name}, r.At); err != nil {
		return nil, err
	}
	shown := r.File
	if r.File == "" {
		r.File, shown = e.Path(tray.RejectsFile), tray.RejectsFile
	}
	if r.File != e.Path(tray.RejectsFile) {
		form, err := tray.FormOf(ctx, r.File)
		if err != nil {
			return nil, err
		}
		d.tell(NoteEvent{shown + ": " + form})
	}
	e.log.Info("mend", "version", d.Version, "file", shown)
	m := d.meter(ctx, "mending", 0)
	out, err := account.Mend(ctx, account.MendJob{Entry: e.Entry, Receipt: e.Receipt, Plan: e.Plan, File: r.File,
		Name: shown, Session: e.conn,
		SlowPath: r.SlowPath, Log: e.log, Progress: m.Set, At: time.Now()})
	m.End()
	if err != nil {
		switch {
		case db.IsUnsure(err):
			err = fmt.Errorf("%w\n  do not mend again before 'ambertray verify %s' has settled it", err, e.Name)
		case ctx.Err() != nil:
			err = &Stopped{"nothing was committed"}
		}
		e.log.Error("mend failed", "error", err)
		return nil, err
	}
	return &MendAnswer{Document: document("mend"), Entry: e.Name, Tried: out.Tried, Mended: list(out.Mended),
		Refused:       list(out.Refused),
		SettledBefore: list(out.Settled), Records: out.Receipt.Records, Verdict: out.Receipt.Verdict, File: shown,
		Receipt: out.Receipt}, nil
}

// A WaiveRequest settles rejects without loading them.
type WaiveRequest struct {
	Entry   string
	Rejects string // numbers like 3,7-9, or all
	Because string
}

// A WaiveAnswer is what was waived.
type WaiveAnswer struct {
	Document
	Entry   string       `json:"entry"`
	Waived  []int64      `json:"waived"`
	Because string       `json:"because"`
	Records tray.Records `json:"records"`
	Verdict tray.Verdict `json:"verdict"`

	Receipt *tray.Receipt `json:"-"`
}

// Outcome is what it comes to.
func (a *WaiveAnswer) Outcome() Outcome { return settled(a.Receipt) }

// Waive settles rejects of an entry for a reason, which is kept.
func (d *Desk) Waive(r WaiveRequest) (*WaiveAnswer, error) {
	e, err := d.entry(r.Entry)
	if err != nil {
		return nil, err
	}
	if strings.TrimSpace(r.Because) == "" {
		return nil, need("--waive: say why with --because TEXT; the reason is kept with the receipt")
	}
	defer e.close()
	if err := d.claim(e); err != nil {
		return nil, err
	}
	if p, err := e.Pending(); err != nil || p != nil {
		return nil,
			need("%s: the program was ended at a commit\n  "+
				"run 'ambertray verify %s' first, which asks the table what it came to", e.Name, e.Name)
	}
	receipt := e.Receipt
	if receipt == nil || receipt.Verdict != tray.Waiting {
		return nil, need("%s: nothing waits", e.Name)
	}
	chosen, err := chosen(receipt, r.Rejects)
	if err != nil {
		return nil, err
	}
	by := os.Getenv("USER")
	if u, err := user.Current(); err == nil {
		by = u.Username
	}
	receipt.Waivers = append(receipt.Waivers, tray.Waiver{Rejects: chosen, Because: r.Because, By: by, At: now()})
	receipt.Settle()
	e.log.Info("waived", "version", d.Version, "rejects", Numbers(chosen), "because", r.Because, "by", by)
	if err := e.WriteReceipt(receipt); err != nil {
		return nil, err
	}
	return &WaiveAnswer{document("waive"), e.Name, list(chosen), r.Because, receipt.Records, receipt.Verdict, receipt},
		nil
}

// chosen are the rejects that a text names, all of which must wait.
func chosen(r *tray.Receipt, which string) ([]int64, error) {
	mended, waived := r.Settled()
	var waiting []int64
	for n := int64(1); n <= r.Rejects(); n++ {
		if !mended[n] && !waived[n] {
			waiting = append(waiting, n)
		}
	}
	if which == "all" {
		return waiting, nil
	}
	numbers, err := parseNumbers(which)
	if err != nil {
		return nil, need("--waive %q: %w\n  write numbers like 3,7-9, or all", which, err)
	}
	for _, n := range numbers {
		if !slices.Contains(waiting, n) {
			return nil, need("--waive: the reject %d does not wait\n  those that wait are %s; nothing was changed", n,
				Numbers(waiting))
		}
	}
	return numbers, nil
}

// parseNumbers reads 3,7-9.
func parseNumbers(s string) (out []int64, err error) {
	for _, part := range strings.Split(s, ",") {
		from, to, ranged := strings.Cut(strings.TrimSpace(part), "-")
		a, err := strconv.ParseInt(from, 10, 64)
		if err != nil || a < 1 {
			return nil, fmt.Errorf("%q is not a number of a reject", part)
		}
		b := a
		if ranged {
			if b, err = strconv.ParseInt(to, 10, 64); err != nil || b < a || b-a > 10_000_000 {
				return nil, fmt.Errorf("%q is not a range of rejects", part)
			}
		}
		for n := a; n <= b; n++ {
			out = append(out, n)
		}
	}
	slices.Sort(out)
	return slices.Compact(out), nil
}

// Numbers writes 3, 7-9.
func Numbers(list []int64) string {
	list = slices.Clone(list)
	slices.Sort(list)
	var parts []string
	for i := 0; i < len(list); {
		j := i
		for j+1 < len(list) && list[j+1] == list[j]+1 {
			j++
		}
		p := strconv.FormatInt(list[i], 10)
		if j > i {
			p += "-" + strconv.FormatInt(list[j], 10)
		}
		parts = append(parts, p)
		i = j + 1
	}
	if len(parts) > 12 {
		parts = append(parts[:12], "…")
	}
	return strings.Join(parts, ", ")
}
