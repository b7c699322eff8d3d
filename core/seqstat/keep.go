package seqstat

import (
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"math"
)

// Kept is what an e-value has gathered, so that another process can go on with it: exactly, bit by bit.
// It is written as base64 of little-endian IEEE 754 doubles.
type Kept []float64

// MarshalText writes what was kept.
func (k Kept) MarshalText() ([]byte, error) {
	raw := make([]byte, 0, 8*len(k))
	for _, v := range k {
		raw = binary.LittleEndian.AppendUint64(raw, math.Float64bits(v))
	}
	return base64.StdEncoding.AppendEncode(nil, raw), nil
}

// UnmarshalText reads what was kept.
func (k *Kept) UnmarshalText(text []byte) error {
	raw, err := base64.StdEncoding.AppendDecode(nil, text)
	if err != nil || len(raw)%8 != 0 {
		return errors.New("is not the base64 of doubles")
	}
	*k = make(Kept, len(raw)/8)
	for i := range *k {
		(*k)[i] = math.Float64frombits(binary.LittleEndian.Uint64(raw[8*i:]))
	}
	return nil
}

// take takes n values off the front.
func (k *Kept) take(n int) ([]float64, error) {
	if len(*k) < n {
		return nil, fmt.Errorf("%d values were kept where %d are needed", len(*k), n)
	}
	first := (*k)[:n]
	*k = (*k)[n:]
	return first, nil
}

// Keep gives what was gathered.
func (e *Evidence) Keep() Kept { return append(Kept{}, e.logs...) }

// Resume takes up what was gathered by evidence on the same question.
func (e *Evidence) Resume(k *Kept) error {
	logs, err := k.take(len(e.logs))
	copy(e.logs, logs)
	return err
}

// Keep gives what was gathered.
func (r *RateB) Keep() Kept {
	return append(r.Evidence.Keep(), float64(r.past.New.Units), float64(r.past.New.Events),
		float64(r.past.Old.Units), float64(r.past.Old.Events))
}

// Resume takes up what was gathered by evidence on the same question.
func (r *RateB) Resume(k *Kept) error {
	if err := r.Evidence.Resume(k); err != nil {
		return err
	}
	p, err := k.take(4)
	if err == nil {
		r.past = Slice{Count{int64(p[0]), int64(p[1])}, Count{int64(p[2]), int64(p[3])}}
	}
	return err
}

// Keep gives what was gathered.
func (e *CapMean) Keep() Kept {
	a, b := e.pastNew, e.pastOld
	return append(e.Evidence.Keep(), float64(a.N), a.Sum, a.Squares, float64(b.N), b.Sum, b.Squares)
}

// Resume takes up what was gathered by evidence on the same question.
func (e *CapMean) Resume(k *Kept) error {
	if err := e.Evidence.Resume(k); err != nil {
		return err
	}
	p, err := k.take(6)
	if err == nil {
		e.pastNew, e.pastOld = Sums{int64(p[0]), p[1], p[2]}, Sums{int64(p[3]), p[4], p[5]}
	}
	return err
}

// Keep gives what was gathered.
func (e *Tail) Keep() Kept {
	k := e.rate.Keep()
	for _, n := range e.past {
		k = append(k, float64(n))
	}
	return k
}

// Resume takes up what was gathered by evidence on the same question.
func (e *Tail) Resume(k *Kept) error {
	if err := e.rate.Resume(k); err != nil {
		return err
	}
	past, err := k.take(len(e.past))
	for i, n := range past {
		e.past[i] = int64(n)
	}
	return err
}

// Keep gives what was gathered.
func (b *Bounds) Keep() (k Kept) {
	for i := range b.ratios {
		k = append(append(k, b.above[i].logs...), b.below[i].logs...)
	}
	return k
}

// Resume takes up what was gathered.
func (b *Bounds) Resume(k *Kept) error {
	for i := range b.ratios {
		if err := errors.Join(b.above[i].Resume(k), b.below[i].Resume(k)); err != nil {
			return err
		}
	}
	return nil
}
