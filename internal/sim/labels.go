package sim

import "context"

// Label is the text on a parcel's label. It is as it has been for long, and nobody prints the narrow ones any more.
func (d *Door) Label(ctx context.Context, r *Recipient) string {
	unit := r.Context()
	if d.flags.Bool(ctx, "wide-labels", unit, false) {
		return r.Key + ", locker of site " + r.Site
	}
	return r.Key
}

// Chimes tells whether a door chimes when it opens.
func (d *Door) Chimes(ctx context.Context, r *Recipient) bool {
	return !r.Old() && d.flags.Bool(ctx, "door-chime", r.Context(), false)
}
