package bucket

import (
	"fmt"
	"strconv"
	"strings"
)

// Percent prints parts per million as a percentage, exactly: 80000 is "8 %", 125 is "0.0125 %".
func Percent[N ~uint32 | ~uint64 | ~int](ppm N) string {
	whole, part := uint64(ppm)/10_000, uint64(ppm)%10_000
	if part == 0 {
		return strconv.FormatUint(whole, 10) + " %"
	}
	return strings.TrimRight(fmt.Sprintf("%d.%04d", whole, part), "0") + " %"
}

// ParsePercent reads a percentage such as "8", "8 %" or "0.0125%" as parts per million.
// The text never passes through a float. It returns an error outside 0 to 100 and for
// more than four digits behind the point.
func ParsePercent(s string) (uint32, error) {
	text := strings.TrimSpace(strings.TrimSuffix(strings.TrimSpace(s), "%"))
	whole, part, _ := strings.Cut(text, ".")
	bad := fmt.Errorf("%q is no percentage: write a number from 0 to 100 with at most four digits behind the point, "+
		"such as 8 or 0.0125", s)
	if len(part) > 4 || whole == "" {
		return 0, bad
	}
	n, err := strconv.ParseUint(whole+(part + "0000")[:4], 10, 32)
	if err != nil || n > Buckets {
		return 0, bad
	}
	return uint32(n), nil
}
