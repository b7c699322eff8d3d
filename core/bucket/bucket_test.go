package bucket

import (
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"slices"
	"testing"
)

func TestVectors(t *testing.T) {
	raw, err := os.ReadFile("../../testdata/vectors/bucket.json")
	if err != nil {
		t.Fatal(err)
	}
	var rows []struct {
		Key, Salt, Seed, Hash string
		Bucket                uint32
	}
	if err := json.Unmarshal(raw, &rows); err != nil {
		t.Fatal(err)
	}
	if len(rows) < 12 {
		t.Fatalf("only %d vectors", len(rows))
	}
	for _, r := range rows {
		seed := Seed(r.Salt)
		if got := fmt.Sprintf("%08x", seed); got != r.Seed {
			t.Errorf("salt %q: seed %s, want %s", r.Salt, got, r.Seed)
		}
		if got := fmt.Sprintf("%08x", Murmur3(r.Key, seed)); got != r.Hash {
			t.Errorf("key %q salt %q: hash %s, want %s", r.Key, r.Salt, got, r.Hash)
		}
		if got := Of(r.Key, seed); got != r.Bucket {
			t.Errorf("key %q salt %q: bucket %d, want %d", r.Key, r.Salt, got, r.Bucket)
		}
	}
}

// One million keys in shares of every size fall within four standard deviations of them.
func TestSharesAreFair(t *testing.T) {
	const n = 1_000_000
	wants := []Want{{"a", 125}, {"b", 80_000}, {"c", 300_000}, {"rest", 619_875}}
	parts, err := Allocate(nil, wants)
	if err != nil {
		t.Fatal(err)
	}
	seed := Seed("5f1c0e9ab3d24c77")
	count := make([]int, len(parts))
	for i := range n {
		count[owner(parts, Of(fmt.Sprintf("recipient-%d", i), seed))]++
	}
	for i, w := range wants {
		p := float64(w.Size) / Buckets
		sigma := math.Sqrt(n * p * (1 - p))
		if off := math.Abs(float64(count[i]) - n*p); off > 4*sigma {
			t.Errorf("part %s: %d of %d, %.1f sigma from its share", w.Name, count[i], n, off/sigma)
		}
	}
}

// Buckets under two salts are independent: of those in the lowest 30 % under one, 30 % are
// in the lowest 30 % under the other, also where the salts look alike.
func TestSaltsAreIndependent(t *testing.T) {
	a, b := Seed("pinecrest"), Seed("pinecrest-2")
	in, both := 0, 0
	for i := range 500_000 {
		key := fmt.Sprintf("site-%d", i)
		if Of(key, a) < 300_000 {
			in++
			if Of(key, b) < 300_000 {
				both++
			}
		}
	}
	sigma := math.Sqrt(float64(in) * .3 * .7)
	if off := math.Abs(float64(both) - .3*float64(in)); off > 4*sigma {
		t.Errorf("%d of %d: %.1f sigma from independence", both, in, off/sigma)
	}
}

func owner(parts []Part, b uint32) int {
	return slices.IndexFunc(parts, func(p Part) bool {
		return slices.ContainsFunc(p.Ranges, func(r Range) bool { return r.From <= b && b < r.To })
	})
}

func TestGrowingLosesNobody(t *testing.T) {
	var parts []Part
	seed := Seed("grow")
	had := map[string]bool{}
	for _, share := range []uint32{20_000, 80_000, 300_000, 650_000, 1_000_000} {
		var err error
		parts, err = Allocate(parts, []Want{{"on", share}, {"off", Buckets - share}})
		if err != nil {
			t.Fatal(err)
		}
		for i := range 100_000 {
			key := fmt.Sprintf("site-%d", i)
			on := parts[owner(parts, Of(key, seed))].Name == "on"
			if had[key] && !on {
				t.Fatalf("%s lost the growing variant at %s", key, Percent(share))
			}
			had[key] = on
		}
	}
}

// Over random sequences of edits every layout is sound, moves exactly as many buckets as
// the new sizes require, and two parts always lie canonically.
func TestAllocateMovesTheLeast(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	names := []string{"a", "b", "c", "d", "e", "rest"}
	for range 300 {
		var parts []Part
		for range 12 {
			k := 2 + rng.IntN(5)
			picked := append(slices.Clone(names[:5])[:k-1], "rest")
			wants := randomWants(rng, picked)
			next, err := Allocate(parts, wants)
			if err != nil {
				t.Fatal(err)
			}
			if err := Check(next); err != nil {
				t.Fatal(err)
			}
			if len(parts) > 0 {
				if got, bound := moved(parts, next), lowerBound(parts, next); got != bound {
					t.Fatalf("moved %d buckets, %d are enough\nold %v\nnew %v", got, bound, parts, next)
				}
			}
			if next[len(next)-1].Name != "rest" {
				t.Fatalf("last part is %q", next[len(next)-1].Name)
			}
			parts = next
		}
	}
	var two []Part
	for range 200 {
		wants := randomWants(rng, []string{"a", "rest"})
		two, _ = Allocate(two, wants)
		canonical, _ := Allocate(nil, wants)
		if fmt.Sprint(two) != fmt.Sprint(canonical) {
			t.Fatalf("two parts lie %v, want %v", two, canonical)
		}
	}
}

func randomWants(rng *rand.Rand, names []string) []Want {
	left := uint32(Buckets)
	var wants []Want
	for i, n := range names {
		size := left
		if i < len(names)-1 {
			size = rng.Uint32N(left + 1)
		}
		wants = append(wants, Want{n, size})
		left -= size
	}
	return wants
}

func moved(old, next []Part) (n int) {
	cuts := []uint32{0}
	for _, parts := range [][]Part{old, next} {
		for _, p := range parts {
			for _, r := range p.Ranges {
				cuts = append(cuts, r.From, r.To)
			}
		}
	}
	slices.Sort(cuts)
	cuts = slices.Compact(cuts)
	for i, c := range cuts[:len(cuts)-1] {
		if old[owner(old, c)].Name != next[owner(next, c)].Name {
			n += int(cuts[i+1] - c)
		}
	}
	return n
}

func lowerBound(old, next []Part) (n int) {
	size := map[string]uint32{}
	for _, p := range next {
		size[p.Name] = p.Size()
	}
	for _, p := range old {
		if have := p.Size(); have > size[p.Name] {
			n += int(have - size[p.Name])
		}
	}
	return n
}

func TestAllocateRefuses(t *testing.T) {
	if _, err := Allocate(nil, []Want{{"a", 10}, {"b", 20}}); !errors.Is(err, ErrSum) {
		t.Errorf("wrong sum: %v", err)
	}
	if _, err := Allocate(nil, []Want{{"a", 500_000}, {"a", 500_000}}); !errors.Is(err, ErrParts) {
		t.Errorf("doubled name: %v", err)
	}
	if _, err := Allocate([]Part{{"a", []Range{{0, 10}}}}, []Want{{"a", Buckets}}); !errors.Is(err, ErrParts) {
		t.Errorf("hole: %v", err)
	}
	if _, err := Allocate(nil, nil); !errors.Is(err, ErrSum) {
		t.Errorf("nothing: %v", err)
	}
}

func TestPercent(t *testing.T) {
	for _, c := range []struct {
		text string
		ppm  uint32
	}{{"8 %", 80_000}, {"0.0125 %", 125}, {"100 %", Buckets}, {"0 %", 0}, {"33.3333 %", 333_333}} {
		if got := Percent(c.ppm); got != c.text {
			t.Errorf("Percent(%d) = %q, want %q", c.ppm, got, c.text)
		}
		if got, err := ParsePercent(c.text); err != nil || got != c.ppm {
			t.Errorf("ParsePercent(%q) = %d, %v", c.text, got, err)
		}
	}
	for _, bad := range []string{"", "x", "101", "1.23456", "-1", "1e2", "%", "."} {
		if got, err := ParsePercent(bad); err == nil {
			t.Errorf("ParsePercent(%q) = %d, want an error", bad, got)
		}
	}
}
