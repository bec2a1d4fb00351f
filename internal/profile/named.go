package profile

import (
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"ambertray/internal/sqltype"
)

const telephones = "telephone numbers"

// Some numbers are not counted with, but name something: a telephone, a town, a book.
// They are text, since what a number loses (leading zeros, a plus) belongs to them.
// The header's words tell, and the shape has to fit.
var namedNumbers = []struct {
	what       string
	least, max int // digits
	words      []string
}{
	{telephones, 6, 15, []string{"phone", "telephone", "tel", "telefon", "telefono", "téléphone", "telefoon",
		"telefone", "teléfono", "telefax", "fax", "mobile", "mobil", "mobiltelefon", "cellphone", "msisdn", "gsm",
		"handy", "móvil", "portable", "telefonnummer", "phonenumber", "rufnummer", "telephon"}},
	{"postal codes", 3, 9, []string{"zip", "zipcode", "postcode", "postalcode", "plz", "postleitzahl", "codepostal",
		"codigopostal", "cep", "postnr", "postnummer", "postkod", "psc", "psč", "irsz", "pincode", "postinumero"}},
	{"numbers of articles and documents", 7, 20, []string{"isbn", "issn", "ean", "gtin", "upc", "barcode", "imei",
		"iccid", "ssn", "vat", "nif", "ean13"}},
}

// postal are the words of which the second makes a postal code of the first.
var postal = regexp.MustCompile(`(?i)(post(al)?|zip|kod|code|código|codigo|pin)[ _.-]*` +
	`(code|number|no|nr|nummer|pocztowy|postal)`)

// naming says what a column of whole numbers names, if that is what its header says.
func (d *decision) naming(n *numbers) string {
	if d.given || n.fits == 0 || n.fraction > 0 || n.grouped > 0 || n.exponent > 0 || n.lo.n < 0 {
		return ""
	}
	words := headerWords(d.col.Header)
	least := len(n.lo.plain(0))
	for _, x := range namedNumbers {
		called := slices.ContainsFunc(words, func(w string) bool { return slices.Contains(x.words, w) }) ||
			x.what == "postal codes" && postal.MatchString(d.col.Header)
		if called && least >= x.least && n.wide <= x.max {
			return x.what
		}
	}
	return ""
}

// headerWords are the words of a header, in small letters: they end at what is neither letter
// nor number, and at a capital behind a small letter.
func headerWords(header string) (words []string) {
	from, before := -1, ' '
	for i, c := range header {
		part := unicode.IsLetter(c) || unicode.IsNumber(c)
		if from >= 0 && (!part || unicode.IsLower(before) && unicode.IsUpper(c)) {
			words, from = append(words, strings.ToLower(header[from:i])), -1
		}
		if part && from < 0 {
			from = i
		}
		before = c
	}
	if from >= 0 {
		words = append(words, strings.ToLower(header[from:]))
	}
	return words
}

var keyWord = regexp.MustCompile(`(?i)(^|[ _.-])(id|no|nr|num|number|nummer|numero|code|key|ref|reference|uuid|guid|` +
	`sku|pk|serial)$|id$`)

// Few is how many records tell too little for a key, or for a column that is never
// blank.
const Few = 5

// KeyLike reports whether a column, whose values are all different, looks meant to
// identify a record: by its name; as the first, if it is no measure; or as a code, or a
// whole number without a gap.
func (p *Profile) KeyLike(c *Column) bool {
	measure := c.Type.Kind == sqltype.Decimal && c.Type.Scale > 0 || c.Type.Kind == sqltype.Double
	switch {
	case p.Records < Few:
		return false
	case keyWord.MatchString(c.Header):
		return true
	case measure, c.Type.IsTemporal(): // two records of one moment come some day
		return false
	case c.Position == 1, c.Type.Kind == sqltype.UUID, c.Type.Kind == sqltype.Char:
		return true
	}
	return c.Type.IsInteger() && gapless(c)
}

// Called reports whether a column is meant by a name: its header in any case, or its
// place, column_3, if it has none.
func (c *Column) Called(name string) bool {
	return strings.EqualFold(name, c.Header) ||
		c.Header == "" && strings.EqualFold(name, "column_"+strconv.Itoa(c.Position))
}

// ColumnOf is the column of a key, or nil where the key has several.
func (p *Profile) ColumnOf(key []string) *Column {
	if len(key) == 1 {
		for _, c := range p.Columns {
			if c.Header == key[0] && c.Unique {
				return c
			}
		}
	}
	return nil
}

// gapless reports whether the whole numbers of a column follow each other.
func gapless(c *Column) bool {
	lo, err1 := strconv.ParseInt(c.Smallest, 10, 64)
	hi, err2 := strconv.ParseInt(c.Largest, 10, 64)
	return err1 == nil && err2 == nil && hi-lo+1 == c.Fields
}
