package charset

import (
	"errors"
	"io"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/japanese"
	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/encoding/unicode/utf32"
)

// written are lines of a list, as people in several countries write them, and the
// encodings they come in.
var written = map[string]string{
	"windows-1252 iso-8859-15 ibm850 macintosh": "Schleuse für größere Kähne, nördlich der Brücke; Gebühr fällig, Träger prüfen",
	"windows-1252 iso-8859-15 ibm850":           "Écluse fermée l'été; péage réglé à l'arrivée, tête amont élargie, gabarit contrôlé",
	"windows-1252 macintosh":                    "Señal dañada junto al puente pequeño; revisión técnica mañana, peaje según tamaño",
	"windows-1252":                              "Slusen er stængt på grund af høj vandstand; både på køen må vente til åbningstid",
	"windows-1250 iso-8859-2 ibm852":            "Śluza zamknięta, żegluga wstrzymana; opłata za przejście łodzi już pobrana, ujście płytkie",
	"windows-1250 iso-8859-2":                   "Zdymadlo je zavřené, příští loď čeká u mostu; poplatek ještě není zaplacen, hráz těsná",
	"windows-1250":                              "Zsilip zárva, a következő hajó vár; díj fizetve, a gőzhajó később érkezik a kikötőbe",
	"windows-1254":                              "Kapı kapalı, gemi köprünün yanında bekliyor; ücret ödendi, geçiş için ışık yeşil değil",
	"windows-1257":                              "Šliuzas uždarytas, kitas laivas laukia prie tilto; mokestis sumokėtas, vandens lygis žemas, įplauka, krovinių sąrašas ir laivų eilė",
	"windows-1251 koi8-r ibm866 iso-8859-5":     "Шлюз закрыт, следующее судно ждёт у моста; сбор уплачен, уровень воды низкий",
	"windows-1251 koi8-u":                       "Шлюз зачинено, наступне судно чекає біля мосту; збір сплачено, рівень води низький, її",
	"windows-1253 iso-8859-7":                   "Η πύλη είναι κλειστή, το επόμενο πλοίο περιμένει δίπλα στη γέφυρα",
	"windows-1255":                              "השער סגור, הספינה הבאה מחכה ליד הגשר",
	"windows-1256":                              "البوابة مغلقة والسفينة التالية تنتظر قرب الجسر",
	"windows-874":                               "ประตูน้ำปิด เรือลำต่อไปรอที่สะพาน",
	"shift_jis euc-jp":                          "水門は閉まっています。次の船は橋のそばで待っています。",
	"gb18030":                                   "水闸关闭，下一艘船在桥边等候，费用已经支付，水位很低",
	"big5":                                      "水閘關閉，下一艘船在橋邊等候，費用已經支付，水位很低",
	"euc-kr":                                    "수문이 닫혀 있고 다음 배가 다리 옆에서 기다립니다",
}

func TestEncodingsAreFound(t *testing.T) {
	for names, line := range written {
		for name := range strings.FieldsSeq(names) {
			enc, err := lookup(name)
			require.NoError(t, err, name)
			text := "nr;remark\n1;" + line + "\n2;none\n"
			raw, err := enc.NewEncoder().String(text)
			require.NoError(t, err, name)
			v, err := Of([]byte(raw), false)
			require.NoError(t, err, name)
			assert.True(t, v.Guess, name)
			assert.Empty(t, v.Others, "%s: %s", name, line)
			assert.Equal(t, text, read(t, raw, v.Encoding), "%s, taken for %s", name, v.Encoding)
		}
	}
}

func read(t *testing.T, raw, name string) string {
	t.Helper()
	r, err := Decode(strings.NewReader(raw), name)
	require.NoError(t, err)
	b, err := io.ReadAll(r)
	require.NoError(t, err)
	return string(b)
}

// One word may be of either of two languages: that is for a person to say, and the
// right one is among those offered.
func TestEncodingsThatStayPossible(t *testing.T) {
	for word, name := range map[string]string{"Øre": "windows-1252", "Říp": "windows-1250", "Ačas": "windows-1257"} {
		enc, err := lookup(name)
		require.NoError(t, err)
		raw, err := enc.NewEncoder().String(word)
		require.NoError(t, err)
		v, err := Of([]byte("a,b\n1,"+raw+"\n"), false)
		require.NoError(t, err)
		assert.NotEmpty(t, v.Others, word)
		assert.True(t, slices.ContainsFunc(append(v.Others, v.Encoding), func(e string) bool {
			return read(t, raw, e) == word
		}), "%s: %s, %v", word, v.Encoding, v.Others)
	}
	// A sign before digits is one of a currency, and no letter.
	pound, err := Of([]byte("boat,fee\nOtter,\xa325.00\nHeron,\xa319.50\n"), false)
	require.NoError(t, err)
	assert.Equal(t, "windows-1252", pound.Encoding)
	assert.Empty(t, pound.Others)
	// What has no letters beyond ASCII but the ones that all write the same is no question.
	v, err := Of([]byte("name\nCaf\xe9 au lait\n"), false)
	require.NoError(t, err)
	assert.Equal(t, "windows-1252", v.Encoding)
	assert.Empty(t, v.Others)
}

func TestUnicodeForms(t *testing.T) {
	text := "id;имя\n1;шлюз\n2;мост\n3;гавань\n4;пристань\n"
	for name, enc := range map[string]interface{ String(string) (string, error) }{
		"utf-16le": unicode.UTF16(unicode.LittleEndian, unicode.IgnoreBOM).NewEncoder(),
		"utf-16be": unicode.UTF16(unicode.BigEndian, unicode.IgnoreBOM).NewEncoder(),
		"utf-32le": utf32.UTF32(utf32.LittleEndian, utf32.IgnoreBOM).NewEncoder(),
		"utf-32be": utf32.UTF32(utf32.BigEndian, utf32.IgnoreBOM).NewEncoder(),
	} {
		raw, err := enc.String(text)
		require.NoError(t, err)
		mark, err := enc.String("\ufeff")
		require.NoError(t, err)
		for _, x := range []string{raw, mark + raw} {
			v, err := Of([]byte(x), false)
			require.NoError(t, err, name)
			assert.Equal(t, name, v.Encoding)
			assert.False(t, v.Guess)
			assert.Equal(t, text, read(t, x, v.Encoding))
		}
	}
	jis, err := japanese.ISO2022JP.NewEncoder().String("番号,名\n1,水門\n")
	require.NoError(t, err)
	v, err := Of([]byte(jis), false)
	require.NoError(t, err)
	assert.Equal(t, "番号,名\n1,水門\n", read(t, jis, v.Encoding))

	var no *NoText
	_, err = Of([]byte("id,name\n1,Schleuse f+APw-r K+AOQ-hne\n"), false)
	require.True(t, errors.As(err, &no))
	assert.Contains(t, no.What, "UTF-7")
	v, err = Of([]byte("id,telephone\n1,+4930-12\n2,+AB-\n"), false)
	require.NoError(t, err)
	assert.Equal(t, "utf-8", v.Encoding)
	_, err = Of([]byte("\x7fELF\x02\x01\x01\x00\x00\x00\x00\x00\x00\x00\x00\x00\x03\x00>\x00"), false)
	assert.ErrorAs(t, err, &no)
}

// A file that two programs have written to.
func TestMixedEncodings(t *testing.T) {
	old, err := charmap.Windows1252.NewEncoder().String("3;Schleuse für Kähne\n4;Brücke über die Wäldchen\n")
	require.NoError(t, err)
	for utf := 1; utf < 6; utf++ {
		raw := strings.Repeat("1;Höhe über Grund, größer\n", utf) + old
		v, err := Of([]byte(raw), false)
		require.NoError(t, err)
		assert.Equal(t, "utf-8", v.Encoding)
		assert.Equal(t, "utf-8+windows-1252", v.Mixed, utf)
		want := strings.Repeat("1;Höhe über Grund, größer\n", utf) + "3;Schleuse für Kähne\n4;Brücke über die Wäldchen\n"
		assert.Equal(t, want, read(t, raw, v.Mixed))
		for n := range 40 { // whatever the pieces it is read in
			r, err := Decode(&pieces{raw, n + 1}, v.Mixed)
			require.NoError(t, err)
			b, err := io.ReadAll(r)
			require.NoError(t, err)
			assert.Equal(t, want, string(b))
		}
	}
	_, err = Canonical("utf-8+shift_jis")
	assert.Error(t, err)
	name, err := Canonical("UTF-8+cp1252")
	require.NoError(t, err)
	assert.Equal(t, "utf-8+windows-1252", name)
}

// pieces reads a few bytes at a time.
type pieces struct {
	s string
	n int
}

func (p *pieces) Read(b []byte) (int, error) {
	if p.s == "" {
		return 0, io.EOF
	}
	n := copy(b, p.s[:min(p.n, len(p.s))])
	p.s = p.s[n:]
	return n, nil
}

// Whatever the bytes, there is a verdict, and the text can be read in it; where others
// stay possible, they give other texts.
func FuzzEncoding(f *testing.F) {
	for names, line := range written {
		enc, _ := lookup(strings.Fields(names)[0])
		raw, err := enc.NewEncoder().String(line)
		require.NoError(f, err)
		f.Add([]byte(raw))
	}
	f.Fuzz(func(t *testing.T, raw []byte) {
		for _, cut := range []bool{false, true} {
			v, err := Of(raw, cut)
			var no *NoText
			if errors.As(err, &no) {
				continue
			}
			require.NoError(t, err)
			texts := map[string]string{}
			for _, e := range append(v.Others, v.Encoding) {
				text := read(t, string(raw), e)
				if other, is := texts[text]; is {
					t.Fatalf("%s and %s give the same text", e, other)
				}
				texts[text] = e
			}
		}
	})
}
