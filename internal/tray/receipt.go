package tray

import (
	"encoding/json"
	"fmt"
	"math/big"
	"slices"
	"strconv"
	"strings"
	"time"

	"ambertray/internal/phrase"
	"ambertray/internal/profile"
	"ambertray/internal/reading"
	"ambertray/internal/source"
	"ambertray/internal/sqltype"
	"ambertray/internal/tally"
)

// A Verdict is what a load came to.
type Verdict string

// The verdicts.
const (
	Clear   Verdict = "clear"   // every record is loaded, mended, waived, or skipped for a stated reason
	Waiting Verdict = "waiting" // loaded and verified, but rejects wait to be mended
	Failed  Verdict = "failed"  // nothing was changed
	Undone  Verdict = "undone"  // it was loaded, and taken back
	// Halted: the load has committed on its way, and can go on. Such a receipt is
	// shown and not kept.
	Halted Verdict = "stopped"
	// Undecided: the answer to the commit was lost, and the database could not be asked.
	// Such a receipt is shown, and kept as a pending one.
	Undecided Verdict = "unsure"
)

// A Receipt is the account of one load, and of what was done afterwards about
// its rejects. It is documented in docs/json.md.
type Receipt struct {
	Entry    string   `json:"entry"`
	Sources  []Source `json:"sources"`
	Database string   `json:"database"` // without password
	// Connection is how the connection to it was protected; empty for a file.
	Connection string  `json:"connection,omitempty"`
	Records    Records `json:"records"`
	Skipped    []Skip  `json:"skipped,omitempty"`
	Table      Table   `json:"table"`
	// Columns are the account of what was loaded and mended.
	Columns []Verified `json:"columns"`
	// Merge is what became of the records, where they met rows of the table.
	Merge *Merge `json:"merge,omitempty"`
	// Reasons groups the rejects of the load.
	Reasons []Reason `json:"reasons,omitempty"`
	Verdict Verdict  `json:"verdict"`
	// Commits is how often the load committed on its way, before the last time.
	Commits int64 `json:"commits,omitempty"`
	// Decided is what was decided from the evidence, where no plan did; Cautions
	// are what there was to look at before the load.
	Decided  []string          `json:"decided,omitempty"`
	Cautions []profile.Finding `json:"cautions,omitempty"`
	// Together are the entries of other loads that were in the same transaction.
	Together []string `json:"together,omitempty"`
	// Kept is where the rows are that the table had before it was emptied or replaced.
	Kept *Kept `json:"kept,omitempty"`
	// Undoing is how the load was taken back.
	Undoing *Undoing `json:"undoing,omitempty"`
	// Refits are the changes of the table's definition since.
	Refits []Refit `json:"refits,omitempty"`
	// Mends and Waivers are what was done about the rejects, in order.
	Mends   []Mend   `json:"mends,omitempty"`
	Waivers []Waiver `json:"waivers,omitempty"`
	// Differences says what did not add up; then the verdict is failed.
	Differences []string `json:"differences,omitempty"`
	Error       string   `json:"error,omitempty"`
	// Mark is by what the database is asked whether the commit came to be, as long as
	// that is not known.
	Mark     string    `json:"mark,omitempty"`
	Started  time.Time `json:"started"`
	Finished time.Time `json:"finished"`
	Version  string    `json:"version"`
}

// Uncompared are the columns of which only the nulls were compared, for the database's
// type of them has no counterpart here, or holds a value that is not of it.
func (r *Receipt) Uncompared() (names []string) {
	for _, c := range r.Columns {
		if r.Table.proofOf(&c) == ByNulls {
			names = append(names, c.Name)
		}
	}
	return names
}

// Source is a file that was read.
type Source struct {
	Path string `json:"path"` // as given
	File string `json:"file"` // the whole path
	// Part is what of the file was read: a sheet, or a member of an archive.
	Part string `json:"part,omitempty"`
	Size int64  `json:"size"` // bytes
	// Records is how many it has, of whatever became of them.
	Records int64  `json:"records"`
	SHA256  string `json:"sha256"`
	// Skipped are the rows that are no records, where there are several sources.
	Skipped []Skip `json:"skipped,omitempty"`
}

// Names names one source, or the first of several.
func Names(s []Source) string {
	first := s[0].Path
	if first == source.Stdin {
		first = "standard input"
	}
	if s[0].Part != "" {
		first += ", " + s[0].Part
	}
	var paths []string
	for _, x := range s {
		paths = append(paths, x.Path)
	}
	return source.NamedTogether(first, paths)
}

// Records is the account: Read = Loaded + Mended + Waived + Rejected + Skipped.
type Records struct {
	Read   int64 `json:"read"`
	Loaded int64 `json:"loaded"`
	Mended int64 `json:"mended"`
	Waived int64 `json:"waived"`
	// Rejected are those that still wait.
	Rejected int64 `json:"rejected"`
	Skipped  int64 `json:"skipped"`
}

// Add adds another account to this one.
func (r *Records) Add(o Records) {
	*r = Records{r.Read + o.Read, r.Loaded + o.Loaded, r.Mended + o.Mended, r.Waived + o.Waived,
		r.Rejected + o.Rejected, r.Skipped + o.Skipped}
}

// Less is what this account has that another has not.
func (r Records) Less(o Records) Records {
	return Records{r.Read - o.Read, r.Loaded - o.Loaded, r.Mended - o.Mended, r.Waived - o.Waived,
		r.Rejected - o.Rejected, r.Skipped - o.Skipped}
}

// Balanced reports whether the account adds up.
func (r Records) Balanced() bool {
	return r.Read == r.Loaded+r.Mended+r.Waived+r.Rejected+r.Skipped
}

// A Skip counts rows that are not data.
type Skip struct {
	Kind  string `json:"kind"`
	Count int64  `json:"count"`
	// First are the texts of the first of them, where they may have been records.
	First []string `json:"first,omitempty"`
}

// The kinds of records that are skipped for what they are to the table.
const (
	SkipKnown      = "known"      // the table has them already
	SkipSuperseded = "superseded" // a later record has the same key
)

// Shown says how many rows of a kind were skipped, and how the first of them begin, so many at
// most.
func (s Skip) Shown(most int) string {
	var texts []string
	for _, f := range s.First[:min(most, len(s.First))] {
		texts = append(texts, "'"+reading.Shorten(f, 40)+"'")
	}
	if len(texts) == 0 {
		return s.Words()
	}
	text := s.Words() + ": " + strings.Join(texts, ", ")
	if int64(len(texts)) < s.Count {
		text += " …"
	}
	return text
}

// Words says how many rows of a kind were skipped.
func (s Skip) Words() string {
	switch s.Kind {
	case SkipKnown:
		return phrase.Grouped(s.Count) + " known already"
	case SkipSuperseded:
		return phrase.Grouped(s.Count) + " superseded by a later record"
	}
	if k, ok := source.KindOf(s.Kind); ok {
		return k.Words(s.Count)
	}
	return phrase.Count(s.Count, s.Kind+" line")
}

// Table is where the records went.
type Table struct {
	Schema string `json:"schema,omitempty"`
	Name   string `json:"name"`
	// Mode is create, append, refill or replace.
	Mode string `json:"mode"`
	// Key are the columns of the plan's key, and of the table's.
	Key []string `json:"key,omitempty"`
	// Before is how many rows the table had, when they were added to.
	Before int64 `json:"before"`
	Rows   int64 `json:"rows"`
	// Checksums tells that every row was compared by a checksum of its values,
	// and not only the columns by what they come to.
	Checksums bool `json:"checksums,omitempty"`
	// Proved tells that every value was compared with the source before the commit, but
	// for those of the columns in NotProved.
	Proved    bool     `json:"proved,omitempty"`
	NotProved []string `json:"not_proved,omitempty"`
}

// A Merge is what records did to a table that they were merged into.
type Merge struct {
	Key []string `json:"key"` // empty: rows were known by all of their values
	// Differing is how many records have a known key and other values, and were left out.
	Differing int64 `json:"differing,omitempty"`
	// OnlyNew tells that known rows were left as they are.
	OnlyNew   bool  `json:"only_new,omitempty"`
	Inserted  int64 `json:"inserted"`
	Changed   int64 `json:"changed"`
	Unchanged int64 `json:"unchanged"`
	// Missing is how many rows the sources did not have, where they were deleted or marked.
	Missing int64       `json:"missing"`
	Rule    MissingRule `json:"rule"`
	// Columns are in how many of the changed rows each got another value.
	Columns []ChangedColumn `json:"columns"`
	// Before tells that the changed and deleted rows as they were, and the keys of the new
	// ones, are in before.csv.
	Before bool `json:"before"`
}

// ChangedColumn is a column of which a merge changed values.
type ChangedColumn struct {
	Name    string `json:"name"`
	Changed int64  `json:"changed"`
}

// A MissingRule is what becomes of rows that the sources do not have.
type MissingRule string

// The rules.
const (
	MissingKept    MissingRule = "keep"
	MissingDeleted MissingRule = "delete"
	MissingMarked  MissingRule = "mark"
)

// Facts are what a column's values come to, in plain form.
type Facts struct {
	Nulls    int64  `json:"nulls"`
	Sum      string `json:"sum,omitempty"` // exact; numbers and booleans only
	Smallest string `json:"smallest"`
	Largest  string `json:"largest"`
	// Bytes is the length of all text in UTF-8, Ticks the sum of days since
	// 1970-01-01, or of microseconds since then or since midnight.
	Bytes int64  `json:"bytes,omitempty"`
	Ticks string `json:"ticks,omitempty"`
	// Loose tells that only the number of values can be compared.
	Loose bool `json:"loose,omitempty"`
}

// A Column tells what was read of a column, and whether the table holds it.
type Verified struct {
	Name string `json:"name"`
	Type string `json:"type"`
	Facts
	// Emptied is how many of the nulls were empty texts, which the database does not keep.
	Emptied int64 `json:"empty_texts,omitempty"`
	Agrees  bool  `json:"agrees"`
	// Proof is how that was found.
	Proof Proof `json:"proof,omitempty"`
	// Differences says in what the table does not agree.
	Differences []string `json:"differences,omitempty"`
	// Before is what the whole table held before the load, where it was added to or merged
	// into; of a merge, without smallest and largest.
	Before *Facts `json:"before,omitempty"`
	// Held is what the whole table held after the load, where that is more
	// than was loaded.
	Held *Facts `json:"held,omitempty"`
	// Habit is what the values of the load are like, so that the next load can be put beside
	// it.
	Habit *Habit `json:"habit,omitempty"`
}

// A Habit is what the values of a column are like.
type Habit struct {
	// Distinct is how many are different; where it is not exact, it may be a fifth off.
	Distinct int64 `json:"distinct"`
	Exact    bool  `json:"exact"`
	// Spread is the standard deviation of numbers, with four digits.
	Spread string `json:"spread,omitempty"`
	// Words are the texts, where they are few and come again.
	Words []tally.Word `json:"words,omitempty"`
}

// HabitOf says in plain form what values are like.
func HabitOf(h *tally.Habit) *Habit {
	out := &Habit{Words: h.Words()}
	out.Distinct, out.Exact = h.Distinct()
	if s, is := h.Spread(); is {
		out.Spread = strconv.FormatFloat(s, 'g', 4, 64)
	}
	return out
}

// A Proof is how a column was compared.
type Proof string

// The proofs, the strongest first.
const (
	EveryValue Proof = "every value"           // each with its record's
	ByRows     Proof = "checksum of every row" // of all its values
	BySum      Proof = "exact sum"             // and nulls, smallest and largest
	ByRange    Proof = "smallest and largest"  // and nulls, and bytes of text
	ByNulls    Proof = "nulls only"            // the type has no counterpart, or a value is not of it
)

// proofOf says how a column was compared.
func (t *Table) proofOf(c *Verified) Proof {
	switch {
	case t.Proved && !slices.Contains(t.NotProved, c.Name):
		return EveryValue
	case t.Checksums:
		return ByRows
	case c.Loose:
		return ByNulls
	case c.Sum != "":
		return BySum
	}
	return ByRange
}

// Prove notes of each column how it was compared.
func (r *Receipt) Prove() {
	for i := range r.Columns {
		r.Columns[i].Proof = r.Table.proofOf(&r.Columns[i])
	}
}

// FactsOf says in plain form what a tally came to.
func FactsOf(t *tally.Tally) Facts {
	f := Facts{Nulls: t.Nulls, Loose: t.Loose}
	if t.Loose {
		return f
	}
	f.Sum, f.Smallest, f.Largest, f.Bytes = t.Sum(), t.Smallest(), t.Largest(), t.Octets
	if t.Type.IsTemporal() && t.Rows > t.Nulls {
		f.Ticks = t.Total().String()
	}
	return f
}

// Tally is the tally that a receipt's facts came from.
func (f Facts) Tally(typ string, rows int64) (*tally.Tally, error) {
	t, err := sqltype.Parse(typ)
	if err != nil {
		return nil, err
	}
	c := &tally.Tally{Type: t, Loose: f.Loose}
	if f.Loose || rows == f.Nulls {
		c.Set(rows, f.Nulls, nil, nil, nil)
		return c, nil
	}
	if t.IsText() || t.Kind == sqltype.UUID {
		c.SetText(rows, f.Nulls, f.Bytes, []byte(f.Smallest), []byte(f.Largest))
		return c, nil
	}
	r := reading.Plain(t)
	var bounds [2]reading.Value
	for i, s := range []string{f.Smallest, f.Largest} {
		if m := r.Read([]byte(s), true, &bounds[i]); m != reading.OK {
			return nil, fmt.Errorf("%q: %s", s, m.Reason(t, []byte(s)))
		}
		bounds[i].Wide = append([]byte(nil), bounds[i].Wide...)
	}
	if t.Kind == sqltype.Double {
		c.SetFloat(rows, f.Nulls, bounds[0].Float, bounds[1].Float)
		return c, nil
	}
	sum := f.Ticks
	if !t.IsTemporal() {
		// The sum has the type's decimals, so that without the point it counts
		// in the units of the values.
		sum = strings.Replace(f.Sum, ".", "", 1)
	}
	total, ok := new(big.Int).SetString(sum, 10)
	if !ok {
		return nil, fmt.Errorf("the sum %q is not a number", sum)
	}
	c.Set(rows, f.Nulls, total, bounds[0].Big(), bounds[1].Big())
	return c, nil
}

// A Reason is why records were rejected, and how many.
type Reason struct {
	Column string `json:"column,omitempty"`
	Code   Code   `json:"code,omitempty"`
	Reason string `json:"reason"`
	Count  int64  `json:"count"`
	// Line and Value are those of the first.
	Line  int64  `json:"line"`
	Cell  string `json:"cell,omitempty"` // of a sheet
	Value string `json:"value"`
}

// Kept are rows that were put aside before their table was emptied or replaced.
type Kept struct {
	Table   string       `json:"table"` // in the schema of the other
	Rows    int64        `json:"rows"`
	Columns []KeptColumn `json:"columns"`
	// Dropped tells since when they are not there any more.
	Dropped *time.Time `json:"dropped,omitempty"`
}

// A KeptColumn is what a column of the old table came to.
type KeptColumn struct {
	Name string `json:"name"`
	Type string `json:"type"` // as the database writes it
	// As is the type that the facts are of; empty: the database computes the column.
	As string `json:"as,omitempty"`
	Facts
}

// An Undoing is how a load was taken back.
type Undoing struct {
	At time.Time `json:"at"`
	By string    `json:"by"` // the user's name on the machine
	// Dropped tells that the table was dropped; else so many rows were deleted, got their
	// old values, or were put back.
	Dropped bool  `json:"dropped,omitempty"`
	Deleted int64 `json:"deleted"`
	Changed int64 `json:"changed"`
	PutBack int64 `json:"put_back"`
	Rows    int64 `json:"rows"` // in the table afterwards
	// Left is the table with the old rows, if it could not be dropped.
	Left string `json:"left,omitempty"`
}

// A Refit is a change of the definition of the table that the load made.
type Refit struct {
	At time.Time `json:"at"`
	By string    `json:"by"` // the user's name on the machine
	// Plan is the plan that says what the table is from then on, in the entry.
	Plan    string   `json:"plan"`
	Changes []string `json:"changes"`
	// Was is the definition before it, in the database's words, and Statements are what
	// changed it.
	Was        []string `json:"was"`
	Statements []string `json:"statements"`
	Filled     int64    `json:"filled"` // values where there were none
	Rows       int64    `json:"rows"`   // compared
}

// A Mend is one load of corrected rejects.
type Mend struct {
	File   string    `json:"file"` // as given
	Kept   string    `json:"kept"` // its records as they were tried, in the entry
	SHA256 string    `json:"sha256"`
	At     time.Time `json:"at"`
	// Mended are the numbers of the rejects that are in the table now, Refused
	// those that are not, with their new reasons.
	Mended  []int64        `json:"mended"`
	Refused []RefusedAgain `json:"refused,omitempty"`
	Rows    int64          `json:"rows"` // in the table afterwards
}

// RefusedAgain is a reject that was tried again in vain.
type RefusedAgain struct {
	Reject int64  `json:"reject"`
	Column string `json:"column,omitempty"`
	Code   Code   `json:"code,omitempty"`
	Reason string `json:"reason"`
	Value  string `json:"value"`
}

// A Waiver settles rejects that are not to be loaded.
type Waiver struct {
	Rejects []int64   `json:"rejects"`
	Because string    `json:"because"`
	By      string    `json:"by"` // the user's name on the machine
	At      time.Time `json:"at"`
}

// PlanName is the file of the plan that says what the table is now.
func (r *Receipt) PlanName() string {
	if r == nil || len(r.Refits) == 0 {
		return PlanFile
	}
	return r.Refits[len(r.Refits)-1].Plan
}

// Encode is the receipt as its file holds it.
func (r *Receipt) Encode() ([]byte, error) {
	b, err := json.MarshalIndent(r, "", "  ")
	if err != nil {
		return nil, fmt.Errorf("receipt: %w", err)
	}
	return append(b, '\n'), nil
}

// Settled lists what was done about each reject.
func (r *Receipt) Settled() (mended, waived map[int64]bool) {
	mended, waived = map[int64]bool{}, map[int64]bool{}
	for _, m := range r.Mends {
		for _, n := range m.Mended {
			mended[n] = true
		}
	}
	for _, w := range r.Waivers {
		for _, n := range w.Rejects {
			waived[n] = true
		}
	}
	return
}

// Settle counts what was done about the rejects, and decides the verdict.
func (r *Receipt) Settle() {
	mended, waived := r.Settled()
	r.Records.Mended, r.Records.Waived = int64(len(mended)), int64(len(waived))
	r.Records.Rejected = r.Records.Read - r.Records.Loaded - r.Records.Mended - r.Records.Waived - r.Records.Skipped
	r.Verdict = Clear
	if r.Records.Rejected > 0 {
		r.Verdict = Waiting
	}
}

// Rejects is how many records the load refused, whatever became of them.
func (r *Receipt) Rejects() int64 {
	return r.Records.Rejected + r.Records.Mended + r.Records.Waived
}
