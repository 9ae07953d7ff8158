// Package value gives one value of a cell: its kinds, how it is read from text without a guess, how it is shown,
// and vectors of values as they travel from file to database.
package value

// Kind is what a value is, the same on every database.
type Kind uint8

const (
	Text     Kind = iota // characters, UTF-8
	Int                  // 64-bit whole number
	Fixed                // decimal of at most 18 digits with a declared scale, held as a scaled 64-bit number
	Decimal              // decimal without such a bound, held as its canonical text
	Float                // IEEE 754 double
	Bool                 // 0 or 1
	Date                 // days since 1970-01-01
	Time                 // microseconds since midnight, or of a span of time
	DateTime             // microseconds since 1970-01-01 00:00:00, without a zone
	Bytes                // octets
)

var kindNames = [...]string{"text", "whole number", "decimal number", "decimal number", "floating-point number",
	"yes/no value", "date", "time", "date and time", "bytes"}

func (k Kind) String() string { return kindNames[k] }

// wide tells the kinds that are held as bytes of any length; the others fit 64 bits.
func (k Kind) wide() bool { return k == Text || k == Decimal || k == Bytes }

// Numeric tells the kinds that have a sum.
func (k Kind) Numeric() bool { return k == Int || k == Fixed || k == Decimal || k == Float }

// Ordered tells the kinds whose least and greatest value mean something to people.
func (k Kind) Ordered() bool { return k.Numeric() || k == Date || k == Time || k == DateTime }

// Storage says what the database does to a value when it stores it, as far as that can change the value.
type Storage uint8

const (
	AsIs         Storage = iota
	AsDouble             // numbers become IEEE 754 doubles
	AsSingle             // numbers become IEEE 754 single-precision numbers
	AsNumberLook         // text that looks like a number becomes one
	AsPadded             // text is filled up with blanks, so blanks at its end mean nothing
	AsUUID               // text is a UUID (RFC 9562), kept in lower case
	AsJSON               // text is JSON (RFC 8259), kept without its blanks and the order of its keys
)

// Type says which values a column takes: the law by which cells are judged.
type Type struct {
	Kind      Kind
	Length    int   // Text: most characters, Bytes: most octets; 0 for no bound
	Precision int   // Fixed, Decimal: most digits in all; 0 for no bound
	Scale     int   // Fixed, Decimal: digits after the point
	Step      int64 // Time, DateTime: the finest difference that is kept, in microseconds; 0 means one microsecond
	Storage   Storage

	Least, Most int64     // Int, long Time: bounds; both 0 for those of 64 bits
	Long        bool      // Time: a span of time, which may pass 24 hours or be below zero
	Special     bool      // Float: NaN and the infinities are values too
	Zoned       bool      // DateTime: a point in time; the cell must say its offset from UTC
	Among       *[]string // Text: the only values; nil for any
}
