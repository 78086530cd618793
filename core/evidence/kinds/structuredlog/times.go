package structuredlog

import (
	"fmt"
	"math"
	"strconv"
	"strings"
	"time"

	"wraithology/core/fault"
)

// clock reads times as logs write them. Without a zone, a time is in the zone of the clock; without a
// year or a date, it is the last such time before the log was written, or the one that follows the line
// before.
type clock struct {
	zone    *time.Location
	written time.Time // when the log was last written
	last    time.Time // the last time that was read with a date, or guessed
}

// parsed is a time that begins a text.
type parsed struct {
	time  int64 // nanoseconds since 1970
	size  int   // bytes of the text
	guess guess
	zone  string // an abbreviation that means several offsets, which was not used
}

// guess says what of a time is not in the text.
type guess uint8

const (
	noGuess guess = iota
	guessedYear
	guessedDate
)

// abbreviations of zones that mean one offset only, in minutes east of UTC. Those that mean several
// (CST, IST, BST) are not here.
var abbreviations = map[string]int{
	"Z": 0, "UTC": 0, "GMT": 0, "UCT": 0, "WET": 0, "WEST": 60, "CET": 60, "CEST": 120, "MEZ": 60, "MESZ": 120, "EET": 120, "EEST": 180, "MSK": 180,
	"EST": -300, "EDT": -240, "CDT": -300, "MST": -420, "MDT": -360, "PST": -480, "PDT": -420, "AKST": -540, "AKDT": -480, "HST": -600,
	"JST": 540, "KST": 540, "AEST": 600, "AEDT": 660, "ACST": 570, "AWST": 480, "NZST": 720, "NZDT": 780, "SAST": 120, "HKT": 480, "SGT": 480,
}

// ParseZone parses a zone: a name of the IANA time zone database, an abbreviation such as CET, or an
// offset such as +0200, +02:00 or +02.
func ParseZone(s string) (*time.Location, error) {
	if s == "" {
		return time.UTC, nil
	}
	if minutes, size, ok := numericZone(s); ok && size == len(s) {
		return time.FixedZone(s, minutes*60), nil
	}
	if minutes, ok := abbreviations[s]; ok {
		return time.FixedZone(s, minutes*60), nil
	}
	l, err := time.LoadLocation(s)
	if err != nil || s == "Local" {
		return nil, fmt.Errorf("zone=%s: %w: use a name such as Europe/Paris, or an offset such as +02:00", s, fault.InvalidRule)
	}
	return l, nil
}

var months = [...]string{"jan", "feb", "mar", "apr", "may", "jun", "jul", "aug", "sep", "oct", "nov", "dec"}

// scan reads parts of a time from the beginning of a text.
type scan struct {
	s  string
	at int
}

func (x *scan) rest() string { return x.s[x.at:] }

func (x *scan) peek() byte {
	if x.at < len(x.s) {
		return x.s[x.at]
	}
	return 0
}

// take takes one of some bytes.
func (x *scan) take(any string) bool {
	if c := x.peek(); c != 0 && strings.IndexByte(any, c) >= 0 {
		x.at++
		return true
	}
	return false
}

// digits takes from least to most digits, not more.
func (x *scan) digits(least, most int) (n int, ok bool) {
	i := x.at
	for i < len(x.s) && i-x.at <= most && isDigit(x.s[i]) {
		n = n*10 + int(x.s[i]-'0')
		i++
	}
	if i-x.at < least || i-x.at > most {
		return 0, false
	}
	x.at = i
	return n, true
}

func isDigit(c byte) bool { return c >= '0' && c <= '9' }

func isLetter(c byte) bool { return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' }

// month takes the name of a month, short or long.
func (x *scan) month() (time.Month, bool) {
	end := x.at
	for end < len(x.s) && isLetter(x.s[end]) {
		end++
	}
	word := strings.ToLower(x.s[x.at:end])
	if len(word) < 3 {
		return 0, false
	}
	for i, m := range months {
		if word[:3] == m && strings.HasPrefix(strings.ToLower(time.Month(i+1).String()), word) {
			x.at = end
			return time.Month(i + 1), true
		}
	}
	return 0, false
}

// weekday takes the name of a day and the comma and space after it.
func (x *scan) weekday() bool {
	end := x.at
	for end < len(x.s) && isLetter(x.s[end]) {
		end++
	}
	word := strings.ToLower(x.s[x.at:end])
	if len(word) < 3 {
		return false
	}
	for d := range time.Weekday(7) {
		if strings.HasPrefix(strings.ToLower(d.String()), word) {
			x.at = end
			x.take(",")
			return x.take(" ")
		}
	}
	return false
}

// date is the parts of a date.
type date struct {
	year  int
	month time.Month
	day   int
}

// date takes a date in one of the usual orders.
func (x *scan) date() (d date, ok bool) {
	start := x.at
	x.weekday()
	if d.month, ok = x.month(); ok { // Nov 25, perhaps with the year
		if !x.take(" ") {
			x.at = start
			return d, false
		}
		x.take(" ")
		if d.day, ok = x.digits(1, 2); !ok {
			x.at = start
			return d, false
		}
		mark := x.at
		x.take(",")
		if x.take(" ") {
			if y, ok := x.digits(4, 4); ok && (x.peek() == ' ' || x.peek() == ',') {
				d.year = y
				return d, true
			}
		}
		x.at = mark
		return d, true
	}
	first, ok := x.digits(1, 4)
	width := x.at - start
	switch {
	case !ok || width == 3:
	case width == 4: // 2026-11-25
		separator := x.peek()
		if !x.take("-/.") {
			break
		}
		month, ok := x.digits(1, 2)
		if !ok || !x.take(string(separator)) {
			break
		}
		if day, ok := x.digits(1, 2); ok {
			return date{first, time.Month(month), day}, true
		}
	default: // 25/Nov/2026, 25-Nov-26, 25 Nov 2026, 25.11.2026
		separator := x.peek()
		if !x.take("-/ .") {
			break
		}
		month, ok := x.month()
		if !ok {
			n, numeric := x.digits(2, 2)
			if month, ok = time.Month(n), numeric && separator == '.'; !ok { // with other separators the order is not known
				break
			}
		}
		if !x.take(string(separator)) {
			break
		}
		at := x.at
		if year, ok := x.digits(2, 4); ok && x.at-at != 3 {
			if x.at-at == 2 {
				year += 2000
				if year > 2068 {
					year -= 100 // as in time.Parse
				}
			}
			return date{year, month, first}, true
		}
	}
	x.at = start
	return d, false
}

// timeOfDay is the parts of a time of day.
type timeOfDay struct{ hour, minute, second, nanosecond int }

// timeOfDay takes a time of day with seconds, or with AM or PM.
func (x *scan) timeOfDay() (t timeOfDay, ok bool) {
	start := x.at
	if t.hour, ok = x.digits(1, 2); ok && x.take(":") {
		if t.minute, ok = x.digits(2, 2); ok {
			seconds := false
			if x.peek() == ':' && x.at+1 < len(x.s) && isDigit(x.s[x.at+1]) {
				x.at++
				t.second, seconds = x.digits(2, 2)
				ok = seconds
			}
			if seconds && x.at+1 < len(x.s) && (x.peek() == '.' || x.peek() == ',') && isDigit(x.s[x.at+1]) {
				x.at++
				t.nanosecond = x.fraction()
			}
			half := x.half(&t)
			if ok && (seconds || half) && t.hour < 24 && t.minute < 60 && t.second <= 60 {
				return t, true
			}
		}
	}
	x.at = start
	return t, false
}

// fraction takes the digits after the point of a second, as nanoseconds. Digits beyond are dropped.
func (x *scan) fraction() (n int) {
	count := 0
	for x.at < len(x.s) && isDigit(x.s[x.at]) {
		if count++; count <= 9 {
			n = n*10 + int(x.s[x.at]-'0')
		}
		x.at++
	}
	for ; count < 9; count++ {
		n *= 10
	}
	return n
}

// half takes AM or PM.
func (x *scan) half(t *timeOfDay) bool {
	rest := x.rest()
	trimmed := strings.TrimPrefix(strings.TrimPrefix(rest, " "), "\u202f")
	if len(trimmed) < 2 || trimmed[1]|0x20 != 'm' || len(trimmed) > 2 && isLetter(trimmed[2]) || t.hour < 1 || t.hour > 12 {
		return false
	}
	switch trimmed[0] | 0x20 {
	case 'a':
		t.hour %= 12
	case 'p':
		t.hour = t.hour%12 + 12
	default:
		return false
	}
	x.at += len(rest) - len(trimmed) + 2
	return true
}

// numericZone reads +0200, +02:00 or +02, in minutes.
func numericZone(s string) (minutes, size int, ok bool) {
	if len(s) < 3 || s[0] != '+' && s[0] != '-' {
		return 0, 0, false
	}
	x := scan{s, 1}
	hours, ok := x.digits(2, 2)
	if ok {
		if x.take(":") {
			minutes, ok = x.digits(2, 2)
		}
	} else if n, four := x.digits(4, 4); four {
		hours, minutes, ok = n/100, n%100, true
	}
	if !ok || hours > 14 || minutes > 59 || x.at < len(s) && (isDigit(s[x.at]) || isLetter(s[x.at])) {
		return 0, 0, false
	}
	minutes += hours * 60
	if s[0] == '-' {
		minutes = -minutes
	}
	return minutes, x.at, true
}

// zone takes a zone after a time of day, also behind a space.
func (x *scan) zone() (*time.Location, bool) {
	at := x.at
	spaced := x.take(" ")
	if minutes, size, ok := numericZone(x.rest()); ok && (!spaced || size > 3) { // " -5 degrees" and " -05 ..." are no zones
		x.at += size
		return time.FixedZone("", minutes*60), true
	}
	end := x.at
	for end < len(x.s) && isLetter(x.s[end]) {
		end++
	}
	if minutes, ok := abbreviations[x.s[x.at:end]]; ok && (end == len(x.s) || !isDigit(x.s[end]) && x.s[end] != '_' && x.s[end] != '.') && !(spaced && x.s[x.at:end] == "Z") {
		x.at = end
		return time.FixedZone("", minutes*60), true
	}
	x.at = at
	return nil, false
}

// doubtfulZones are abbreviations that mean several offsets.
var doubtfulZones = []string{"CST", "IST", "BST", "AST", "SST", "ADT", "WST", "ECT"}

// doubtfulZone takes an abbreviation that means several offsets.
func (x *scan) doubtfulZone() string {
	for _, name := range doubtfulZones {
		if rest, ok := strings.CutPrefix(x.rest(), " "+name); ok && (rest == "" || !isLetter(rest[0])) {
			x.at += 1 + len(name)
			return name
		}
	}
	return ""
}

// begins reads the time at the beginning of a text.
func (c *clock) begins(s string) (p parsed, ok bool) {
	if len(s) < len("10:00AM") || !isDigit(s[0]) && !isLetter(s[0]) {
		return p, false
	}
	x := scan{s: s}
	d, dated := x.date()
	if dated && !x.take("T_t") {
		if x.take(","); !x.take(": ") {
			return p, false
		}
		x.take(" ")
	}
	t, ok := x.timeOfDay()
	if !ok {
		return p, false
	}
	zone, zoned := x.zone()
	if dated && d.year == 0 && x.peek() == ' ' { // Wed Nov 25 10:00:00 UTC 2026
		after := x
		after.at++
		if y, ok := after.digits(4, 4); ok && (after.peek() == 0 || strings.IndexByte(" ]),:|", after.peek()) >= 0) {
			x, d.year = after, y
			if !zoned {
				zone, zoned = x.zone()
			}
		}
	}
	if zoned && zone != nil { // "+0000 UTC", as Go writes times
		if name := " UTC"; strings.HasPrefix(x.rest(), name) {
			x.at += len(name)
		}
	}
	if next := x.peek(); isLetter(next) || isDigit(next) || next == ':' && x.at+1 < len(s) && isDigit(s[x.at+1]) {
		return p, false
	}
	if !zoned {
		zone = c.zone
		p.zone = x.doubtfulZone()
	}
	p.size = x.at
	var at time.Time
	switch {
	case !dated:
		at, p.guess = c.guessDate(t, zone), guessedDate
	case d.year == 0:
		at, p.guess = c.guessYear(d, t, zone), guessedYear
	default:
		at = time.Date(d.year, d.month, d.day, t.hour, t.minute, t.second, t.nanosecond, zone)
		if d.month < 1 || d.month > 12 || at.Day() != d.day && t.second < 60 { // a leap second is in the next day
			return p, false
		}
	}
	p.time, ok = nanoseconds(at)
	return p, ok
}

// guessDate returns the day of a time of day: that of the line before, or the next one if the time has passed
// midnight. The first one is the last such time before the log was written.
func (c *clock) guessDate(t timeOfDay, zone *time.Location) time.Time {
	on := func(day time.Time) time.Time {
		day = day.In(zone)
		return time.Date(day.Year(), day.Month(), day.Day(), t.hour, t.minute, t.second, t.nanosecond, zone)
	}
	if c.last.IsZero() {
		at := on(c.written)
		if at.After(c.written.Add(time.Minute)) {
			at = on(c.written.Add(-24 * time.Hour))
		}
		return at
	}
	at := on(c.last)
	const halfDay = 12 * time.Hour
	switch {
	case c.last.Sub(at) > halfDay:
		at = on(c.last.Add(24 * time.Hour))
	case at.Sub(c.last) > halfDay:
		at = on(c.last.Add(-24 * time.Hour))
	}
	return at
}

// guessYear returns the last such time before the log was written, with a day of tolerance for zones.
func (c *clock) guessYear(d date, t timeOfDay, zone *time.Location) time.Time {
	const farthest = 4
	for year := c.written.Year() + 1; year >= c.written.Year()-farthest; year-- { // the 29th of February is not in each
		at := time.Date(year, d.month, d.day, t.hour, t.minute, t.second, t.nanosecond, zone)
		if at.Day() == d.day && at.Before(c.written.Add(24*time.Hour)) {
			return at
		}
	}
	return time.Time{}
}

// parse reads a text that is a time as a whole, also a count since 1970.
func (c *clock) parse(s string) (int64, guess, bool) {
	s = strings.TrimSpace(s)
	if p, ok := c.begins(s); ok {
		rest := s[p.size:]
		return p.time, p.guess, rest == "" || strings.HasPrefix(rest, " m=") || strings.HasPrefix(rest, "[") // a monotonic clock; the name of the zone
	}
	t, ok := sinceEpoch(s)
	return t, noGuess, ok
}

// sinceEpoch reads a decimal count of seconds, milliseconds, microseconds or nanoseconds since 1970.
// Its size tells the unit.
func sinceEpoch(s string) (int64, bool) {
	if len(s) == 0 || !isDigit(s[0]) {
		return 0, false
	}
	if strings.ContainsAny(s, "eE") {
		x, err := strconv.ParseFloat(s, 64)
		if err != nil || x >= 1<<63 {
			return 0, false
		}
		s = strconv.FormatFloat(x, 'f', -1, 64)
	}
	whole, fraction, _ := strings.Cut(s, ".")
	n, err := strconv.ParseInt(whole, 10, 64)
	if err != nil {
		return 0, false
	}
	const latestSeconds, latestMilli, latestMicro = 1 << 33, 1 << 43, 1 << 53
	unit := int64(time.Second)
	switch {
	case n < latestSeconds:
	case n < latestMilli:
		unit = int64(time.Millisecond)
	case n < latestMicro:
		unit = int64(time.Microsecond)
	default:
		unit = 1
	}
	if n > math.MaxInt64/unit {
		return 0, false
	}
	t := n * unit
	for i := 0; i < len(fraction); i++ {
		if !isDigit(fraction[i]) {
			return 0, false
		}
		unit /= 10
		t += int64(fraction[i]-'0') * unit
	}
	return t, true
}

// nanoseconds returns the time since 1970; ok is false if it is out of range.
func nanoseconds(t time.Time) (int64, bool) {
	if y := t.Year(); y < 1970 || y > 2261 {
		return 0, false
	}
	return t.UnixNano(), true
}
