package manage

import (
	"slices"

	"greenlever.example/greenlever/internal/app"
	"greenlever.example/greenlever/internal/app/webhooks"
)

var _ = listed(
	op[none, listOf[WebhookView]]("GET", atProject+"/webhooks", "Whom webhooks tell of what, and how that goes",
		(*call).webhooks).needs(app.Manage),
	op[webhookBody, webhooks.Saved]("POST", atProject+"/webhooks", "Make a webhook; its secret is shown once",
		(*call).addWebhook).below().change().needs(app.Manage),
	op[webhookBody, webhooks.Saved]("PUT", atProject+"/webhooks/:webhook", "Save whom a webhook tells of what",
		(*call).putWebhook).change().needs(app.Manage),
	op[reasonBody, webhooks.Saved]("POST", atProject+"/webhooks/:webhook/rotate",
		"Give a webhook a new secret; the old "+
			"one signs for a day more", (*call).rotateWebhook).change().needs(app.Manage),
	op[reasonBody, webhooks.Saved]("POST", atProject+"/webhooks/:webhook/remove",
		"Take a webhook away, with what it was "+
			"not told yet", (*call).removeWebhook).change().needs(app.Manage),
	op[replayBody, webhooks.Replayed]("POST", atProject+"/webhooks/:webhook/replay",
		"Tell a webhook again: some events "+
			"by their numbers, or all that were parked", (*call).replayWebhook).change().needs(app.Manage),
	op[none, listOf[app.Notice]]("GET", atProject+"/webhooks/:webhook/notices",
		"What a webhook was told, newest first, "+
			"and what waits", (*call).notices).needs(app.Manage),
)

// WebhookView is a webhook with how it goes.
type WebhookView struct {
	app.Webhook
	Waits   int `json:"waits"`
	Arrived int `json:"arrived"`
	Parked  int `json:"parked"`
	// Rotating is until when an old secret signs too, in Unix milliseconds.
	Rotating int64 `json:"rotating,omitempty"`
}

func (c *call) webhooks(*none) (any, error) {
	all, err := c.api.Records.Webhooks(c.ctx, c.p.ID)
	if err != nil {
		return nil, err
	}
	counts, err := c.api.Records.NoticeCounts(c.ctx, c.p.ID)
	if err != nil {
		return nil, err
	}
	out := listOf[WebhookView]{Items: []WebhookView{}}
	for _, w := range all {
		v := WebhookView{Webhook: w, Waits: counts[w.ID][app.NoticeWaits], Arrived: counts[w.ID][app.NoticeArrived],
			Parked: counts[w.ID][app.NoticeParked]}
		for _, s := range w.Secrets {
			if s.Until > c.api.Now().UnixMilli() {
				v.Rotating = s.Until
			}
		}
		out.Items = append(out.Items, v)
	}
	return out, nil
}

type webhookBody struct {
	webhooks.Put
	Reason string `json:"reason,omitempty"`
}

func (c *call) addWebhook(in *webhookBody) (any, error) { return c.apply(in.Reason, "", &in.Put) }

func (c *call) putWebhook(in *webhookBody) (any, error) {
	return c.apply(in.Reason, c.Param("webhook"), &in.Put)
}

func (c *call) rotateWebhook(in *reasonBody) (any, error) {
	return c.apply(in.Reason, c.Param("webhook"), &webhooks.Rotate{})
}

func (c *call) removeWebhook(in *reasonBody) (any, error) {
	return c.apply(in.Reason, c.Param("webhook"), &webhooks.Remove{})
}

type replayBody struct {
	webhooks.Replay
	Reason string `json:"reason,omitempty"`
}

func (c *call) replayWebhook(in *replayBody) (any, error) {
	return c.apply(in.Reason, c.Param("webhook"), &in.Replay)
}

// noticesShown is how many notices are listed.
const noticesShown = 200

func (c *call) notices(*none) (any, error) {
	all, err := c.api.Records.Webhooks(c.ctx, c.p.ID)
	if err != nil {
		return nil, err
	}
	if !slices.ContainsFunc(all, func(w app.Webhook) bool { return w.ID == c.Param("webhook") }) {
		return nil, app.Faultf(app.NotFound, "there is no webhook %s in this project", c.Param("webhook"))
	}
	items, err := c.api.Records.NoticesOf(c.ctx, c.Param("webhook"), noticesShown)
	return listOf[app.Notice]{items}, err
}
