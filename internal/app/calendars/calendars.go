// Package calendars holds the addresses at which calendars are read.
package calendars

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"slices"

	"greenlever.example/core/diff"
	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/commit"
)

// most is how many addresses one person has in a project.
const most = 10

// Tx is what these changes read.
type Tx interface {
	CalendarAddresses(account string, project int64) ([]app.CalendarAddress, error)
}

// Make makes an address for who asks for it.
type Make struct{}

// Remove takes the address away that the change is of.
type Remove struct{}

// Made is a new address. Its secret is shown once, and kept nowhere.
type Made struct {
	app.CalendarAddress
	Path string `json:"path,omitempty"` // below the service's address
}

// WithoutSecrets is the address as it is kept for a repeated request.
func (m *Made) WithoutSecrets() any { return &Made{CalendarAddress: m.CalendarAddress} }

// Digest is what is kept of a secret.
func Digest(secret string) []byte {
	sum := sha256.Sum256([]byte("calendar " + secret))
	return sum[:]
}

// Kinds are the changes of addresses.
func Kinds() []*commit.Kind {
	return []*commit.Kind{
		commit.Of(commit.Kind{Name: "calendar.make", Alone: true, Says: "Makes an address to subscribe to the " +
			"calendar at",
			Action: app.Read, Span: commit.Project, Queued: true}, issue),
		commit.Of(commit.Kind{Name: "calendar.remove", Alone: true, Says: "Takes a calendar's address away",
			Action: app.Read, Span: commit.Project, Queued: true}, remove),
	}
}

func issue(_ context.Context, m *commit.Moment, _ *Make) (*commit.Effects, error) {
	has, err := commit.Narrow[Tx](m).CalendarAddresses(m.Actor.ID, m.Project.ID)
	if err != nil {
		return nil, err
	}
	if len(has) >= most {
		return nil, app.Faultf(app.Conflict, "you have %d addresses of this calendar: take one away first", len(has))
	}
	secret := rand.Text()
	a := app.CalendarAddress{ID: commit.NewID(), AccountID: m.Actor.ID, ProjectID: m.Project.ID, Made: m.At,
		Digest: Digest(secret)}
	return &commit.Effects{Result: &Made{a, "/calendar/" + secret + ".ics"}, In: []commit.Effect{{Project: m.Project,
		Records: []commit.Record{&a}, Entries: []commit.Entry{commit.Said("calendar.made", a.ID,
			diff.Text("an address to subscribe to the calendar at"))}}}}, nil
}

func remove(_ context.Context, m *commit.Moment, _ *Remove) (*commit.Effects, error) {
	has, err := commit.Narrow[Tx](m).CalendarAddresses(m.Actor.ID, m.Project.ID)
	if err != nil {
		return nil, err
	}
	if !slices.ContainsFunc(has, func(a app.CalendarAddress) bool { return a.ID == m.Of }) {
		return nil, app.Faultf(app.NotFound, "you have no such address of this calendar")
	}
	gone := &app.CalendarGone{ID: m.Of}
	return &commit.Effects{Result: gone, In: []commit.Effect{{Project: m.Project, Records: []commit.Record{gone},
		Entries: []commit.Entry{commit.Said("calendar.removed", m.Of, diff.Text("the address leads nowhere any "+
			"more"))}}}}, nil
}
