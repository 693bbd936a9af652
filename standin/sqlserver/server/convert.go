package server

import (
	"bytes"
	"encoding/hex"
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"example.com/genarch/standin/sqlserver/tds"
)

func mix(a, b tds.Type) tds.Type {
	if a.Kind == tds.Null {
		return b
	}
	if b.Kind == tds.Null {
		return a
	}
	t := a
	if b.Kind > a.Kind {
		t = b
	}
	if t.Text() && a.Text() && b.Text() {
		if a.Len < 0 || b.Len < 0 {
			t.Len = -1
		} else {
			t.Len = max(a.Len, b.Len)
		}
		t.Binary = a.Binary || b.Binary
	}
	t.Fixed = false
	return t
}

// compareValues gives -1, 0, 1; neither may be nil; both are of type t.
func compareValues(a, b any, t tds.Type) int {
	switch p := a.(type) {
	case string:
		q := b.(string)
		p, q = strings.TrimRight(p, " "), strings.TrimRight(q, " ")
		if !t.Binary {
			p, q = strings.ToLower(p), strings.ToLower(q)
		}
		return strings.Compare(p, q)
	case int64:
		q := b.(int64)
		switch {
		case p < q:
			return -1
		case p > q:
			return 1
		}
		return 0
	case float64:
		q := b.(float64)
		switch {
		case p < q:
			return -1
		case p > q:
			return 1
		}
		return 0
	case bool:
		q := b.(bool)
		switch {
		case p == q:
			return 0
		case q:
			return -1
		}
		return 1
	case []byte:
		return bytes.Compare(bytes.TrimRight(p, "\x00"), bytes.TrimRight(b.([]byte), "\x00"))
	case time.Time:
		return p.Compare(b.(time.Time))
	case tds.UUID:
		q := b.(tds.UUID)
		return bytes.Compare(p[:], q[:])
	}
	panic(fmt.Sprintf("cannot compare %T", a))
}

func intOp(op string, p, q int64, t tds.Type) any {
	var r int64
	switch op {
	case "+":
		r = p + q
	case "-":
		r = p - q
	case "*":
		r = p * q
	case "/", "%":
		if q == 0 {
			fail(8134, 16, 1, "Divide by zero error encountered.")
		}
		r = p / q
		if op == "%" {
			r = p % q
		}
	case "&":
		r = p & q
	case "|":
		r = p | q
	case "^":
		r = p ^ q
	}
	if t.Kind == tds.Int && (r > math.MaxInt32 || r < math.MinInt32) {
		fail(8115, 16, 2, "Arithmetic overflow error converting expression to data type int.")
	}
	return r
}

func compareAny(a any, ta tds.Type, b any, tb, t tds.Type) int {
	if t.Kind == tds.Variant { // compare by what is inside
		ta, tb = typeOf(a), typeOf(b)
		t = mix(ta, tb)
	}
	return compareValues(convert(a, ta, cmpType(t), 0), convert(b, tb, cmpType(t), 0), t)
}

// cmpType widens a type so that nothing is cut for a comparison.
func cmpType(t tds.Type) tds.Type {
	if t.Text() || t.Kind == tds.VarBinary {
		t.Len, t.Fixed = -1, false
	}
	return t
}

func typeOf(v any) tds.Type {
	switch v.(type) {
	case bool:
		return tBit
	case int64:
		return tBig
	case float64:
		return tFloat
	case string:
		return tMax
	case []byte:
		return tds.Type{Kind: tds.VarBinary, Len: -1}
	case time.Time:
		return tDT2
	case tds.UUID:
		return tUUID
	}
	return tNull
}

// convert turns a value into another type, or fails as the server does.
//
// Long: one case for each form of an expression.
func convert(v any, from, to tds.Type, style int) any {
	if v == nil {
		return nil
	}
	if from.Kind == tds.Variant {
		from = typeOf(v)
	}
	switch to.Kind {
	case tds.Null, tds.Variant:
		return v
	case tds.NVarChar, tds.VarChar:
		s := toText(v, from, style)
		if to.Len > 0 && utf16len(s) > to.Len {
			s = string([]rune(s)[:min(to.Len, len([]rune(s)))])
		}
		if to.Fixed && len(s) < to.Len {
			s += strings.Repeat(" ", to.Len-len(s))
		}
		return s
	case tds.Bit:
		switch p := v.(type) {
		case bool:
			return p
		case int64:
			return p != 0
		case float64:
			return p != 0
		case string:
			switch strings.ToLower(strings.TrimSpace(p)) {
			case "true", "1":
				return true
			case "false", "0", "":
				return false
			}
		}
	case tds.TinyInt, tds.SmallInt, tds.Int, tds.BigInt:
		var n int64
		switch p := v.(type) {
		case bool:
			if p {
				n = 1
			}
		case int64:
			n = p
		case float64:
			n = int64(p)
		case string:
			q, err := strconv.ParseInt(strings.TrimSpace(p), 10, 64)
			if err != nil && strings.TrimSpace(p) != "" {
				fail(245, 16, 1, "Conversion failed when converting the %s value '%s' to data type "+
					"%s.", typeName(from), p, typeName(to))
			}
			n = q
		case []byte:
			for _, c := range p[max(0, len(p)-8):] {
				n = n<<8 | int64(c)
			}
		default:
			fail(529, 16, 2, "Explicit conversion from data type %s to %s is not "+
				"allowed.", typeName(from), typeName(to))
		}
		lim := map[tds.Kind][2]int64{tds.TinyInt: {0, 255}, tds.SmallInt: {-32768, 32767}, tds.Int: {math.MinInt32,
			math.MaxInt32}, tds.BigInt: {math.MinInt64, math.MaxInt64}}[to.Kind]
		if n < lim[0] || n > lim[1] {
			fail(8115, 16, 2, "Arithmetic overflow error converting expression to data type %s.", typeName(to))
		}
		return n
	case tds.Decimal, tds.Float:
		switch p := v.(type) {
		case bool:
			if p {
				return 1.0
			}
			return 0.0
		case int64:
			return float64(p)
		case float64:
			if to.Kind == tds.Decimal && from.Kind == tds.Float || to.Kind == tds.Decimal && to.Scale > 0 {
				return math.Round(p*math.Pow10(to.Scale)) / math.Pow10(to.Scale)
			}
			return p
		case string:
			f, err := strconv.ParseFloat(strings.TrimSpace(p), 64)
			if err != nil {
				fail(8114, 16, 5, "Error converting data type %s to %s.", typeName(from), typeName(to))
			}
			return f
		}
	case tds.VarBinary:
		var b []byte
		switch p := v.(type) {
		case []byte:
			b = p
		case int64:
			size := map[tds.Kind]int{tds.TinyInt: 1, tds.SmallInt: 2, tds.Int: 4}[from.Kind]
			if size == 0 {
				size = 8
			}
			for k := size - 1; k >= 0; k-- {
				b = append(b, byte(p>>(8*k)))
			}
		case tds.UUID:
			b = p.Wire()
		case string:
			switch {
			case style == 1 || style == 2:
				h := p
				if style == 1 {
					h = strings.TrimPrefix(strings.TrimPrefix(p, "0x"), "0X")
				}
				d, err := hex.DecodeString(h)
				if err != nil || style == 1 && h == p {
					fail(8114, 16, 5, "Error converting data type %s to varbinary.", typeName(from))
				}
				b = d
			case from.Kind == tds.NVarChar:
				b = tds.ToUCS2(p)
			default:
				b = []byte(p)
			}
		}
		if to.Len > 0 && len(b) > to.Len {
			b = b[:to.Len]
		}
		for to.Fixed && len(b) < to.Len {
			b = append(b, 0)
		}
		return b
	case tds.UniqueID:
		switch p := v.(type) {
		case tds.UUID:
			return p
		case string:
			d, err := hex.DecodeString(strings.ReplaceAll(strings.Trim(p, "{} "), "-", ""))
			if err != nil || len(d) != 16 {
				fail(8169, 16, 2, "Conversion failed when converting from a character string to uniqueidentifier.")
			}
			var u tds.UUID
			copy(u[:], d)
			return u
		}
	case tds.Date, tds.DateTime, tds.DateTime2, tds.DateTimeOffset:
		var at time.Time
		switch p := v.(type) {
		case time.Time:
			at = p
			if from.Kind == tds.DateTimeOffset && to.Kind != tds.DateTimeOffset {
				at = time.Date(p.Year(), p.Month(), p.Day(), p.Hour(), p.Minute(), p.Second(), p.Nanosecond(), time.UTC)
			}
		case string:
			ok := false
			for _, l := range []string{"2006-01-02T15:04:05.999999999Z07:00", "2006-01-02T15:04:05.999999999",
				"2006-01-02 15:04:05.999999999 -07:00", "2006-01-02 15:04:05.999999999", "2006-01-02T15:04",
				"2006-01-02", "20060102", "20060102 15:04:05.999999999"} {
				if q, err := time.Parse(l, strings.TrimSpace(p)); err == nil {
					at, ok = q, true
					break
				}
			}
			if !ok {
				fail(241, 16, 1, "Conversion failed when converting date and/or time from character string.")
			}
		case int64:
			at = time.Date(1900, 1, 1, 0, 0, 0, 0, time.UTC).AddDate(0, 0, int(p))
		default:
			fail(529, 16, 2, "Explicit conversion from data type %s to %s is not "+
				"allowed.", typeName(from), typeName(to))
		}
		switch to.Kind {
		case tds.DateTime:
			at = tds.RoundDateTime(at)
		case tds.Date:
			at = time.Date(at.Year(), at.Month(), at.Day(), 0, 0, 0, 0, time.UTC)
		default:
			at = at.Round(time.Duration(math.Pow10(9 - to.Scale)))
		}
		return at
	}
	fail(529, 16, 2, "Explicit conversion from data type %s to %s is not allowed.", typeName(from), typeName(to))
	return nil
}

func typeName(t tds.Type) string {
	names := map[tds.Kind]string{
		tds.Null:           "int",
		tds.VarBinary:      "varbinary",
		tds.VarChar:        "varchar",
		tds.NVarChar:       "nvarchar",
		tds.UniqueID:       "uniqueidentifier",
		tds.Bit:            "bit",
		tds.TinyInt:        "tinyint",
		tds.SmallInt:       "smallint",
		tds.Int:            "int",
		tds.BigInt:         "bigint",
		tds.Decimal:        "numeric",
		tds.Float:          "float",
		tds.Date:           "date",
		tds.DateTime:       "datetime",
		tds.DateTime2:      "datetime2",
		tds.DateTimeOffset: "datetimeoffset",
		tds.Variant:        "sql_variant",
	}
	return names[t.Kind]
}

func toText(v any, from tds.Type, style int) string {
	switch p := v.(type) {
	case string:
		return p
	case bool:
		if p {
			return "1"
		}
		return "0"
	case int64:
		return strconv.FormatInt(p, 10)
	case float64:
		return strconv.FormatFloat(p, 'f', -1, 64)
	case tds.UUID:
		return p.String()
	case []byte:
		switch style {
		case 1:
			return "0x" + strings.ToUpper(hex.EncodeToString(p))
		case 2:
			return strings.ToUpper(hex.EncodeToString(p))
		}
		if from.Kind == tds.VarBinary {
			return tds.UCS2(p)
		}
		return string(p)
	case time.Time:
		frac := "2006-01-02 15:04:05"
		switch {
		case style == 126 || style == 127:
			frac = "2006-01-02T15:04:05"
		case from.Kind == tds.Date:
			return p.Format("2006-01-02")
		case from.Kind == tds.DateTime && style == 0:
			return p.Format("Jan _2 2006  3:04PM")
		case style == 112:
			return p.Format("20060102")
		case style == 120:
			return p.Format(frac)
		}
		switch {
		case from.Kind == tds.DateTime:
			s := p.Round(time.Millisecond).Format(frac + ".000")
			if style == 126 {
				s = strings.TrimSuffix(s, ".000")
			}
			return s
		case from.Scale > 0:
			frac += "." + strings.Repeat("0", from.Scale)
		}
		if from.Kind == tds.DateTimeOffset {
			frac += " -07:00"
		}
		return p.Format(frac)
	}
	return fmt.Sprint(v)
}
