package span

import "testing"

func TestSpans(t *testing.T) {
	for text, want := range map[string]Span{"90s": 90_000, "2d12h": 216_000_000, "1h 30m": 5_400_000, "250ms": 250} {
		var s Span
		if err := s.UnmarshalText([]byte(text)); err != nil || s != want {
			t.Errorf("%s is %d, %v", text, s, err)
		}
		var again Span
		if err := again.UnmarshalText([]byte(s.String())); err != nil || again != s {
			t.Errorf("%s is written as %s", text, s)
		}
	}
	for _, text := range []string{"", "5", "m", "1.5h", "-3m", "3x", "400d", "1h-2m", "99999999999d"} {
		var s Span
		if err := s.UnmarshalText([]byte(text)); err == nil {
			t.Errorf("%q is taken as %s", text, s)
		}
	}
	for s, want := range map[Span]string{90_000: "1 min 30 s", 216_000_000: "2 days 12 hours", 3_600_000: "1 hour",
		86_400_000 + 60_000: "1 day", 500: "a moment", 3_661_000: "1 hour 1 min"} {
		if got := s.Words(); got != want {
			t.Errorf("%d is said as %q, not %q", s, got, want)
		}
	}
}
