package condition

import (
	"strconv"
	"strings"
)

// Zones finds a time zone by its name in the IANA database: a function from Unix seconds
// to the seconds by which local time is ahead of UTC then. It is nil for an unknown name.
// Zone data is the caller's, so that this package knows no files and no clock.
type Zones func(name string) func(unix int64) (ahead int)

// Weekly is a window that comes back every week, in a time zone. One that ends at or
// before the time at which it starts ends on the next day, and belongs to the day on which
// it starts.
type Weekly struct {
	Days []string `json:"days"` // "mon" to "sun"
	From string   `json:"from"` // "22:00", included
	To   string   `json:"to"`   // "06:00", not included; "24:00" is the day's end
	Zone string   `json:"zone"` // in the IANA database, such as "Europe/Oslo"
}

// Days are the names of the days of the week, in order.
var days = []string{"sun", "mon", "tue", "wed", "thu", "fri", "sat"}

// weekly is a compiled [Weekly].
type weekly struct {
	days     [7]bool
	from, to int // minutes of the day
	ahead    func(unix int64) int
}

func (w *Weekly) compile(zones Zones) *weekly {
	c := &weekly{}
	for _, d := range w.Days {
		i := indexOf(days, d)
		if i < 0 {
			return nil
		}
		c.days[i] = true
	}
	var ok1, ok2 bool
	if c.from, ok1 = parseMinutes(w.From); !ok1 {
		return nil
	}
	if c.to, ok2 = parseMinutes(w.To); !ok2 || zones == nil {
		return nil
	}
	if c.ahead = zones(w.Zone); c.ahead == nil {
		return nil
	}
	return c
}

func indexOf(list []string, s string) int {
	for i, have := range list {
		if have == s {
			return i
		}
	}
	return -1
}

// holds tells whether the window holds the instant, in Unix milliseconds.
func (w *weekly) holds(now int64) bool {
	unix := floorDiv(now, 1000)
	local := unix + int64(w.ahead(unix))
	day := floorDiv(local, 86_400)
	minute := int((local - day*86_400) / 60)
	today := int((day%7 + 7 + 4) % 7) // 1 January 1970 was a Thursday
	if w.from < w.to {
		return w.days[today] && w.from <= minute && minute < w.to
	}
	return w.days[today] && w.from <= minute || w.days[(today+6)%7] && minute < w.to
}

func floorDiv(a, b int64) int64 {
	q := a / b
	if a%b < 0 {
		q--
	}
	return q
}

// parseMinutes reads "22:00" as minutes of the day; "24:00" is its end.
func parseMinutes(s string) (int, bool) {
	if len(s) != 5 || s[2] != ':' {
		return 0, false
	}
	h, ok1 := digits(s[:2])
	m, ok2 := digits(s[3:])
	return h*60 + m, ok1 && ok2 && m < 60 && (h < 24 || h == 24 && m == 0)
}

func digits(s string) (n int, ok bool) {
	for i := range len(s) {
		if s[i] < '0' || s[i] > '9' {
			return 0, false
		}
		n = n*10 + int(s[i]-'0')
	}
	return n, len(s) > 0
}

// ParseTime reads a time as RFC 3339 writes it, to Unix milliseconds; what is finer is cut
// off. A leap second counts as the first second of the next minute.
func ParseTime(s string) (ms int64, ok bool) {
	if len(s) < len("2006-01-02T15:04:05Z") || s[4] != '-' || s[7] != '-' || s[10]|0x20 != 't' || s[13] != ':' ||
		s[16] != ':' {
		return 0, false
	}
	var field [6]int
	for i, at := range [...]int{0, 5, 8, 11, 14, 17} {
		width := 2
		if i == 0 {
			width = 4
		}
		if field[i], ok = digits(s[at : at+width]); !ok {
			return 0, false
		}
	}
	y, mo, d := field[0], field[1], field[2]
	if mo < 1 || mo > 12 || d < 1 || d > daysIn(y, mo) || field[3] > 23 || field[4] > 59 || field[5] > 60 {
		return 0, false
	}
	rest := s[19:]
	if rest[0] == '.' {
		n := 1
		for n < len(rest) && rest[n] >= '0' && rest[n] <= '9' {
			if n <= 3 {
				ms = ms*10 + int64(rest[n]-'0')
			}
			n++
		}
		for i := n; i <= 3; i++ {
			ms *= 10
		}
		if n == 1 {
			return 0, false
		}
		rest = rest[n:]
	}
	ahead, ok := parseOffset(rest)
	unix := daysFromCivil(y, mo, d)*86_400 + int64(field[3]*3600+field[4]*60+field[5]-ahead)
	return unix*1000 + ms, ok
}

func parseOffset(s string) (seconds int, ok bool) {
	if s == "Z" || s == "z" {
		return 0, true
	}
	if len(s) != 6 || s[0] != '+' && s[0] != '-' || s[3] != ':' {
		return 0, false
	}
	h, ok1 := digits(s[1:3])
	m, ok2 := digits(s[4:])
	seconds = h*3600 + m*60
	if s[0] == '-' {
		seconds = -seconds
	}
	return seconds, ok1 && ok2 && h < 24 && m < 60
}

func daysIn(year, month int) int {
	switch {
	case month == 2 && (year%4 == 0 && year%100 != 0 || year%400 == 0):
		return 29
	case month == 2:
		return 28
	case month == 4, month == 6, month == 9, month == 11:
		return 30
	}
	return 31
}

// daysFromCivil counts the days since 1 January 1970 in the proleptic Gregorian calendar
// (Howard Hinnant, "chrono-Compatible Low-Level Date Algorithms").
func daysFromCivil(y, m, d int) int64 {
	if m <= 2 {
		y--
	}
	era := floorDiv(int64(y), 400)
	yoe := int64(y) - era*400
	doy := int64((153*((m+9)%12)+2)/5 + d - 1)
	return era*146_097 + yoe*365 + yoe/4 - yoe/100 + doy - 719_468
}

// zoneName tells whether a name can be one of the IANA database.
func zoneName(s string) bool {
	return s != "" && len(s) < 64 && !strings.ContainsAny(s, " \\") && !strings.HasPrefix(s, "/") &&
		!strings.Contains(s, "..") && s != "Local"
}

// Within asks whether a unit lies in the first Share buckets of a salt of the leaf's own.
type Within struct {
	By    []string `json:"by"`    // the first attribute present counts
	Share uint32   `json:"share"` // parts per million
	Salt  string   `json:"salt"`
	Hash  int      `json:"hash"` // scheme of package bucket
}

// PrintTime writes Unix milliseconds from the year 1 to 9999 as RFC 3339 does, in UTC, to the second.
// The day of the calendar is that of Howard Hinnant's civil_from_days.
func PrintTime(ms int64) string {
	seconds := floorDiv(ms, 1000)
	days := floorDiv(seconds, 86_400)
	rest := seconds - days*86_400
	z := days + 719_468 // since the first of March of the year 0
	era := floorDiv(z, 146_097)
	doe := z - era*146_097
	yoe := (doe - doe/1460 + doe/36_524 - doe/146_096) / 365
	doy := doe - (365*yoe + yoe/4 - yoe/100)
	mp := (5*doy + 2) / 153
	day, month, year := doy-(153*mp+2)/5+1, mp+3, yoe+era*400
	if month > 12 {
		month, year = month-12, year+1
	}
	return pad(year, 4) + "-" + pad(month, 2) + "-" + pad(day, 2) + "T" + pad(rest/3600, 2) + ":" + pad(rest/60%60,
		2) +
		":" + pad(rest%60, 2) + "Z"
}

func pad(n int64, width int) string {
	s := strconv.FormatInt(n, 10)
	return strings.Repeat("0", max(0, width-len(s))) + s
}
