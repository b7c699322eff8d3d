package sim

import (
	"fmt"
	"math/rand/v2"

	greenlever "greenlever.example/client"
)

// Recipients, sites and lockers of the scenario, made from a seed: the same seed gives the
// same people.

var (
	regions  = []string{"north", "east", "south", "west", "coast"}
	firmware = []string{"3.9.4", "4.1.7", "4.2.0", "4.2.3", "4.3.1"}
)

// Sites is how many sites Pinecrest Lockers runs.
const Sites = 600

// Recipient is somebody who fetches parcels at a site.
type Recipient struct {
	Key      string
	Site     string
	Region   string
	Plan     string
	Firmware string // of the site's locker; empty where the locker does not say
	App      string
	Parcels  int
	Badge    string // of staff
}

// Recipients makes n of them.
func Recipients(seed uint64, n int) []Recipient {
	rng := rand.New(rand.NewPCG(seed, 1))
	type site struct{ region, plan, firmware string }
	sites := make([]site, Sites)
	for i := range sites {
		sites[i] = site{regions[rng.IntN(len(regions))], "basic", firmware[rng.IntN(len(firmware))]}
		if rng.IntN(5) == 0 {
			sites[i].plan = "plus"
		}
		if rng.IntN(12) == 0 {
			sites[i].firmware = ""
		}
	}
	out := make([]Recipient, n)
	for i := range out {
		s := rng.IntN(Sites)
		out[i] = Recipient{Key: fmt.Sprintf("recipient-%d", i+1), Site: fmt.Sprintf("site-%d", s+1), Region: sites[s].region, Plan: sites[s].plan,
			Firmware: sites[s].firmware, App: fmt.Sprintf("%d.%d.0", 6+rng.IntN(2), rng.IntN(10)), Parcels: rng.IntN(12)}
		if rng.IntN(100) == 0 {
			out[i].Badge = fmt.Sprintf("badge-%d", rng.IntN(90))
		}
	}
	return out
}

var (
	siteID     = greenlever.Named("site.id")
	siteRegion = greenlever.Named("site.region")
	sitePlan   = greenlever.Named("site.plan")
	firmwareAt = greenlever.Named("firmware")
	appVersion = greenlever.Named("app_version")
	parcels    = greenlever.Named("parcels_this_month")
	role       = greenlever.Named("role")
	badge      = greenlever.Named("badge")
)

// Context is what the door service knows of the recipient.
func (r *Recipient) Context() greenlever.Context {
	attributes := []greenlever.Attribute{role.Text("recipient"), siteID.Text(r.Site), siteRegion.Text(r.Region), sitePlan.Text(r.Plan),
		appVersion.Text(r.App), parcels.Integer(int64(r.Parcels))}
	if r.Firmware != "" {
		attributes = append(attributes, firmwareAt.Text(r.Firmware))
	}
	if r.Badge != "" {
		attributes = append(attributes, badge.Text(r.Badge))
	}
	return greenlever.Unit(r.Key, attributes...)
}
