package source

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/ianaindex"

	"ambertray/internal/source/delimited"
)

// table is a table of random shape, and how it is written.
type table struct {
	names   []string // nil: without
	records [][]string
	text    string
	how     string
}

var (
	someNames = []string{"id", "Boat", "toll", "paid_on", "Lock " +
		"name", "x1", "note", "Owner", "gauge", "mark", "Weight kg", "status", "remark", "keeper"}
	someWords = []string{"Otter", "Heron", "Marsh", "Reed bank", "north", "South " +
		"Basin", "alder", "withy", "late", "twice seen", "Kingfisher", "owl", "elm", "mud"}
)

// inTongues are words of some languages, by an encoding that they come in.
var inTongues = map[string][]string{
	"windows-1252": {"Brücke", "Schleuse für Kähne", "Größe", "nördlich", "Gebühr fällig", "Träger"},
	"windows-1250": {"śluza zamknięta", "żegluga", "opłata", "przejście łodzi", "ujście", "płytki"},
	"windows-1251": {"шлюз закрыт", "судно", "мост", "уровень воды", "сбор", "гавань"},
	"koi8-r":       {"шлюз закрыт", "судно", "мост", "уровень воды", "сбор", "гавань"},
	"utf-16le":     {"шлюз", "Brücke", "śluza", "水門", "γέφυρα"},
	"shift_jis":    {"水門は閉まっています", "次の船", "橋のそば", "料金", "運河の水位"},
	"gb18030":      {"水闸关闭", "下一艘船", "桥边等候", "费用已经支付", "水位很低"},
}

// column makes the fields of a column, all of one kind.
func column(r *rand.Rand, rows int, words []string) (out []string) {
	kind, blanks := r.IntN(7), r.IntN(5) == 0
	for i := range rows {
		v := ""
		switch kind {
		case 0:
			v = strconv.Itoa(i + 1)
		case 1:
			v = strconv.Itoa(r.IntN(5000) - 100)
		case 2:
			v = fmt.Sprintf("%d.%02d", r.IntN(90), r.IntN(100))
		case 3:
			v = fmt.Sprintf("2024-%02d-%02d", 1+r.IntN(12), 1+r.IntN(28))
		case 4:
			v = fmt.Sprintf("%c%03d", 'A'+r.IntN(4), r.IntN(1000))
		case 5:
			v = words[r.IntN(len(words))]
		case 6:
			v = words[r.IntN(len(words))] + ", " + words[r.IntN(len(words))]
		}
		if blanks && r.IntN(4) == 0 {
			v = ""
		}
		out = append(out, v)
	}
	return out
}

// randomTable writes a random table in a random form.
func randomTable(r *rand.Rand) table {
	var t table
	columns, rows := 1+r.IntN(7), 2+r.IntN(30)
	t.records = make([][]string, rows)
	words, encoding := someWords, "utf-8"
	if all := slices.Sorted(maps.Keys(inTongues)); r.IntN(5) == 0 {
		encoding = all[r.IntN(len(all))]
		words = inTongues[encoding]
	}
	for range columns {
		for i, v := range column(r, rows, words) {
			t.records[i] = append(t.records[i], v)
		}
	}
	if r.IntN(4) > 0 {
		for _, k := range r.Perm(len(someNames))[:columns] {
			t.names = append(t.names, someNames[k])
		}
	}
	d := []string{",", ";", "\t", "|", "blanks"}[r.IntN(5)]
	if columns == 1 {
		d = "," // what else separates nothing would be written without quotes
	}
	always := r.IntN(4) == 0
	ragged := r.IntN(10) == 0 && d != "blanks" // fields are left out at the end
	var b strings.Builder
	line := func(fields []string) {
		for i, f := range fields {
			if i > 0 {
				b.WriteString(map[bool]string{true: strings.Repeat(" ", 1+r.IntN(3)), false: d}[d == "blanks"])
			}
			if always || strings.ContainsAny(f, d+"\"") || d == "blanks" && (f == "" || strings.Contains(f, " ")) {
				f = `"` + strings.ReplaceAll(f, `"`, `""`) + `"`
			}
			b.WriteString(f)
		}
		b.WriteString("\n")
	}
	titles, comments := 0, r.IntN(6) == 0
	if d != "blanks" && columns > 1 {
		titles = max(r.IntN(6)-3, 0)
	}
	for i := range titles {
		b.WriteString([]string{"Register of the canal\n", "as of Monday\n"}[i])
	}
	if comments {
		b.WriteString("# written by hand\n# by the keeper\n")
	}
	if t.names != nil {
		line(t.names)
	}
	for i, rec := range t.records {
		if comments && i == rows/2 && rows > 6 {
			b.WriteString("# the second half\n")
		}
		if full := len(rec); ragged {
			for full > 1 && rec[full-1] == "" {
				full--
			}
			rec = rec[:full]
		}
		line(rec)
	}
	t.text = b.String()
	switch end := r.IntN(12); {
	case end == 0:
		t.text = strings.ReplaceAll(t.text, "\n", "\r\n")
	case end == 1:
		t.text = strings.ReplaceAll(t.text, "\n", "\r")
	case end == 2:
		t.text = strings.TrimSuffix(t.text, "\n")
	}
	if encoding != "utf-8" {
		enc, err := ianaindex.IANA.Encoding(encoding)
		if err == nil {
			t.text, err = enc.NewEncoder().String(t.text)
		}
		if err != nil {
			panic(err)
		}
	}
	t.how = fmt.Sprintf(encoding+", %d columns, %d records, delimiter %q, names %v, titles %d, comments %v, quotes "+
		"%v", columns, rows, d, t.names != nil, titles, comments, always)
	return t
}

// found reads a text back. said tells that something is asked or rejected, so that a
// person looks at it.
func found(t *testing.T, text string) (names []string, records [][]string, said bool, s *Source) {
	s, err := opened(t, text, Known{})
	if err != nil {
		return nil, nil, true, nil
	}
	names = s.Layout.Columns
	if s.Layout.Header == 0 {
		names = nil
	}
	said = s.Doubt != "" || s.Undecided != nil || s.Stray != "" || s.EncodingGuessed()
	defer func() { said = said || len(records) == 0 }() // which is an error of a load
	require.NoError(t, s.Each(func(k Kind, rec *delimited.Record) error {
		if k == Footer {
			said = true // it is named in the evidence
		}
		if k != Data {
			return nil
		}
		var fields []string
		for _, f := range rec.Fields {
			fields = append(fields, string(f))
		}
		said = said || len(fields) != len(s.Layout.Columns) || rec.Fault != delimited.NoFault
		records = append(records, fields)
		return nil
	}))
	return names, records, said, s
}

// Tables of random shape, written in random forms, are read back equal, or something
// is asked or rejected: never are they another table in silence. AMBERTRAY_TABLES
// says how many.
func TestRandomTables(t *testing.T) {
	n := 1500
	if s := os.Getenv("AMBERTRAY_TABLES"); s != "" {
		n, _ = strconv.Atoi(s)
	}
	equal, asked, silent := 0, 0, 0
	for seed := range n {
		r := rand.New(rand.NewPCG(26, uint64(seed)))
		x := randomTable(r)
		names, records, said, s := found(t, x.text)
		// A record of nothing is a blank line, or a blank record.
		filled := func(all [][]string) (out [][]string) {
			for _, rec := range all {
				if strings.Join(rec, "") != "" {
					out = append(out, rec)
				}
			}
			return out
		}
		want, records := filled(x.records), filled(records)
		switch {
		case fmt.Sprint(names) == fmt.Sprint(x.names) && fmt.Sprint(records) == fmt.Sprint(want):
			equal++
		case said:
			asked++
		default:
			if silent++; silent < 6 {
				t.Errorf("seed %d: %s\n%s\nfound %d records of "+
					"%v\n%v", seed, x.how, x.text, len(records), names, s.Evidence)
			}
		}
	}
	t.Logf("%d tables: %d equal, %d asked or rejected in part, %d another table in silence", n, equal, asked, silent)
	if silent > 0 {
		t.Fail()
	}
	require.Greater(t, equal*10, n*8, "most are simply read")
}
