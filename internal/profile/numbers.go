package profile

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"ambertray/internal/reading"
	"ambertray/internal/sqltype"
)

// fits reports whether the form is read by f.
func (n *numberForm) fits(f *reading.Number) bool {
	if n.exponent {
		return false
	}
	s := reading.NumberScan{Group: n.group, Fraction: n.mark, Either: n.either, Percent: n.percent,
		Currency: n.currency, Sign: n.sign}
	_, ok := f.Fits(&s)
	return ok
}

// certainMarks are the decimal marks that a column proves.
func certainMarks(e *evidence) map[reading.Mark]bool {
	m := map[reading.Mark]bool{}
	if e.decs.count > 0 && e.decs.count*2 > e.texts.count {
		m[reading.Point] = true
	}
	for _, n := range e.numbers {
		if n.mark != reading.NoMark && n.count*2 > e.texts.count {
			m[n.mark] = true
		}
		// What groups thousands is not the decimal mark.
		if n.group == reading.Comma && n.mark == reading.NoMark && n.either == reading.NoMark {
			m[reading.Point] = true
		}
		if n.group == reading.Point && n.mark == reading.NoMark {
			m[reading.Comma] = true
		}
	}
	return m
}

// bestNumber is the way of writing that reads most of the column's numbers.
// ambiguous is the mark that stands once before three digits and that nothing
// in the column decides.
//
// It is long because it tries all ways of writing, one loop in the other.
func (d *decision) bestNumber() (best reading.Number, ambiguous reading.Mark) {
	e := d.e
	currencies := []string{""}
	signs := []reading.Sign{reading.Leading}
	percents := []bool{false}
	for _, n := range e.numbers {
		if n.currency != "" && !slices.Contains(currencies, n.currency) {
			currencies = append(currencies, n.currency)
		}
		if !slices.Contains(signs, n.sign) {
			signs = append(signs, n.sign)
		}
		if n.percent && len(percents) == 1 {
			percents = append(percents, true)
		}
	}
	top := int64(-1)
	var tied []reading.Number
	for _, thousands := range []reading.Mark{reading.NoMark, reading.Comma, reading.Point, reading.Space,
		reading.Apostrophe} {
		for _, decimal := range []reading.Mark{reading.NoMark, reading.Point, reading.Comma} {
			if decimal != reading.NoMark && thousands == decimal {
				continue
			}
			for _, cur := range currencies {
				for _, sign := range signs {
					for _, pct := range percents {
						f := reading.Number{Thousands: thousands, Decimal: decimal, Currency: cur, Negative: sign,
							Percent: pct}
						fits := int64(0)
						if !pct {
							fits = e.ints.count
							if decimal == reading.Point {
								fits += e.decs.count
							}
						}
						for _, n := range e.numbers {
							if n.fits(&f) {
								fits += n.count
							}
						}
						if fits > top {
							top, tied = fits, nil
						}
						if fits == top {
							tied = append(tied, f)
						}
					}
				}
			}
		}
	}
	best = tied[0]
	for _, n := range e.numbers {
		if n.either == reading.NoMark || !n.fits(&best) {
			continue
		}
		asFraction, asGroup := -1, -1
		for i, f := range tied {
			if f.Decimal == n.either && asFraction < 0 {
				asFraction = i
			}
			if f.Thousands == n.either && f.Decimal != n.either && asGroup < 0 {
				asGroup = i
			}
		}
		if asFraction < 0 || asGroup < 0 {
			continue
		}
		ambiguous = n.either
		mark := d.opt.Decimal
		if mark == reading.NoMark && len(d.certain) == 1 {
			for m := range d.certain {
				mark = m
			}
		}
		if mark == reading.NoMark && n.either == reading.Point {
			mark = reading.Point
		}
		if mark == n.either || mark == reading.NoMark {
			best = tied[asFraction]
		} else {
			best = tied[asGroup]
		}
	}
	return best, ambiguous
}

// fitsBigint reports whether all numbers beyond 18 digits are within bigint.
func (d *decision) fitsBigint() bool {
	r := reading.Reader{Type: sqltype.Type{Kind: sqltype.BigInt}}
	if r.Prepare() != nil {
		return false
	}
	var v reading.Value
	for _, n := range d.e.numbers {
		if n.digits > 18 && (r.Read([]byte(n.big), false, &v) != reading.OK) {
			return false
		}
	}
	return true
}

// integerType gives room for twice the largest value seen. A key may grow
// further and is never less than integer.
func integerType(lo, hi int64, key bool) sqltype.Type {
	reach := max(hi, -lo)
	switch {
	case reach <= 1<<14 && !key:
		return sqltype.Type{Kind: sqltype.SmallInt}
	case reach <= 1<<30:
		return sqltype.Type{Kind: sqltype.Integer}
	}
	return sqltype.Type{Kind: sqltype.BigInt}
}

func digits(n int64) int { return len(strconv.FormatInt(abs(n), 10)) }

// plain writes the number with at least so many decimals.
func (a scaled) plain(scale int) string {
	s := string(reading.AppendDecimal(nil, a.n, a.scale))
	if d := scale - a.scale; d > 0 {
		if a.scale == 0 {
			s += "."
		}
		s += strings.Repeat("0", d)
	}
	return s
}

// numbers are what a column's numbers come to, in the way of writing that reads
// most of them.
type numbers struct {
	form      reading.Number
	ambiguous reading.Mark

	fits            int64
	whole, fraction int // most digits before and behind the mark
	wide            int // most digits in all
	lo, hi          scaled
	some            bool
	// How many have thousands separated, a sign that does not lead, a percent sign,
	// an exponent; and whether exponents are without a point or sign.
	grouped, signed, percent, exponent int64
	plainExponent                      bool
}

func (n *numbers) add(count int64, whole, fraction int, lo, hi scaled) {
	if count == 0 {
		return
	}
	n.fits += count
	n.whole, n.fraction = max(n.whole, whole), max(n.fraction, fraction)
	if !n.some {
		n.lo, n.hi, n.some = lo, hi, true
	} else {
		n.lo, n.hi = minScaled(n.lo, lo), maxScaled(n.hi, hi)
	}
}

// addForm adds the numbers of one form.
func (n *numbers) addForm(x *numberForm) {
	if x.exponent {
		n.exponent += x.count
		for _, e := range x.first.first {
			n.plainExponent = n.plainExponent && !strings.ContainsAny(e.Value, ".+-")
		}
		return
	}
	if !x.fits(&n.form) {
		return
	}
	lo, hi, whole, fraction := x.lo, x.hi, x.whole, x.fraction
	separates := x.either != reading.NoMark && n.form.Decimal != x.either // thousands
	if separates {
		lo.scale, hi.scale, whole, fraction = 0, 0, x.whole+3, 0
	}
	if x.group != reading.NoMark || separates {
		n.grouped += x.count
	}
	if x.sign != reading.Leading {
		n.signed += x.count
	}
	if x.percent {
		n.percent += x.count
	}
	n.add(x.count, whole, fraction, lo, hi)
	n.wide = max(n.wide, x.digits)
}

// numbersOf adds up the column's numbers.
func (d *decision) numbersOf() *numbers {
	e := d.e
	n := &numbers{plainExponent: true}
	n.form, n.ambiguous = d.bestNumber()
	if !n.form.Percent {
		if e.ints.count > 0 {
			n.add(e.ints.count, max(digits(e.ints.lo), digits(e.ints.hi)), 0, scaled{e.ints.lo, 0},
				scaled{e.ints.hi, 0})
		}
		if n.form.Decimal == reading.Point {
			n.add(e.decs.count, e.decs.whole, e.decs.fraction, e.decs.lo, e.decs.hi)
		}
	}
	for _, x := range e.numbers {
		n.addForm(x)
	}
	// What is not seen is not written into the plan.
	if n.fraction == 0 {
		n.form.Decimal = reading.NoMark
	}
	if n.grouped == 0 {
		n.form.Thousands = reading.NoMark
	}
	return n
}

// number is the candidate of the number types.
func (d *decision) number() candidate {
	n := d.numbersOf()
	double := n.exponent > 0 && (d.e.decs.count > 0 || !n.plainExponent)
	if double {
		n.fits += n.exponent
	}
	x := candidate{family: "number", fits: n.fits, number: n.form}
	if n.fits == 0 {
		return x
	}
	if d.telephones() || d.naming(n) != "" {
		return candidate{family: "number"}
	}
	x.lo, x.hi = n.lo.plain(n.fraction), n.hi.plain(n.fraction)
	var why []string
	switch {
	case double:
		x.typ = sqltype.Type{Kind: sqltype.Double}
		why = append(why, fmt.Sprintf("%s an exponent", groupIs(n.exponent, "value has", "values have")))
		x.lo, x.hi = "", ""
	case d.e.odds().floats.isBinary() && !d.given:
		x.typ = sqltype.Type{Kind: sqltype.Double}
		why = append(why, fmt.Sprintf("%s of 17 digits, as a binary fraction is written",
			groupIs(d.e.odds().floats.binary, "value is one", "values are")))
	case n.whole+n.fraction > sqltype.MaxPrecision:
		x.typ = sqltype.Type{Kind: sqltype.Text}
		why = append(why, fmt.Sprintf("up to %d digits, more than a decimal holds", n.whole+n.fraction))
	case n.fraction == 0 && n.whole <= 18:
		x.typ = integerType(n.lo.n, n.hi.n, d.col.Unique)
	case n.fraction == 0 && n.wide <= 19 && d.fitsBigint():
		x.typ = sqltype.Type{Kind: sqltype.BigInt}
	default:
		room := min(n.whole+1+n.fraction, sqltype.MaxPrecision)
		x.typ = sqltype.Type{Kind: sqltype.Decimal, Precision: max(room, n.whole+n.fraction), Scale: n.fraction}
	}
	if n.wide > 18 {
		x.lo, x.hi = "", ""
		why = append(why, fmt.Sprintf("up to %d digits", n.wide))
	}
	x.why = strings.Join(append(why, n.written()...), "; ")
	x.findings = d.numberFindings(n, x.typ)
	return x
}

// telephones reports whether the numbers are those of telephones: each begins with a
// plus, which a number would lose, and some have eight digits or more (ITU-T E.123).
func (d *decision) telephones() bool {
	plus, digits, fraction := int64(0), 0, 0
	for _, n := range d.e.numbers {
		plus += n.plus
		digits, fraction = max(digits, n.digits), max(fraction, n.fraction)
	}
	return !d.given && plus > 0 && plus == d.values && digits >= 8 && fraction == 0
}

// written says how the numbers are written.
func (n *numbers) written() (why []string) {
	if n.grouped > 0 {
		why = append(why, fmt.Sprintf("%s %q between thousands", groupIs(n.grouped, "value has", "values have"),
			n.form.Thousands.String()))
	}
	if n.form.Decimal == reading.Comma {
		why = append(why, "decimal comma")
	}
	if n.form.Currency != "" {
		why = append(why, "written with "+n.form.Currency)
	}
	if n.signed > 0 {
		how := "in brackets"
		if n.form.Negative == reading.Trailing {
			how = "with the minus behind"
		}
		why = append(why, fmt.Sprintf("%s %s", groupIs(n.signed, "negative", "negatives"), how))
	}
	return why
}

// numberFindings are what is remarkable about a column of numbers.
func (d *decision) numberFindings(n *numbers, t sqltype.Type) (out []Finding) {
	e := d.e
	if n.percent > 0 {
		out = append(out, d.finding(Note, CodePercent,
			fmt.Sprintf("%s a percent sign; the number before it is what is loaded (12.5%% is 12.5)",
				groupIs(n.percent, "value has", "values have")), "", n.percent, nil))
	}
	if f := &e.odds().floats; f.isBinary() && !d.given {
		exact := sqltype.Type{Kind: sqltype.Decimal, Precision: min(n.whole+n.fraction, sqltype.MaxPrecision),
			Scale: n.fraction}
		out = append(out, d.finding(Caution, CodeBinaryFractions,
			fmt.Sprintf("computed as binary fractions, of which %s 17 digits, and taken as double precision",
				groupIs(f.binary, "value has", "values have")),
			"to keep every digit, use --type "+flag(d.col.Header, exact)+"; to round, one of fewer digits", f.binary,
			f.first.first).answered("every digit is kept", "type", exact.String()))
	}
	if n.ambiguous != reading.NoMark {
		out = append(out, d.markFindings(n.ambiguous, n.form)...)
	}
	if t.IsInteger() && e.ints.count > 1 {
		out = append(out, d.integerFindings()...)
	}
	if t.Kind == sqltype.Decimal && t.Scale > 0 && e.decs.count > 0 && e.decs.nonzero == 0 && len(e.numbers) == 0 {
		out = append(out, d.finding(Note, CodeWhole, "every value is whole; only zeros stand behind the point", "",
			e.decs.count, nil))
	}
	return out
}

// integerFindings are about what whole numbers may mean.
func (d *decision) integerFindings() (out []Finding) {
	n := d.e.ints.count
	stamp := func(us int64) string { return string(reading.AppendTimestamp(nil, us, 0)) }
	switch lo, hi := d.e.ints.lo, d.e.ints.hi; {
	case lo == 0 && hi == 1:
		out = append(out, d.finding(Note, CodeZeroOne, "holds only 0 and 1; it is taken as a number",
			"if it means no and yes, use --type "+flag(d.col.Header, sqltype.Type{Kind: sqltype.Boolean}), n, nil).
			answered("0 is false, and 1 is true", "type", "boolean"))
	case lo >= 946684800 && hi < 4102444800:
		out = append(out, d.finding(Note, CodeUnixSeconds,
			fmt.Sprintf("could be Unix time in seconds: %s … %s", stamp(lo*1e6), stamp(hi*1e6)), "", n, nil))
	case lo >= 946684800000 && hi < 4102444800000:
		out = append(out, d.finding(Note, CodeUnixMilliseconds,
			fmt.Sprintf("could be Unix time in milliseconds: %s … %s", stamp(lo*1e3), stamp(hi*1e3)), "", n, nil))
	}
	return out
}

// mixedMarks tells of a column that is text because its numbers are written with
// points and with commas for decimals. left is how many values are no words for
// null.
func (d *decision) mixedMarks(left int64) bool {
	all := d.e.ints.count + d.e.decs.count
	point, comma := examples{count: d.e.decs.count, first: d.e.decs.first.first}, examples{}
	for _, n := range d.e.numbers {
		all += n.count
		switch {
		case n.mark == reading.Comma, n.group == reading.Point:
			comma.merge(examples{n.count, n.first.first})
		case n.mark == reading.Point, n.group == reading.Comma:
			point.merge(examples{n.count, n.first.first})
		}
	}
	if float64(left-all) > nearMiss*float64(left) || point.count == 0 || comma.count == 0 {
		return false
	}
	d.find(Caution, CodeMixedMarks, fmt.Sprintf("numbers written in two ways, kept as text: %s a decimal point, %s a "+
		"decimal comma", groupIs(point.count, "has", "have"), grouped(comma.count)),
		"ask how the file was made; with --type and --decimal, those of one way are loaded and the others become "+
			"rejects", min(point.count, comma.count), mergeExamples(point.first, comma.first))
	return true
}

// markFindings are about a mark that may separate thousands or be the decimal one.
func (d *decision) markFindings(ambiguous reading.Mark, f reading.Number) (out []Finding) {
	var ex []Example
	var count int64
	for _, n := range d.e.numbers {
		if n.either == ambiguous {
			ex, count = mergeExamples(ex, n.first.first), count+n.count
		}
	}
	as := "a decimal mark"
	if f.Decimal != ambiguous {
		as = "a thousands separator"
	}
	name := map[reading.Mark]string{reading.Comma: "comma", reading.Point: "point"}[ambiguous]
	values := groupIs(count, "value", "values")
	switch {
	case d.opt.Decimal != reading.NoMark:
		return nil
	case len(d.certain) == 1:
		other := ""
		for _, h := range d.certain {
			other = h
		}
		return []Finding{d.finding(Caution, CodeMarkByOthers,
			fmt.Sprintf("the %s in %s is taken as %s, because of how %q is written", name, values, as, other),
			"if that is wrong, say --decimal comma or --decimal point", count, ex)}
	case ambiguous == reading.Point:
		return []Finding{d.finding(Caution, CodeMarkAssumed,
			fmt.Sprintf("the point in %s is taken as the decimal mark, as in SQL; nothing in the file says otherwise",
				values),
			"if it separates thousands, say --decimal comma", count, ex)}
	}
	open := d.finding(Blocker, CodeMarkUndecided,
		fmt.Sprintf("the %s in %s may separate thousands or be the decimal mark; nothing in the file decides it", name,
			values),
		"say --decimal point (then commas separate thousands) or --decimal comma", count, ex)
	open.Answers = []Answer{{"the point is the decimal mark, and commas separate thousands", "decimal", "point"},
		{"the comma is the decimal mark", "decimal", "comma"}}
	return []Finding{open}
}
