package condition

import "slices"

// Tests of leaves that compare no attribute.
const (
	SegmentTest = "segment"      // is the unit in a segment
	FlagTest    = "flag.gives"   // does another flag give one of the variants in Text
	WeeklyTest  = "clock.weekly" // does a window of the week hold now
	PartTest    = "part"         // is the unit within a part of the population
	listedTest  = "listed"       // made by [ListedIn] only, never stored
)

// takes says which constants a test needs.
type takes uint8

const (
	noConstants takes = iota
	oneText
	someText
	onePattern
	oneNumber
	twoNumbers
	someNumbers
	oneSegment
	oneVersion
	oneRange
	oneTime
	twoTimes
	someBlocks
	someVariants
	oneWeekly
	onePart
)

// kind describes a test: its operation, the constants it takes and how it reads aloud.
type kind struct {
	op    op
	takes takes
	words string
	want  order // of ordered tests
}

// Tests by name. The words continue "the attribute ...".
var tests = map[string]kind{
	"string.equals":   {op: opEquals, takes: oneText, words: "is"},
	"string.one-of":   {op: opOneOf, takes: someText, words: "is one of"},
	"string.begins":   {op: opBegins, takes: someText, words: "begins with"},
	"string.ends":     {op: opEnds, takes: someText, words: "ends with"},
	"string.contains": {op: opContains, takes: someText, words: "contains"},
	"string.matches":  {op: opMatches, takes: onePattern, words: "matches"},

	"number.equals":   {op: opNumEquals, takes: oneNumber, words: "="},
	"number.differs":  {op: opNumDiffers, takes: oneNumber, words: "≠"},
	"number.less":     {op: opNumLess, takes: oneNumber, words: "<"},
	"number.at-most":  {op: opNumAtMost, takes: oneNumber, words: "≤"},
	"number.more":     {op: opNumMore, takes: oneNumber, words: ">"},
	"number.at-least": {op: opNumAtLeast, takes: oneNumber, words: "≥"},
	"number.between":  {op: opNumBetween, takes: twoNumbers, words: "is between"},
	"number.one-of":   {op: opNumOneOf, takes: someNumbers, words: "is one of"},

	"boolean.true":  {op: opTrue, words: "is true"},
	"boolean.false": {op: opFalse, words: "is false"},

	"version.equals":   {op: opVersion, takes: oneVersion, words: "is version", want: equal},
	"version.less":     {op: opVersion, takes: oneVersion, words: "is version <", want: less},
	"version.at-most":  {op: opVersion, takes: oneVersion, words: "is version ≤", want: less | equal},
	"version.more":     {op: opVersion, takes: oneVersion, words: "is version >", want: more},
	"version.at-least": {op: opVersion, takes: oneVersion, words: "is version ≥", want: equal | more},
	RangeTest:          {op: opUnknown, takes: oneRange, words: "is version in"},

	"time.before":      {op: opTime, takes: oneTime, words: "is before", want: less},
	"time.at-or-after": {op: opTime, takes: oneTime, words: "is at or after", want: equal | more},
	"time.between":     {op: opTimeBetween, takes: twoTimes, words: "is between"},

	"clock.before":      {op: opClock, takes: oneTime, words: "it is before", want: less},
	"clock.at-or-after": {op: opClock, takes: oneTime, words: "it is at or after", want: equal | more},
	"clock.between":     {op: opClockBetween, takes: twoTimes, words: "it is between"},
	WeeklyTest:          {op: opWeekly, takes: oneWeekly, words: "it is"},

	"address.in": {op: opAddress, takes: someBlocks, words: "is an address in"},

	"list.any":  {op: opListAny, takes: someText, words: "has any of"},
	"list.all":  {op: opListAll, takes: someText, words: "has all of"},
	"list.none": {op: opListNone, takes: someText, words: "has none of"},

	"present": {op: opPresent, words: "is present"},
	"absent":  {op: opAbsent, words: "is absent"},

	SegmentTest: {op: opUnknown, takes: oneSegment, words: "in segment"},
	FlagTest:    {op: opFlag, takes: someVariants, words: "gives"},
	PartTest:    {op: opPart, takes: onePart, words: "within"},
	listedTest:  {op: opListed, words: "is listed"},
}

// Tests lists the names of the tests that this build knows.
func Tests() []string {
	names := make([]string, 0, len(tests))
	for n := range tests {
		if n != listedTest {
			names = append(names, n)
		}
	}
	slices.Sort(names)
	return names
}

// asksNoAttribute tells whether the test compares no attribute.
func (k kind) asksNoAttribute() bool {
	switch k.takes {
	case oneSegment, someVariants, oneWeekly, onePart:
		return true
	}
	return k.op == opClock || k.op == opClockBetween
}
