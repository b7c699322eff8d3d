package stage

import (
	"reflect"
	"slices"

	"greenlever.example/core/evidence"
)

// edit changes the stages to come. What has begun keeps whom it is for.
func (t *step) edit() error {
	if problems := CheckStages("stages", t.e.Stages); len(problems) > 0 {
		return t.refuse("%s", problems[0])
	}
	if len(t.e.Stages) <= t.At || len(t.e.Stages) == 0 {
		return t.refuse("stages that have begun cannot be taken out")
	}
	for i := 0; i <= t.At; i++ {
		old, now := &t.Plan.Stages[i], &t.e.Stages[i]
		if old.Name != now.Name || old.Share != now.Share || (old.Who == nil) != (now.Who == nil) ||
			!old.Who.Equal(now.Who) {
			return t.refuse("stage %q has begun: whom it is for cannot be edited", old.Name)
		}
	}
	if t.At < 0 && t.Plan.First >= len(t.e.Stages) {
		return t.refuse("it was to begin with stage %d, which is not there any more", t.Plan.First+1)
	}
	again := t.Is == Through && len(t.e.Stages) > len(t.Plan.Stages)
	t.Plan.Stages = slices.Clone(t.e.Stages)
	t.out.Tell = Edited
	if err := t.editWatches(); err != nil {
		return err
	}
	if again {
		t.to(Underway, Edited)
		t.From = t.now
	}
	if problems := t.Plan.checkWatched(); len(problems) > 0 {
		return t.refuse("%s", problems[0])
	}
	// the old arm leaves room for what is planned
	t.out.Serve = t.out.Serve || t.At >= 0 && t.Plan.OldArm && len(t.Plan.Watches) == 0
	t.note()
	if f := t.e.Facts; f != nil && f.Edited != "" {
		t.Around = f.Edited // what only the new stages ask for is no change of what has begun
	}
	return nil
}

// editWatches changes what is watched, which begins the evidence anew.
func (t *step) editWatches() error {
	if t.e.Watches == nil || reflect.DeepEqual(*t.e.Watches, t.Plan.Watches) {
		return nil
	}
	if problems := evidence.CheckWatches("watches", *t.e.Watches); len(problems) > 0 {
		return t.refuse("%s", problems[0])
	}
	if t.At >= 0 && len(t.Plan.Watches) == 0 && len(*t.e.Watches) > 0 {
		return t.refuse("it began without watches, so nobody is kept to compare with: roll it back, and start one " +
			"with watches, which takes the same units first")
	}
	t.Plan.Watches = slices.Clone(*t.e.Watches)
	t.out.Serve = t.At >= 0
	t.Compared = t.Plan.Compared()
	if t.At >= 0 {
		t.anew()
	}
	return nil
}
