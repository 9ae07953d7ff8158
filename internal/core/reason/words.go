package reason

import (
	"fmt"
	"strconv"
	"strings"
)

// Words returns what is wrong in words that go behind the name of the column and the quoted cell, or, of a whole line,
// of a load or of an undo, that stand by themselves.
func (c Cause) Words() string {
	if of, ok := ofCells[c.Kind]; ok {
		return of(c)
	}
	if of, ok := ofLines[c.Kind]; ok {
		return of(c)
	}
	if of, ok := ofRuns[c.Kind]; ok {
		return of(c)
	}
	return c.Text
}

// Words returns the words of all causes that have w in common.
func (w Why) Words() string { return Because(w).Words() }

// Words returns the whole of a reason: the column, the cell and what is wrong.
func (r Reason) Words() string {
	name := r.Column
	if r.Cell != "" {
		name += " (" + r.Cell + ")"
	}
	switch {
	case name == "":
		return r.Cause.Words()
	case r.Content == "":
		return name + " " + r.Cause.Words()
	}
	return fmt.Sprintf("%s %q %s", name, Shorten(r.Content), r.Cause.Words())
}

// Count writes a number with commas between thousands.
func Count(n int64) string {
	digits := fmt.Sprint(n)
	first := 0
	if n < 0 {
		first = 1
	}
	for i := len(digits) - 3; i > first; i -= 3 {
		digits = digits[:i] + "," + digits[i:]
	}
	return digits
}

// Verb is the form of a verb that goes with a number of things.
func Verb(n int64, one, many string) string {
	if n == 1 {
		return one
	}
	return many
}

// Plural writes a number of things: "1 line", "2,000 lines".
func Plural(n int64, thing string) string {
	if n == 1 {
		return "1 " + thing
	}
	return Count(n) + " " + thing + "s"
}

type phrase func(Cause) string

// says returns a phrase without arguments.
func says(words string) phrase { return func(Cause) string { return words } }

// ofCells are phrases that go behind a quoted cell.
var ofCells = map[Kind]phrase{
	NotNumber:      says("is not a number"),
	NotPlainNumber: notPlain,
	NotNumberLike:  func(c Cause) string { return "is not a number like " + strings.Join(c.List.All(), " or ") },
	TwoNumbers: func(c Cause) string {
		l := c.List.All()
		if len(l) < 4 {
			return "is two numbers by two notations"
		}
		return fmt.Sprintf("is %s when read like %s, and %s when read like %s", l[0], l[1], l[2], l[3])
	},
	LeadingZero:   says("starts with a zero, which a number would lose"),
	HasFraction:   says("has a fraction; the column takes whole numbers"),
	TooLargeWhole: says("is too large for a 64-bit whole number"),
	OutOfRange:    func(c Cause) string { return fmt.Sprintf("is not between %s and %s", c.Least, c.Most) },
	TooManyDecimals: func(c Cause) string {
		return fmt.Sprintf("has more than %s after the point and would be rounded", Plural(c.Limit, "digit"))
	},
	TooManyDigits: func(c Cause) string {
		if c.Limit == 0 {
			return "has too many digits"
		}
		return fmt.Sprintf("has more than %s before the point", Plural(c.Limit, "digit"))
	},
	TooPreciseNumber: func(c Cause) string {
		if c.Type != "" {
			return "has more digits than a " + c.Type + " keeps"
		}
		return "has more digits than the database keeps exactly"
	},
	TooLargeFloat: says("is too large for a floating-point number"),
	NotHeldNumber: says("is not a number that the column can hold"),
	NumberForType: func(c Cause) string { return "is a number; the column takes a " + c.Type },

	NotDate:         says("is not a date like 2026-03-31"),
	NotDateTime:     says("is not a date and time like 2026-03-31 15:04"),
	NotTime:         says("is not a time like 15:04 or 15:04:05"),
	NotDateLike:     func(c Cause) string { return "is not a date like " + strings.Join(c.List.All(), " or ") },
	NoSuchMoment:    says("is a day or time that doesn't exist"),
	MoreThanDate:    says("is more than a date like 2026-03-31"),
	DateWithoutTime: says("is a date without a time"),
	TimeWithoutDate: says("is a time without a date"),
	TimeLost:        says("has a time, which the column would lose"),
	DateLost:        says("has a date, which the column would lose"),
	PastMidnight:    says("is past 24:00; the column takes times of day"),
	ZoneLost:        says("has a time zone, which the column would lose"),
	ZoneMissing:     says("has no time zone (Z, or an offset like +02:00)"),
	ClockTwice: func(c Cause) string {
		return fmt.Sprintf("occurs twice on the clocks of %s, which are set back then; add its offset", c.Text)
	},
	ClockNever: func(c Cause) string {
		return fmt.Sprintf("never occurs on the clocks of %s, which are set forward then", c.Text)
	},
	TooFineTime:   says("is more precise than the times in this column"),
	MomentForType: func(c Cause) string { return "is a date or time; the column takes a " + c.Type },

	NotUTF8: says("is not valid UTF-8"),
	HasNUL:  says("holds a NUL character"),
	TooLong: func(c Cause) string {
		return fmt.Sprintf("is longer than the %s %s that the column takes", Count(c.Limit), c.Type)
	},
	BecomesNumber:  says("would be stored as a number in a column of this declared type"),
	NotAmong:       func(c Cause) string { return "is not one of " + c.List.String() },
	NotUUID:        says("is not a UUID"),
	NotJSON:        says("is not JSON"),
	NotHexadecimal: says("is not written in hexadecimal digits"),
	NotYesNo: func(c Cause) string {
		words := c.List.All()
		if words == nil {
			return "is neither true nor false (1 or 0)"
		}
		return fmt.Sprintf("is neither yes (%s) nor no (%s)", strings.Join(words[:c.Limit], ", "),
			strings.Join(words[c.Limit:], ", "))
	},

	TooManyParts: func(c Cause) string {
		return fmt.Sprintf("has more than the %d parts that it is split into",
			c.Limit)
	},
	CleanedTooLong: says("becomes too large when it is cleaned"),
	NotInRecode:    says("is not one of the values in its recode:"),
	NotComputed:    func(c Cause) string { return "can't be computed: " + c.Text },
	GroupDisagrees: groupDisagrees,
	SameUnread: func(c Cause) string {
		return fmt.Sprintf("needs %s of all lines with the same %s, and that of %s can't be read", c.Text, c.Columns,
			c.Other.Words())
	},
	AboveUnread: says("takes the value of the line above, and that can't be read"),

	CellError:  says("is an error, not a value"),
	Unreadable: func(c Cause) string { return c.Text },

	BlankKey:      func(c Cause) string { return fmt.Sprintf("is blank, but is part of the key (%s)", c.Columns) },
	BlankRequired: func(c Cause) string { return fmt.Sprintf("is blank, but %s.%s is NOT NULL", c.Table, c.Columns) },
	BlankInNew: func(c Cause) string {
		return fmt.Sprintf("is blank, but %s.%s is NOT NULL, and there is no row with this key yet", c.Table, c.Columns)
	},
	NotFound:     notFound,
	FoundSeveral: foundSeveral,
	FoundNoMore: func(c Cause) string {
		return fmt.Sprintf("is no longer in %s: an earlier step gives that row another value", c.target())
	},
	FoundSetAside: foundSetAside,
	NotAdded: func(c Cause) string {
		return fmt.Sprintf("can't be added to %s: the database rejects it: %s", c.target(), c.Text)
	},
	LooksLike: func(c Cause) string {
		const said = "is not added to %s: it looks like "
		switch {
		case c.Near == "":
			return fmt.Sprintf(said+"an existing name, or another new one", c.target())
		case c.IsNew:
			return fmt.Sprintf(said+"%q, which is new too", c.target(), c.Near)
		}
		return fmt.Sprintf(said+"%q, which is in the table", c.target(), c.Near)
	},
}

// ofLines are phrases about whole lines.
var ofLines = map[Kind]phrase{
	TooFew: func(c Cause) string {
		return shape(c, "the line has only %d of %d fields", "the line has fewer than %d fields")
	},
	TooMany: func(c Cause) string {
		return shape(c, "the line has %d fields, the header %d", "the line has more than %d fields")
	},
	StrayQuote: says("a quote stands inside a field that doesn't start with one"),
	AfterQuote: says("text follows the closing quote of a field"),
	NotCharset: func(c Cause) string {
		if c.Text == "UTF-8" {
			return "the line is not valid UTF-8"
		}
		return "the line has bytes that mean nothing in " + c.Text
	},
	OutsideArea: func(c Cause) string {
		if c.Value == "" {
			return "a cell outside the columns of the table holds something; set range: to leave it out"
		}
		return fmt.Sprintf("cell %s, outside the columns of the table, holds %q; set range: to leave it out", c.Value,
			c.Theirs)
	},

	AlreadyThere: func(c Cause) string {
		return fmt.Sprintf("a row with this key (%s) is already in %s, but with a different %s", c.Columns, c.Table,
			c.List)
	},
	NotThere: func(c Cause) string { return fmt.Sprintf("no row with this key (%s) is in %s", c.Columns, c.Table) },
	SeveralThere: func(c Cause) string {
		return fmt.Sprintf("several rows of %s have this key (%s), so it is not clear which to update", c.Table,
			c.Columns)
	},
	OddLine: func(c Cause) string {
		words := fmt.Sprintf("%s other lines with the same key (%s) agree on a different %s", Count(c.Limit),
			c.Columns, c.List)
		if c.Other.Line > 0 {
			words += ", such as " + c.Other.Within()
		}
		return words + c.values()
	},
	AgainstOdd: func(c Cause) string {
		other := "one line"
		if c.Other.Line > 0 {
			other = c.Other.Within()
		}
		return fmt.Sprintf("%s has a different %s than the %s lines with the same key (%s)", other, c.List,
			Count(c.Limit), c.Columns) + c.values()
	},
	Contradiction: func(c Cause) string {
		other := "another line"
		if c.Other.Line > 0 {
			other = c.Other.Within()
		}
		return fmt.Sprintf("%s has the same key (%s), but a different %s", other, c.Columns, c.List) + c.values()
	},
	BreaksCheck: func(c Cause) string {
		words := c.Text + " does not hold"
		if c.Value != "" {
			words = c.Text + " has no result: " + c.Value
		}
		if c.Values != "" {
			words += ": " + c.Values.String()
		}
		return words
	},
	DatabaseRejects: func(c Cause) string {
		words := "the database rejects the row: " + c.Text
		if c.Values != "" {
			words += "; " + c.Values.String()
		}
		return words
	},
}

// ofRuns are phrases about loads, and about taking runs back.
var ofRuns = map[Kind]phrase{
	OverLimit: func(c Cause) string {
		return fmt.Sprintf("%s of %s set aside, and set_aside_limit is %s", Count(c.Length),
			verb(c.Length, Plural(c.Limit, "line")), c.Text)
	},
	QueryChanged: func(c Cause) string {
		return fmt.Sprintf("the query of the input %s returns other rows than those that were read; its tables "+
			"changed meanwhile", c.Text)
	},
	TablesChanged: says("the tables changed after you confirmed, so the result would differ from what you approved"),
	LoadedInPart: func(c Cause) string {
		return fmt.Sprintf("parts of %s were loaded into %s by run %d, which isn't finished; without a key their rows would be "+
			"added a second time", c.Text, c.Table, c.Limit)
	},
	LoadedBefore: func(c Cause) string {
		return fmt.Sprintf("%s was loaded into %s before, by run %d; without a key its rows would be added a second "+
			"time", c.Text, c.Table, c.Limit)
	},
	RemovalUnknown: func(c Cause) string {
		return fmt.Sprintf("it is not clear which rows of %s are gone from the file: the key of %s can't be read or "+
			"looked up", c.Table, Plural(c.Limit, "line"))
	},
	RemovalReferenced: func(c Cause) string {
		return fmt.Sprintf("rows of %s are gone from the file, but other rows refer to them: %s", c.Table,
			strings.Join(c.List.All(), "; "))
	},
	RemovalOverCap: func(c Cause) string {
		return fmt.Sprintf("%s of %s of %s gone from the file, and gone_from_file: removes at most %s", Count(c.Length),
			Plural(c.Limit, "row"), verb(c.Length, c.Table), c.Text)
	},
	MarksOverCap: func(c Cause) string {
		return fmt.Sprintf("%s of %s of %s gone from the file, and gone_from_file: marks at most %s", Count(c.Length),
			Plural(c.Limit, "row"), verb(c.Length, c.Table), c.Text)
	},
	RemovalNotAllowed: func(c Cause) string {
		return fmt.Sprintf("%s of %s gone from the file, and nobody has confirmed the removal",
			Plural(c.Limit, "row"), verb(c.Limit, c.Table))
	},
	TooLarge: func(c Cause) string {
		return "one transaction would be too large for the cluster: it changes " + c.Text +
			"; load it in parts, or have the limit raised"
	},
	TotalsDiffer:      func(c Cause) string { return "the control totals differ: " + strings.Join(c.List.All(), "; ") },
	CheckFailed:       says("a check failed, so everything was rolled back"),
	CheckFailedInPart: says("a check failed, so the part was rolled back"),

	RunIsUndo: func(c Cause) string {
		return fmt.Sprintf("run %d is itself an undo, of run %s; to have its rows back, load the files again", c.Limit,
			c.Text)
	},
	RunUndone: func(c Cause) string { return fmt.Sprintf("run %d was undone already, by run %s", c.Limit, c.Text) },
	RunNotChecked: func(c Cause) string {
		return fmt.Sprintf("run %d was checked only down to its %s, so it is not known whether its rows have been "+
			"changed since", c.Limit, c.Text)
	},
	RowsChangedSince: func(c Cause) string { return fmt.Sprintf("of the rows of run %d, %s", c.Limit, c.List) },
	RowsReferenced:   func(c Cause) string { return fmt.Sprintf("other rows refer to rows of run %d", c.Limit) },
	UndoRejected:     says("the database rejects it"),
	TablesInUse: func(c Cause) string {
		return fmt.Sprintf("the tables of run %d are dropped only as it made them, empty, and when no other table refers to "+
			"them", c.Limit)
	},
}

// target is the column or columns of a table in which a lookup looks.
func (c Cause) target() string { return c.Table + "." + c.Columns.String() }

// values are those that this line and another one have in the column in which they differ.
func (c Cause) values() string {
	if c.Value == "" && c.Theirs == "" {
		return ""
	}
	return fmt.Sprintf(": %s here, %s there", orBlank(c.Value), orBlank(c.Theirs))
}

func orBlank(text string) string {
	if text == "" {
		return "blank"
	}
	return strconv.Quote(text)
}

func (c Cause) near() string {
	if c.Near == "" {
		return ""
	}
	return fmt.Sprintf("; there is %q", c.Near)
}

func notPlain(c Cause) string {
	const plain = "is not a plain number like 1234.5"
	switch c.Has {
	case "":
		return plain
	case HasBlanks:
		return "has blanks around it, so it " + plain
	case HasSeparators:
		return "has separators, so it " + plain
	case HasCurrency:
		return "has a currency sign, so it " + plain
	}
	return fmt.Sprintf("has %q in it, so it %s", c.Has, plain)
}

func groupDisagrees(c Cause) string {
	words := fmt.Sprintf("is blank, and lines with the same %s disagree", c.Columns)
	if c.Other.Line == 0 {
		return words
	}
	one, other := c.Other.Words(), c.Third.Words()
	if c.Other.File != c.Third.File {
		one, other = c.Other.Short(), c.Third.Short()
	}
	return fmt.Sprintf("%s: %s has %q, %s has %q", words, one, Shorten(c.Value), other, Shorten(c.Theirs))
}

func notFound(c Cause) string {
	if c.OldIDs {
		return fmt.Sprintf("is the %s of no line that fills %s", c.Columns, c.Table)
	}
	return "is not in " + c.target() + c.near()
}

func foundSeveral(c Cause) string {
	if c.OldIDs {
		return fmt.Sprintf("is the %s of lines for more than one row of %s", c.Columns, c.Table)
	}
	return "is in more than one row of " + c.target()
}

func foundSetAside(c Cause) string {
	other := "its line"
	if c.Other.Line > 0 {
		other = c.Other.Short()
	}
	if c.OldIDs {
		return fmt.Sprintf("is the %s of %s, a line for %s that is set aside", c.Columns, other, c.Table)
	}
	return fmt.Sprintf("would be in %s, but %s is set aside", c.target(), other)
}

func shape(c Cause, one, all string) string {
	if c.Length == 0 {
		return fmt.Sprintf(all, c.Limit)
	}
	return fmt.Sprintf(one, c.Length, c.Limit)
}

// verb writes a name with the verb that goes with a number of things before it: "berth is", "berth are".
func verb(n int64, name string) string { return name + " " + Verb(n, "is", "are") }
