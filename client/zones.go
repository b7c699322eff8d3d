package greenlever

import (
	"sync"
	"time"
	_ "time/tzdata" // the same zones on every machine
)

var knownZones sync.Map

// findZone gives the offset of a zone of the IANA database from UTC, in seconds at a Unix
// second; nil where there is no such zone.
func findZone(name string) func(unix int64) (ahead int) {
	if f, ok := knownZones.Load(name); ok {
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
	knownZones.Store(name, f)
	return f
}
