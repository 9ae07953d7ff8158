package reason

import "fmt"

// Kind is what a reason is about. Its text is its name in JSON.
type Kind uint8

const (
	Other Kind = iota // something that has only words

	// Of numbers.
	NotNumber        // it is none
	NotPlainNumber   // it is one with something about it: Has
	NotNumberLike    // it is not written like List
	TwoNumbers       // two notations read it differently: List has a number and its notation, and the other two
	LeadingZero      // it starts with a zero
	HasFraction      // and the column takes whole numbers
	TooLargeWhole    // for 64 bits
	OutOfRange       // not between Least and Most
	TooManyDecimals  // more than Limit digits after the point
	TooManyDigits    // more than Limit digits before the point, or in all where Limit is 0
	TooPreciseNumber // more digits than the database, or a floating-point number (Type), keeps
	TooLargeFloat
	NotHeldNumber // NaN or an infinity, where the column holds none
	NumberForType // a number, where the column takes a Type

	// Of dates and times.
	NotDate         // like 2026-03-31
	NotDateTime     // like 2026-03-31 15:04
	NotTime         // like 15:04
	NotDateLike     // it is not written by one of the patterns List
	NoSuchMoment    // it is written so, but there is no such day or time
	MoreThanDate    // text behind a date
	DateWithoutTime // and the column takes both
	TimeWithoutDate
	TimeLost      // the column takes dates
	DateLost      // the column takes times
	PastMidnight  // a time past 24:00, where the column takes times of a day
	ZoneLost      // the column keeps no zone
	ZoneMissing   // the column needs one
	ClockTwice    // the clocks of Text show it twice
	ClockNever    // the clocks of Text never show it
	TooFineTime   // finer than the column keeps
	MomentForType // a date or time, where the column takes a Type

	// Of texts, and of values that are written as one.
	NotUTF8
	HasNUL
	TooLong        // more than Limit characters (Type "characters") or bytes (Type "bytes")
	BecomesNumber  // the column would store it as a number
	NotAmong       // it is none of List
	NotUUID        // RFC 9562
	NotJSON        // RFC 8259
	NotHexadecimal // of bytes
	NotYesNo       // it is none of List, those for yes before those for no (Limit of them)

	// Of cells that are made of others.
	TooManyParts   // more than Limit
	CleanedTooLong // its cleanings make it longer than 16 MB, or match it too often
	NotInRecode    // recode_others: set_aside
	NotComputed    // a formula has no result: Text
	GroupDisagrees // lines with the same Columns have different values
	AboveUnread    // the value above, which a blank cell takes, can't be read
	SameUnread     // Other is a line with the same Columns whose Text can't be read

	// Of records.
	CellError   // what a sheet shows as an error: Text
	Unreadable  // Text
	TooFew      // fields: Length of Limit
	TooMany     // fields: Length, the header has Limit
	StrayQuote  // a quote that is not closed
	AfterQuote  // text behind a closing quote
	OutsideArea // cell Value holds Text, outside of the columns of the table
	NotCharset  // bytes that are none of the encoding Text

	// Of lines in a step.
	BlankKey        // a blank in the key Columns
	BlankRequired   // a blank for Table.Columns, which is NOT NULL
	BlankInNew      // the same, and no row with this key is there
	NotFound        // a lookup finds nothing in Table.Columns
	FoundSeveral    // more than one row
	FoundNoMore     // an earlier step gives that row another value
	FoundSetAside   // the row would be there, but its line is set aside
	NotAdded        // the database rejects a new row for a lookup: Text
	LooksLike       // a new name looks like another
	AlreadyThere    // a row with this key is in Table
	NotThere        // no row with this key (Columns) is in Table
	SeveralThere    // several rows with this key are in Table
	OddLine         // Limit other lines with this key agree on other values in the columns List, Other among them
	AgainstOdd      // of Limit lines with this key that agree, one differs, in List: Other
	Contradiction   // another line has the same key, but another value in List
	DatabaseRejects // Text
	BreaksCheck     // the CHECK constraint Text of Table does not hold; Detail.Value is what the database says of it

	// Of loads.
	OverLimit         // Length of Limit lines are set aside; set_aside_limit is Text
	TablesChanged     // since the person was asked
	QueryChanged      // the query of the input Text returns other rows than those that were read
	LoadedBefore      // the input Text was loaded into Table, which has no key, by run Limit
	LoadedInPart      // the same, by a run that isn't finished
	RemovalUnknown    // the key of Limit lines can't be told
	RemovalReferenced // rows that other rows refer to: List
	RemovalOverCap    // Length of Limit rows are gone from the file; Text may be removed
	MarksOverCap      // Length of Limit rows are gone from the file; Text may be marked
	RemovalNotAllowed // Limit rows, and nobody was asked
	TooLarge          // for one transaction of a cluster: Text
	TotalsDiffer      // from what the sender states: List
	CheckFailed
	CheckFailedInPart // of a load in parts

	// Of taking a run back.
	RunIsUndo        // run Limit took a run back: Text
	RunUndone        // run Limit was taken back, by run Text
	RunNotChecked    // run Limit was loaded with the check level Text
	RowsChangedSince // of run Limit: List
	RowsReferenced   // rows refer to those of run Limit
	UndoRejected     // by the database
	TablesInUse      // tables of run Limit are not as they were made, or not empty
	kinds            // their number
)

var names = [kinds]string{"other",
	"not_number", "not_plain_number", "not_number_like", "two_numbers", "leading_zero", "has_fraction",
	"too_large_whole",
	"out_of_range", "too_many_decimals",
	"too_many_digits", "too_precise_number", "too_large_float", "not_held_number", "number_for_type",
	"not_date", "not_date_time", "not_time", "not_date_like", "no_such_moment", "more_than_date", "date_without_time",
	"time_without_date",
	"time_lost", "date_lost", "past_midnight", "zone_lost", "zone_missing", "clock_twice", "clock_never",
	"too_fine_time", "moment_for_type",
	"not_utf8", "has_nul", "too_long", "becomes_number", "not_among", "not_uuid", "not_json", "not_hexadecimal",
	"not_yes_no",
	"too_many_parts", "cleaned_too_large", "not_in_recode", "not_computed", "group_disagrees", "above_unread",
	"same_unread",
	"cell_error", "unreadable", "too_few_fields", "too_many_fields", "stray_quote", "text_after_quote", "outside_area",
	"not_in_charset",
	"blank_key", "blank_required", "blank_in_new", "not_found", "found_several", "found_no_more", "found_set_aside",
	"not_added", "looks_like",
	"already_there", "not_there", "several_there", "odd_line", "against_odd_line", "contradiction", "database_rejects",
	"breaks_check",
	"over_limit", "tables_changed", "query_changed", "loaded_before", "loaded_in_part", "removal_unknown", "removal_referenced",
	"removal_over_cap", "marks_over_cap",
	"removal_not_allowed",
	"too_large", "totals_differ", "check_failed", "check_failed_in_part",
	"run_is_undo", "run_undone", "run_not_checked", "rows_changed_since", "rows_referenced", "undo_rejected",
	"tables_in_use"}

func (k Kind) String() string {
	if k < kinds {
		return names[k]
	}
	return fmt.Sprintf("kind %d", uint8(k))
}

// MarshalText writes the name of the kind.
func (k Kind) MarshalText() ([]byte, error) { return []byte(k.String()), nil }
