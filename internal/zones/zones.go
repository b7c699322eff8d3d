// Package zones finds time zones in the data that is built into the program, for windows
// of the week.
//
//	ahead := zones.Find("Europe/Oslo")
//	ahead(1796083200) // 3600: one hour ahead of UTC at that second
package zones

import (
	"sync"
	"time"
	_ "time/tzdata" // the same zones on every machine
)

var known sync.Map

// Find gives the offset of a zone of the IANA database from UTC, in seconds at a Unix
// second; nil where there is no such zone.
func Find(name string) func(unix int64) (ahead int) {
	if f, ok := known.Load(name); ok {
		return f.(func(int64) int)
	}
	location, err := time.LoadLocation(name)
	if err != nil || name == "" || name == "Local" {
		return nil
	}
	f := func(unix int64) int {
		_, ahead := time.Unix(unix, 0).In(location).Zone()
		return ahead
	}
	known.Store(name, f)
	return f
}
