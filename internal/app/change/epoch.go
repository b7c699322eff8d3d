package change

import (
	"context"
	"encoding/json"
	"fmt"

	"greenlever.example/greenlever/internal/app"
)

// NewEpoch starts a new generation of the installation, after its records were restored
// from a backup. Followers then take the restored state, older as it may be.
func (s *Service) NewEpoch(ctx context.Context, r Request) (json.RawMessage, error) {
	return s.do(ctx, r, func(_ Tx, c *commit) (any, error) {
		if err := app.AllowInstallation(&r.Actor); err != nil {
			return nil, err
		}
		if err := c.checkReason(); err != nil {
			return nil, err
		}
		epoch, err := c.raiseEpoch()
		return map[string]int64{"epoch": epoch}, err
	})
}

// EpochFor starts a new epoch by the service itself, for a cause: a stop must arrive where
// followers have had what the records lost.
func (s *Service) EpochFor(ctx context.Context, cause string) error {
	r := Request{Actor: app.Actor{Kind: "service", Through: "service", Cause: cause}}
	_, err := s.insist(ctx, r, func(_ Tx, c *commit) (any, error) {
		epoch, err := c.raiseEpoch()
		return map[string]int64{"epoch": epoch}, err
	})
	return err
}

func (c *commit) raiseEpoch() (int64, error) {
	before, err := c.tx.Epoch()
	if err != nil {
		return 0, err
	}
	epoch, err := c.tx.RaiseEpoch(c.at)
	if err != nil {
		return 0, err
	}
	c.moved.All = true
	e := c.entry("epoch.new", 0)
	e.Difference = []string{fmt.Sprintf("epoch %d → %d", before, epoch)}
	return epoch, c.access(e)
}
