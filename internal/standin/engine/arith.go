package engine

import (
	"math"
	"math/big"
	"strings"
)

// arithmetic is + - * / % & | ^ of two expressions, and + of texts.
func (sc *scope) arithmetic(op string, l, r *expr) (*expr, error) {
	switch {
	case l.t.Kind == Untyped && r.t.Kind == Untyped:
		return constant(Type{Kind: Int}, null), nil
	case l.t.Kind == Untyped:
		l = constant(r.t, null)
	case r.t.Kind == Untyped:
		r = constant(l.t, null)
	}
	if op == "+" && (l.t.IsText() && r.t.IsText() || l.t.IsBytes() && r.t.IsBytes()) {
		return joined(l, r)
	}
	bad := func(t Type) (*expr, error) {
		return nil, fail(8117, 16, "Operand data type %s is invalid for '%s' operator.", t.spec().name, op)
	}
	// Text meets a number as a number; a date and a number are a datetime's alone.
	for _, x := range []*expr{l, r} {
		if !x.t.IsNumber() && !x.t.IsText() {
			return bad(x.t)
		}
	}
	t, err := unified(l.t, r.t)
	if err != nil {
		return nil, err
	}
	if !t.IsNumber() {
		return bad(t)
	}
	a, b := l, r
	if a.t.IsText() {
		a = a.to(t)
	}
	if b.t.IsText() {
		b = b.to(t)
	}
	switch {
	case t.IsFloat():
		return floats(op, a.to(t), b.to(t), t)
	case t.Kind == Decimal:
		return decimals(op, a, b)
	}
	if t.Kind == Bit && op != "&" && op != "|" && op != "^" {
		return bad(t)
	}
	return integers(op, a.to(t), b.to(t), t)
}

func joined(l, r *expr) (*expr, error) {
	t, err := unified(l.t, r.t)
	if err != nil {
		return nil, err
	}
	most := 8000
	if t.IsWide() {
		most = 4000
	}
	if t.Kind == Char || t.Kind == NChar {
		t.Kind += VarChar - Char
	}
	if l.t.Len == Max || r.t.Len == Max {
		t.Len = Max
	} else {
		t.Len = min(most, l.t.Len+r.t.Len)
	}
	return &expr{t: t, sure: l.sure && r.sure, f: func(fr *frame) (Value, error) {
		a, err := l.f(fr)
		if err != nil || a.Null {
			return a, err
		}
		b, err := r.f(fr)
		if err != nil || b.Null {
			return b, err
		}
		s := a.S + b.S
		if t.Len != Max && t.length(s) > t.Len {
			s = t.cutTo(s, t.Len)
		}
		return Value{S: s}, nil
	}}, nil
}

// two evaluates both operands; ok is false if one is null.
func two(fr *frame, a, b *expr) (x, y Value, ok bool, err error) {
	if x, err = a.f(fr); err != nil || x.Null {
		return x, y, false, err
	}
	y, err = b.f(fr)
	return x, y, err == nil && !y.Null, err
}

var errZero = fail(8134, 16, "Divide by zero error encountered.")

func floats(op string, a, b *expr, t Type) (*expr, error) {
	if strings.Contains("&|^%", op) {
		return nil, fail(8117, 16, "Operand data type %s is invalid for '%s' operator.", t.spec().name, op)
	}
	return &expr{t: t, f: func(fr *frame) (Value, error) {
		x, y, ok, err := two(fr, a, b)
		if !ok {
			return null, err
		}
		f := 0.0
		switch op {
		case "+":
			f = x.Float() + y.Float()
		case "-":
			f = x.Float() - y.Float()
		case "*":
			f = x.Float() * y.Float()
		case "/":
			if y.Float() == 0 {
				return null, errZero
			}
			f = x.Float() / y.Float()
		}
		if math.IsInf(f, 0) {
			return null, fail(8115, 16, "Arithmetic overflow error converting expression to data type %s.",
				t.spec().name)
		}
		return FromFloat(f), nil
	}}, nil
}

// integers are of one type, money among them.
func integers(op string, a, b *expr, t Type) (*expr, error) {
	r := ranges[t.Kind]
	return &expr{t: t, f: func(fr *frame) (Value, error) {
		x, y, ok, err := two(fr, a, b)
		if !ok {
			return null, err
		}
		p, q := big.NewInt(x.N), big.NewInt(y.N)
		n := new(big.Int)
		switch op {
		case "+":
			n.Add(p, q)
		case "-":
			n.Sub(p, q)
		case "*":
			if n.Mul(p, q); t.IsMoney() {
				n = rescaled(n, 8, 4)
			}
		case "/", "%":
			if y.N == 0 {
				return null, errZero
			}
			if t.IsMoney() {
				p.Mul(p, big.NewInt(10000))
			}
			if op == "/" {
				n.Quo(p, q)
			} else {
				n.Rem(p, q)
			}
		case "&":
			return Value{N: x.N & y.N}, nil
		case "|":
			return Value{N: x.N | y.N}, nil
		case "^":
			return Value{N: x.N ^ y.N}, nil
		}
		if n.Cmp(big.NewInt(r[0])) < 0 || n.Cmp(big.NewInt(r[1])) > 0 {
			return null, fail(8115, 16, "Arithmetic overflow error converting expression to data type %s.",
				t.spec().name)
		}
		return Value{N: n.Int64()}, nil
	}}, nil
}

// decimals follow "Precision, scale, and length": the scale gives way where there are more
// than 38 digits.
func decimals(op string, a, b *expr) (*expr, error) {
	x, y := a.t.asDecimal(), b.t.asDecimal()
	t := Type{Kind: Decimal}
	switch op {
	case "+", "-":
		t.Scale = max(x.Scale, y.Scale)
		t.Prec = max(x.Prec-x.Scale, y.Prec-y.Scale) + t.Scale + 1
	case "*":
		t.Scale, t.Prec = x.Scale+y.Scale, x.Prec+y.Prec+1
	case "/":
		t.Scale = max(6, x.Scale+y.Prec+1)
		t.Prec = x.Prec - x.Scale + y.Scale + t.Scale
	case "%":
		t.Scale = max(x.Scale, y.Scale)
		t.Prec = min(x.Prec-x.Scale, y.Prec-y.Scale) + t.Scale
	default:
		return nil, fail(8117, 16, "Operand data type numeric is invalid for '%s' operator.", op)
	}
	if t.Prec > 38 {
		whole := t.Prec - t.Scale
		if op == "+" || op == "-" {
			t.Scale = max(0, min(t.Scale, 38-min(whole, 38)))
		} else {
			t.Scale = max(min(t.Scale, 6), min(t.Scale, 38-whole))
		}
		t.Prec = 38
	}
	most := pow10(t.Prec)
	return &expr{t: t, f: func(fr *frame) (Value, error) {
		v, w, ok, err := two(fr, a, b)
		if !ok {
			return null, err
		}
		p, q, n, scale := v.Number(), w.Number(), new(big.Int), max(x.Scale, y.Scale)
		if op == "+" || op == "-" || op == "%" {
			p, q = rescaled(p, x.Scale, scale), rescaled(q, y.Scale, scale)
		}
		switch op {
		case "+":
			n.Add(p, q)
		case "-":
			n.Sub(p, q)
		case "*":
			n.Mul(p, q)
			scale = x.Scale + y.Scale
		case "/", "%":
			if q.Sign() == 0 {
				return null, errZero
			}
			if op == "%" {
				n.Rem(p, q)
				break
			}
			scale = t.Scale
			n.Quo(new(big.Int).Mul(p, pow10(max(0, t.Scale-x.Scale+y.Scale))), q)
		}
		if n = rescaled(n, scale, t.Scale); new(big.Int).Abs(n).Cmp(most) >= 0 {
			return null, fail(8115, 16, "Arithmetic overflow error converting expression to data type numeric.")
		}
		return FromNumber(n), nil
	}}, nil
}
