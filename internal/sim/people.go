package sim

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"time"

	greenlever "greenlever.example/client"
)

// Recipients, sites and lockers of the scenario, made from a seed: the same seed gives the
// same people.

var (
	regions  = []string{"north", "east", "south", "west", "coast"}
	old      = []string{"3.9.4", "4.1.7"}
	firmware = []string{"4.2.0", "4.2.3", "4.3.1"}
)

// oldInHundred is how many lockers say that they have old firmware. One in twelve does not say it, and is older still:
// three in ten in all.
const oldInHundred = 24

// Old tells whether the recipient's locker has firmware with which it does not open at one touch.
func (r *Recipient) Old() bool { return r.Firmware == "" || slices.Contains(old, r.Firmware) }

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
	Country  string
	Speaks   []string
	Joined   string // RFC 3339
	Network  string // address
}

// Recipients makes n of them.
func Recipients(seed uint64, n int) []Recipient {
	rng := rand.New(rand.NewPCG(seed, 1))
	type site struct{ region, plan, firmware string }
	sites := make([]site, Sites)
	for i := range sites {
		sites[i] = site{regions[rng.IntN(len(regions))], "basic", firmware[rng.IntN(len(firmware))]}
		if rng.IntN(100) < oldInHundred {
			sites[i].firmware = old[rng.IntN(len(old))]
		}
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
		out[i] = Recipient{Key: fmt.Sprintf("recipient-%d", i+1), Site: fmt.Sprintf("site-%d", s+1),
			Region: sites[s].region, Plan: sites[s].plan,
			Firmware: sites[s].firmware, App: fmt.Sprintf("%d.%d.0", 6+rng.IntN(2), rng.IntN(10)),
			Parcels: rng.IntN(12)}
		out[i].Country = []string{"no", "no", "no", "se", "dk"}[rng.IntN(5)]
		out[i].Speaks = [][]string{{"nb"}, {"nb", "en"}, {"sv", "en"}, {"da"}, {"de", "en"}}[rng.IntN(5)]
		out[i].Joined = time.Date(2023, time.January, 1+rng.IntN(1_400), rng.IntN(24), 0, 0, 0,
			time.UTC).Format(time.RFC3339)
		out[i].Network = fmt.Sprintf("10.%d.%d.%d", 20+rng.IntN(6), rng.IntN(256), 1+rng.IntN(250))
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
	country    = greenlever.Named("country")
	languages  = greenlever.Named("languages")
	joined     = greenlever.Named("joined")
	network    = greenlever.Named("network")
	email      = greenlever.Named("email")
	crewSize   = greenlever.Named("crew_size")
)

// Context is what the door service knows of the recipient.
func (r *Recipient) Context() greenlever.Context {
	attributes := []greenlever.Attribute{role.String("recipient"), siteID.String(r.Site), siteRegion.String(r.Region),
		sitePlan.String(r.Plan),
		appVersion.String(r.App), parcels.Int(int64(r.Parcels)), country.String(r.Country),
		languages.List(r.Speaks...), joined.String(r.Joined), network.String(r.Network),
		email.String(r.Key + "@mail.example")}
	if r.Firmware != "" {
		attributes = append(attributes, firmwareAt.String(r.Firmware))
	}
	if r.Badge != "" {
		attributes = append(attributes, badge.String(r.Badge))
	}
	return greenlever.Unit(r.Key, attributes...)
}

// Courier is somebody who fills compartments on a round.
type Courier struct {
	Key    string
	Region string
	Crew   int
}

// Couriers makes n of them.
func Couriers(seed uint64, n int) []Courier {
	rng := rand.New(rand.NewPCG(seed, 3))
	out := make([]Courier, n)
	for i := range out {
		out[i] = Courier{fmt.Sprintf("courier-%d", i+1), regions[rng.IntN(len(regions))], 1 + rng.IntN(4)}
	}
	return out
}

// Context is what the rounds service knows of the courier. It sends the size of the crew as
// text, which is the scenario's mistake: a rule that compares it with a number would never
// apply.
func (c *Courier) Context() greenlever.Context {
	return greenlever.Unit(c.Key, role.String("courier"), siteRegion.String(c.Region),
		crewSize.String(fmt.Sprint(c.Crew)), email.String(c.Key+"@pinecrest.example"))
}
