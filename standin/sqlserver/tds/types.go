package tds

import (
	"encoding/binary"
	"errors"
	"fmt"
	"math"
	"math/big"
	"strings"
	"time"
)

// Kind is a type of the language.
type Kind int

// The kinds, in ascending order of precedence among what mixes.
const (
	Null Kind = iota
	VarBinary
	VarChar
	NVarChar
	UniqueID
	Bit
	TinyInt
	SmallInt
	Int
	BigInt
	Decimal // carried as float64: enough for a catalogue, not for money
	Float
	Date
	DateTime
	DateTime2
	DateTimeOffset
	Variant
)

// Type is a kind with its length (characters or bytes; -1 is max) and scale.
type Type struct {
	Kind  Kind
	Len   int
	Scale int
	// Fixed: char, nchar, binary.
	Fixed bool
	// Binary: compared byte by byte, not by the usual collation.
	Binary bool
}

// Text reports whether values of the type are strings.
func (t Type) Text() bool { return t.Kind == NVarChar || t.Kind == VarChar }

// Integer reports whether values of the type are whole numbers.
func (t Type) Integer() bool { return t.Kind >= Bit && t.Kind <= BigInt }

// Number reports whether values of the type are numbers.
func (t Type) Number() bool { return t.Kind >= Bit && t.Kind <= Float }

// Time reports whether values of the type are dates or times.
func (t Type) Time() bool { return t.Kind >= Date && t.Kind <= DateTimeOffset }

// Values are nil, bool (bit), int64, float64, string, []byte, time.Time and
// UUID, whatever the exact type.

// UUID holds a uniqueidentifier as its text is read, big-endian.
type UUID [16]byte

// String writes it in upper case, as the server does.
func (u UUID) String() string {
	return strings.ToUpper(fmt.Sprintf("%x-%x-%x-%x-%x", u[0:4], u[4:6], u[6:8], u[8:10], u[10:16]))
}

// Wire gives the mixed-endian bytes.
func (u UUID) Wire() []byte {
	return []byte{u[3], u[2], u[1], u[0], u[5], u[4], u[7], u[6], u[8], u[9], u[10], u[11], u[12], u[13], u[14], u[15]}
}

func uuidFromWire(b []byte) (u UUID) {
	copy(u[:], []byte{b[3], b[2], b[1], b[0], b[5], b[4], b[7], b[6]})
	copy(u[8:], b[8:16])
	return u
}

var collation = []byte{0x09, 0x04, 0xD0, 0x00, 0x34} // SQL_Latin1_General_CP1_CI_AS

func put16(b []byte, v int) []byte    { return binary.LittleEndian.AppendUint16(b, uint16(v)) }
func put32(b []byte, v uint32) []byte { return binary.LittleEndian.AppendUint32(b, v) }
func put64(b []byte, v uint64) []byte { return binary.LittleEndian.AppendUint64(b, v) }

func timeLen(scale int) int {
	switch {
	case scale <= 2:
		return 3
	case scale <= 4:
		return 4
	}
	return 5
}

// typeInfo writes TYPE_INFO.
func typeInfo(b []byte, t Type) []byte {
	switch t.Kind {
	case Bit:
		return append(b, 0x68, 1)
	case TinyInt:
		return append(b, 0x26, 1)
	case SmallInt:
		return append(b, 0x26, 2)
	case Int, Null:
		return append(b, 0x26, 4)
	case BigInt:
		return append(b, 0x26, 8)
	case Float, Decimal:
		return append(b, 0x6D, 8)
	case UniqueID:
		return append(b, 0x24, 16)
	case Date:
		return append(b, 0x28)
	case DateTime:
		return append(b, 0x6F, 8)
	case DateTime2:
		return append(b, 0x2A, byte(t.Scale))
	case DateTimeOffset:
		return append(b, 0x2B, byte(t.Scale))
	case VarBinary:
		return put16(append(b, 0xA5), sizeOf(t, 1))
	case VarChar:
		return append(put16(append(b, 0xA7), sizeOf(t, 1)), collation...)
	case Variant:
		return put32(append(b, 0x62), 8009)
	}
	return append(put16(append(b, 0xE7), sizeOf(t, 2)), collation...)
}

func sizeOf(t Type, per int) int {
	if t.Len < 0 || t.Len*per > 8000 {
		return 0xFFFF
	}
	return max(t.Len, 1) * per
}

func putBytes(b, v []byte, isNull bool, t Type, per int) []byte {
	if sizeOf(t, per) == 0xFFFF { // partially length-prefixed
		if isNull {
			return put64(b, math.MaxUint64)
		}
		b = put64(b, uint64(len(v)))
		if len(v) > 0 {
			b = append(put32(b, uint32(len(v))), v...)
		}
		return put32(b, 0)
	}
	if isNull {
		return put16(b, 0xFFFF)
	}
	v = v[:min(len(v), sizeOf(t, per))]
	return append(put16(b, len(v)), v...)
}

// value writes a value of the type.
//
// Long: one case for each type.
func value(b []byte, t Type, v any) []byte {
	if v == nil {
		switch t.Kind {
		case VarBinary, VarChar:
			return putBytes(b, nil, true, t, 1)
		case NVarChar:
			return putBytes(b, nil, true, t, 2)
		case Variant:
			return put32(b, 0)
		}
		return append(b, 0)
	}
	switch t.Kind {
	case Bit:
		if v.(bool) {
			return append(b, 1, 1)
		}
		return append(b, 1, 0)
	case TinyInt:
		return append(b, 1, byte(v.(int64)))
	case SmallInt:
		return put16(append(b, 2), int(v.(int64)))
	case Int, Null:
		return put32(append(b, 4), uint32(v.(int64)))
	case BigInt:
		return put64(append(b, 8), uint64(v.(int64)))
	case Float, Decimal:
		return put64(append(b, 8), math.Float64bits(v.(float64)))
	case UniqueID:
		return append(append(b, 16), v.(UUID).Wire()...)
	case Date:
		d := days(v.(time.Time))
		return append(b, 3, byte(d), byte(d>>8), byte(d>>16))
	case DateTime:
		day, tick := DateTimeParts(v.(time.Time))
		return put32(put32(append(b, 8), uint32(int32(day))), tick)
	case DateTime2, DateTimeOffset:
		x := v.(time.Time)
		n := timeLen(t.Scale)
		head := n + 3
		if t.Kind == DateTimeOffset {
			head += 2
			x = x.UTC()
		}
		b = append(b, byte(head))
		since := x.Sub(time.Date(x.Year(), x.Month(), x.Day(), 0, 0, 0, 0, x.Location())).
			Nanoseconds() /
			int64(
				math.Pow10(9-t.Scale),
			)
		for i := range n {
			b = append(b, byte(since>>(8*i)))
		}
		d := days(x)
		b = append(b, byte(d), byte(d>>8), byte(d>>16))
		if t.Kind == DateTimeOffset {
			b = put16(b, 0)
		}
		return b
	case VarBinary:
		return putBytes(b, v.([]byte), false, t, 1)
	case VarChar:
		return putBytes(b, latin1(v.(string)), false, t, 1)
	case Variant:
		return variant(b, v)
	}
	return putBytes(b, ToUCS2(v.(string)), false, t, 2)
}

func variant(b []byte, v any) []byte {
	var body []byte
	switch x := v.(type) {
	case int64:
		body = put32([]byte{0x38, 0}, uint32(x))
	case bool:
		body = []byte{0x32, 0, 0}
		if x {
			body[2] = 1
		}
	case time.Time:
		day, tick := DateTimeParts(x)
		body = put32(put32([]byte{0x3D, 0}, uint32(int32(day))), tick)
	case []byte:
		body = append(put16([]byte{0xA5, 2}, 8000), x...)
	default:
		u := ToUCS2(fmt.Sprint(v))
		body = append(append([]byte{0xE7, 7}, collation...), byte(8000&0xFF), byte(8000>>8))
		body = append(body, u...)
	}
	return append(put32(b, uint32(len(body))), body...)
}

func latin1(s string) []byte {
	var b []byte
	for _, r := range s {
		if r > 0xFF {
			r = '?'
		}
		b = append(b, byte(r))
	}
	return b
}

func fromLatin1(b []byte) string {
	r := make([]rune, len(b))
	for i, c := range b {
		r[i] = rune(c)
	}
	return string(r)
}

var year1 = time.Date(1, 1, 1, 0, 0, 0, 0, time.UTC)
var year1900 = time.Date(1900, 1, 1, 0, 0, 0, 0, time.UTC)

func days(t time.Time) int {
	d := time.Date(t.Year(), t.Month(), t.Day(), 0, 0, 0, 0, time.UTC)
	return int(d.Sub(year1900)/(24*time.Hour)) + 693595
}

// DateTimeParts gives a datetime's days since 1900 and its ticks of 1/300 s.
func DateTimeParts(t time.Time) (day int, tick uint32) {
	t = time.Date(t.Year(), t.Month(), t.Day(), t.Hour(), t.Minute(), t.Second(), t.Nanosecond(), time.UTC)
	day = days(t) - 693595
	since := t.Sub(time.Date(t.Year(), t.Month(), t.Day(), 0, 0, 0, 0, time.UTC))
	return day, uint32((since.Nanoseconds()*300 + 5e8) / 1e9)
}

// RoundDateTime gives the nearest moment that a datetime can hold.
func RoundDateTime(t time.Time) time.Time {
	day, tick := DateTimeParts(t)
	// As the server converts it to datetime2: to 100 ns.
	ns := (int64(tick)*1e9/300 + 50) / 100 * 100
	return year1900.AddDate(0, 0, day).Add(time.Duration(ns))
}

// reader reads little-endian fields; past the end it fails once and for all.
type reader struct {
	b   []byte
	err error
}

func (r *reader) take(n int) []byte {
	if n < 0 || n > len(r.b) {
		if r.err == nil {
			r.err = errors.New("tds: a request that ends too soon")
		}
		r.b = nil
		return make([]byte, max(n, 0)&0xFFFF)
	}
	v := r.b[:n]
	r.b = r.b[n:]
	return v
}
func (r *reader) u8() int     { return int(r.take(1)[0]) }
func (r *reader) u16() int    { return int(binary.LittleEndian.Uint16(r.take(2))) }
func (r *reader) u32() uint32 { return binary.LittleEndian.Uint32(r.take(4)) }
func (r *reader) u64() uint64 { return binary.LittleEndian.Uint64(r.take(8)) }

// readTyped reads TYPE_INFO and a value of it.
//
// Long: one case for each type.
func (r *reader) readTyped() (Type, any) {
	id := r.u8()
	switch id {
	case 0x1F:
		return Type{Kind: Null}, nil
	case 0x30, 0x32, 0x34, 0x38, 0x7F, 0x3E: // fixed length
		switch id {
		case 0x30:
			return Type{Kind: TinyInt}, int64(r.u8())
		case 0x32:
			return Type{Kind: Bit}, r.u8() != 0
		case 0x34:
			return Type{Kind: SmallInt}, int64(int16(r.u16()))
		case 0x38:
			return Type{Kind: Int}, int64(int32(r.u32()))
		case 0x7F:
			return Type{Kind: BigInt}, int64(r.u64())
		}
		return Type{Kind: Float}, math.Float64frombits(r.u64())
	case 0x26:
		size := r.u8()
		t := Type{Kind: map[int]Kind{1: TinyInt, 2: SmallInt, 4: Int, 8: BigInt}[size]}
		switch r.u8() {
		case 1:
			return t, int64(r.u8())
		case 2:
			return t, int64(int16(r.u16()))
		case 4:
			return t, int64(int32(r.u32()))
		case 8:
			return t, int64(r.u64())
		}
		return t, nil
	case 0x68:
		r.u8()
		if r.u8() == 0 {
			return Type{Kind: Bit}, nil
		}
		return Type{Kind: Bit}, r.u8() != 0
	case 0x6D:
		r.u8()
		switch r.u8() {
		case 4:
			return Type{Kind: Float}, float64(math.Float32frombits(r.u32()))
		case 8:
			return Type{Kind: Float}, math.Float64frombits(r.u64())
		}
		return Type{Kind: Float}, nil
	case 0x6A, 0x6C:
		r.u8()
		prec, scale := r.u8(), r.u8()
		t := Type{Kind: Decimal, Len: prec, Scale: scale}
		n := r.u8()
		if n == 0 {
			return t, nil
		}
		neg := r.u8() == 0
		raw := append([]byte(nil), r.take(n-1)...)
		for i, j := 0, len(raw)-1; i < j; i, j = i+1, j-1 {
			raw[i], raw[j] = raw[j], raw[i]
		}
		f, _ := new(big.Float).SetInt(new(big.Int).SetBytes(raw)).Float64()
		f /= math.Pow10(scale)
		if neg {
			f = -f
		}
		return t, f
	case 0x24:
		r.u8()
		if r.u8() == 0 {
			return Type{Kind: UniqueID}, nil
		}
		return Type{Kind: UniqueID}, uuidFromWire(r.take(16))
	case 0x6F:
		r.u8()
		switch r.u8() {
		case 8:
			day, tick := int(int32(r.u32())), r.u32()
			return Type{
					Kind: DateTime,
				}, RoundDateTime(
					year1900.AddDate(0, 0, day).Add(time.Duration(int64(tick) * 1e9 / 300)),
				)
		case 4:
			day, m := r.u16(), r.u16()
			return Type{Kind: DateTime}, year1900.AddDate(0, 0, day).Add(time.Duration(m) * time.Minute)
		}
		return Type{Kind: DateTime}, nil
	case 0x28:
		if r.u8() == 0 {
			return Type{Kind: Date}, nil
		}
		b := r.take(3)
		return Type{Kind: Date}, year1.AddDate(0, 0, int(b[0])|int(b[1])<<8|int(b[2])<<16)
	case 0x2A, 0x2B:
		scale := r.u8()
		t := Type{Kind: DateTime2, Scale: scale}
		if id == 0x2B {
			t.Kind = DateTimeOffset
		}
		n := r.u8()
		if n == 0 {
			return t, nil
		}
		var ticks int64
		for i, c := range r.take(timeLen(scale)) {
			ticks |= int64(c) << (8 * i)
		}
		b := r.take(3)
		v := year1.AddDate(0, 0, int(b[0])|int(b[1])<<8|int(b[2])<<16).
			Add(time.Duration(ticks * int64(math.Pow10(9-scale))))
		if id == 0x2B {
			v = v.In(time.FixedZone("", int(int16(r.u16()))*60))
		}
		return t, v
	case 0xA5, 0xAD:
		size := r.u16()
		b, isNull := r.readBytes(size)
		t := Type{Kind: VarBinary, Len: length(size, 1)}
		if isNull {
			return t, nil
		}
		return t, b
	case 0xA7, 0xAF:
		size := r.u16()
		r.take(5)
		b, isNull := r.readBytes(size)
		t := Type{Kind: VarChar, Len: length(size, 1)}
		if isNull {
			return t, nil
		}
		return t, fromLatin1(b)
	case 0xE7, 0xEF:
		size := r.u16()
		r.take(5)
		b, isNull := r.readBytes(size)
		t := Type{Kind: NVarChar, Len: length(size, 2)}
		if isNull {
			return t, nil
		}
		return t, UCS2(b)
	}
	if r.err == nil {
		r.err = fmt.Errorf("tds: a parameter of type %#x", id)
	}
	return Type{}, nil
}

func length(size, per int) int {
	if size == 0xFFFF {
		return -1
	}
	return size / per
}

func (r *reader) readBytes(size int) ([]byte, bool) {
	if size != 0xFFFF {
		n := r.u16()
		if n == 0xFFFF {
			return nil, true
		}
		return append([]byte{}, r.take(n)...), false
	}
	total := r.u64()
	if total == math.MaxUint64 {
		return nil, true
	}
	out := []byte{}
	for r.err == nil {
		n := int(r.u32())
		if n == 0 {
			break
		}
		out = append(out, r.take(n)...)
	}
	return out, false
}
