package estate

import (
	"fmt"
	"time"

	"tarnwold/internal/format"
)

// Day is a day by the clock and zone of the machine the program runs on:
// YYYY-MM-DD. The zero value is none. Days compare as text.
type Day string

// Today gives the day it is.
func Today() Day { return Day(time.Now().Format(time.DateOnly)) }

// ParseDay reads a day; empty text is none.
func ParseDay(s string) (Day, error) {
	if s == "" {
		return "", nil
	}
	if _, err := time.Parse(time.DateOnly, s); err != nil {
		return "", fmt.Errorf("%q is not a day of the form 2027-03-31", format.Clip(s))
	}
	return Day(s), nil
}

// Begins gives the moment a day begins.
func (d Day) Begins() time.Time {
	t, _ := time.ParseInLocation(time.DateOnly, string(d), time.Local)
	return t
}

// Plus gives the day so many days later.
func (d Day) Plus(days int) Day { return Day(d.Begins().AddDate(0, 0, days).Format(time.DateOnly)) }

// Zone names the zone that days and times are told in, as an offset from UTC.
func Zone() string { return time.Now().Format("-07:00") }

// Moment writes a moment of the journal, which has it in UTC, by the clock and
// zone of this machine: YYYY-MM-DD HH:MM:SS.
func Moment(rfc3339 string) string {
	t, err := time.Parse(time.RFC3339, rfc3339)
	if err != nil {
		return rfc3339
	}
	return t.Local().Format(time.DateTime)
}
