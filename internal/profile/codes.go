package profile

// A Code names a kind of finding, for programs. Texts are for people, and change.
type Code string

// The kinds of findings; docs/json.md lists them, too.
const (
	CodeHeaderUndecided  Code = "header-undecided"
	CodeTotals           Code = "totals"
	CodeSameHeader       Code = "same-header"
	CodeNoHeader         Code = "no-header"
	CodeNoRecords        Code = "no-records"
	CodeFieldCount       Code = "field-count"
	CodeAfterQuote       Code = "after-quote"
	CodeUnclosedQuote    Code = "unclosed-quote"
	CodeNULByte          Code = "nul-byte"
	CodeBadEncoding      Code = "bad-encoding"
	CodeEncodingGuessed  Code = "encoding-guessed"
	CodeEncodingOpen     Code = "encoding-undecided"
	CodeBlankLines       Code = "blank-lines"
	CodeLimited          Code = "limited"
	CodeNearMiss         Code = "near-miss"
	CodeTolerated        Code = "tolerated"
	CodeNullWord         Code = "null-word"
	CodeNullWordKept     Code = "null-word-kept"
	CodeQuotedEmpty      Code = "quoted-empty"
	CodeTrimmed          Code = "trimmed"
	CodePadded           Code = "padded"
	CodeFormulas         Code = "formulas"
	CodeAllBlank         Code = "all-blank"
	CodeMarkUndecided    Code = "mark-undecided"
	CodeMarkByOthers     Code = "mark-by-others"
	CodeMarkAssumed      Code = "mark-assumed"
	CodeDatesUndecided   Code = "dates-undecided"
	CodeTwoDigitYear     Code = "two-digit-year"
	CodeCompactDate      Code = "compact-date"
	CodeMidnight         Code = "midnight"
	CodePercent          Code = "percent"
	CodeWhole            Code = "whole"
	CodeZeroOne          Code = "zero-one"
	CodeUnixSeconds      Code = "unix-seconds"
	CodeUnixMilliseconds Code = "unix-milliseconds"
	CodeNearlyUnique     Code = "nearly-unique"
	CodeUniqueUnknown    Code = "unique-unknown"
	CodeNumbersAsText    Code = "numbers-as-text"
	CodeMergedCells      Code = "merged-cells"
	CodeHidden           Code = "hidden"
	CodeLinked           Code = "linked"
	CodeShownPercent     Code = "shown-percent"
	CodeMissingIn        Code = "missing-in"
	CodeTypesDiffer      Code = "types-differ"
	CodeRenamed          Code = "renamed"
	CodeGap              Code = "gap"
	CodeColumnsUndecided Code = "columns-undecided"
	CodeSeveralTables    Code = "several-tables"
	CodeMixedDates       Code = "mixed-dates"
	CodeMixedMarks       Code = "mixed-marks"
	CodeAsShown          Code = "as-shown"
	CodeNoResult         Code = "no-result"
	CodeNamedByPlace     Code = "named-by-place"
	CodeTransliterated   Code = "transliterated"
	CodeOverEdge         Code = "over-edge"
	CodeBinaryFractions  Code = "binary-fractions"
	CodeStrayDelimiter   Code = "stray-delimiter"
	// CodeNotAsPlanned and CodeNotAsTable are differences from a plan and from a
	// table; they are found when a file is loaded.
	CodeNotAsPlanned Code = "not-as-planned"
	CodeNotAsTable   Code = "not-as-table"
	// CodeUnmet is a condition of the plan that records do not meet which are loaded.
	CodeUnmet Code = "check"
	// CodeNotAsBefore is a figure of a load that lies far off those of the loads before it.
	CodeNotAsBefore Code = "not-as-before"
	// CodeKnownDiffers is of records that are known by their key, and have other values.
	CodeKnownDiffers Code = "known-differs"
	// CodeCouldRefer is a column whose values are all keys of another table.
	CodeCouldRefer Code = "could-refer"
	// What hangs on the table is found then, too.
	CodeGoesWithTable Code = "goes-with-table"
	CodeReferredTo    Code = "referred-to"
	// So is what the database cannot do with a type.
	CodeNotInDatabase Code = "not-in-database"
	// And how the connection is protected.
	CodeNotEncrypted Code = "not-encrypted"
	CodeNotVerified  Code = "server-not-checked"
)

// Codes are all of them.
var Codes = []Code{
	CodeHeaderUndecided,
	CodeTotals,
	CodeSameHeader,
	CodeNoHeader,
	CodeNoRecords,
	CodeFieldCount,
	CodeAfterQuote,
	CodeUnclosedQuote,
	CodeNULByte,
	CodeBadEncoding,
	CodeEncodingGuessed,
	CodeEncodingOpen,
	CodeBlankLines,
	CodeLimited,
	CodeNearMiss,
	CodeTolerated,
	CodeNullWord,
	CodeNullWordKept,
	CodeQuotedEmpty,
	CodeTrimmed,
	CodePadded,
	CodeFormulas,
	CodeAllBlank,
	CodeMarkUndecided,
	CodeMarkByOthers,
	CodeMarkAssumed,
	CodeDatesUndecided,
	CodeTwoDigitYear,
	CodeCompactDate,
	CodeMidnight,
	CodePercent,
	CodeWhole,
	CodeZeroOne,
	CodeUnixSeconds,
	CodeUnixMilliseconds,
	CodeNearlyUnique,
	CodeUniqueUnknown,
	CodeNumbersAsText,
	CodeMergedCells,
	CodeHidden,
	CodeLinked,
	CodeShownPercent,
	CodeMissingIn,
	CodeTypesDiffer,
	CodeRenamed,
	CodeGap,
	CodeColumnsUndecided,
	CodeSeveralTables,
	CodeMixedDates,
	CodeMixedMarks,
	CodeAsShown,
	CodeNoResult,
	CodeNamedByPlace,
	CodeTransliterated,
	CodeOverEdge,
	CodeBinaryFractions,
	CodeStrayDelimiter,
	CodeNotAsPlanned,
	CodeNotAsTable,
	CodeNotAsBefore,
	CodeKnownDiffers,
	CodeCouldRefer,
	CodeUnmet,
	CodeGoesWithTable,
	CodeReferredTo,
	CodeNotInDatabase,
	CodeNotEncrypted,
	CodeNotVerified,
}

// DecidedByPlan reports whether a plan settles what a finding asks or remarks:
// with one, there is nothing left to find.
func (c Code) DecidedByPlan() bool {
	switch c { // others: remain with a plan
	case CodeDatesUndecided, CodeMarkUndecided, CodeMarkAssumed, CodeMarkByOthers, CodeRenamed, CodeNearMiss,
		CodeColumnsUndecided, CodeHeaderUndecided, CodeTotals, CodeEncodingOpen, CodeSeveralTables, CodeMixedDates,
		CodeMixedMarks, CodeAsShown, CodeBinaryFractions:
		return true
	}
	return false
}

// OfType reports whether a finding is about the type of a column: where the
// column of a table has one, it says nothing.
func (c Code) OfType() bool {
	switch c { // others: are about what the values mean, or the source
	case CodeNearMiss, CodeTolerated, CodeAllBlank, CodeNullWordKept, CodeZeroOne, CodeUnixSeconds,
		CodeUnixMilliseconds,
		CodeNumbersAsText, CodeCompactDate, CodeMidnight, CodeWhole, CodeTypesDiffer,
		CodeMixedDates, CodeMixedMarks, CodeBinaryFractions:
		return true
	}
	return false
}

// OfRejects reports whether a finding is about records that become rejects, and
// so stand among them after a load.
func (c Code) OfRejects() bool {
	switch c { // others: are about records that are loaded
	case CodeFieldCount, CodeAfterQuote, CodeUnclosedQuote, CodeNULByte, CodeBadEncoding, CodeOverEdge, CodeTolerated:
		return true
	}
	return false
}
