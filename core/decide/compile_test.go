package decide

import (
	"math/rand/v2"
	"testing"

	"greenlever.example/core/condition"
)

// A condition that is compiled by itself takes whom matching says that it takes.
func TestTaking(t *testing.T) {
	rng := rand.New(rand.NewPCG(11, 12))
	seen := map[condition.Truth]int{}
	for range 300 {
		rs := Compile(randomRuleset(rng), nil)
		n := randomNode(rng, 3)
		surely, err := rs.Taking(n, false)
		if err != nil {
			t.Fatal(err)
		}
		maybe, err := rs.Taking(n, true)
		if err != nil {
			t.Fatal(err)
		}
		for range 30 {
			_, _, c := randomUnit(rng)
			now := int64(1_796_083_200_000) + rng.Int64N(86_400_000)
			want := n.Match(c, rs.Around(c, now))
			seen[want]++
			if surely(c, now) != (want == condition.True) || maybe(c, now) != (want != condition.False) {
				t.Fatalf("%s of %v is %v; surely %v, maybe %v", n.Words(), c, want, surely(c, now), maybe(c, now))
			}
		}
	}
	if len(seen) != 3 || seen[condition.True] < 100 || seen[condition.Unknown] < 100 {
		t.Errorf("too few of each kind: %v", seen)
	}
}
