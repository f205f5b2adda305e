package client

import (
	"context"
	"strconv"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/notice"
)

// Notices lists notices and how they got to their recipients, the newest first: at most limit, of one state if it is not "".
func (c *Client) Notices(ctx context.Context, state string, limit int) ([]contract.Notice, error) {
	return call[[]contract.Notice](ctx, c, "GET", "/notices"+query("state", state, "limit", strconv.Itoa(limit)), nil)
}

// Notice returns a notice with what it says.
func (c *Client) Notice(ctx context.Context, id int64) (contract.NoticeStory, error) {
	return call[contract.NoticeStory](ctx, c, "GET", at("notices", strconv.FormatInt(id, 10)), nil)
}

// SendAgain sends a notice that was given up on its way again.
func (c *Client) SendAgain(ctx context.Context, id int64) error {
	_, err := call[struct{}](ctx, c, "POST", at("notices", strconv.FormatInt(id, 10), "again"), nil)
	return err
}

// TestNotice sends a test at once, and tells each step.
func (c *Client) TestNotice(ctx context.Context, in contract.NoticeTest) (contract.NoticeTrial, error) {
	return call[contract.NoticeTrial](ctx, c, "POST", "/notice-tests", in)
}

// NoticeRules lists who is told of what.
func (c *Client) NoticeRules(ctx context.Context) ([]notice.Rule, error) {
	return call[[]notice.Rule](ctx, c, "GET", "/notice-rules", nil)
}

// AddNoticeRule has a person or a webhook told of something.
func (c *Client) AddNoticeRule(ctx context.Context, in notice.Rule) (notice.Rule, error) {
	return call[notice.Rule](ctx, c, "POST", "/notice-rules", in)
}

// EditNoticeRule replaces a rule.
func (c *Client) EditNoticeRule(ctx context.Context, id int64, in notice.Rule) (notice.Rule, error) {
	return call[notice.Rule](ctx, c, "PUT", at("notice-rules", strconv.FormatInt(id, 10)), in)
}

// RemoveNoticeRule removes a rule.
func (c *Client) RemoveNoticeRule(ctx context.Context, id int64) error {
	_, err := call[struct{}](ctx, c, "DELETE", at("notice-rules", strconv.FormatInt(id, 10)), nil)
	return err
}

// Addressees lists people with where notices to them go.
func (c *Client) Addressees(ctx context.Context) ([]contract.Addressee, error) {
	return call[[]contract.Addressee](ctx, c, "GET", "/addressees", nil)
}

// SetAddressee says where notices to a person go.
func (c *Client) SetAddressee(ctx context.Context, name string, in contract.AddresseeInput) (contract.Addressee, error) {
	return call[contract.Addressee](ctx, c, "PUT", at("addressees", name), in)
}

// Hooks lists webhooks.
func (c *Client) Hooks(ctx context.Context) ([]contract.Hook, error) {
	return call[[]contract.Hook](ctx, c, "GET", "/hooks", nil)
}

// AddHook adds a webhook, and returns its secret, which is shown this once.
func (c *Client) AddHook(ctx context.Context, in contract.HookInput) (contract.Hook, error) {
	return call[contract.Hook](ctx, c, "POST", "/hooks", in)
}

// RemoveHook removes a webhook with its rules.
func (c *Client) RemoveHook(ctx context.Context, name string) error {
	_, err := call[struct{}](ctx, c, "DELETE", at("hooks", name), nil)
	return err
}

// PushKey returns the public key with which a browser subscribes.
func (c *Client) PushKey(ctx context.Context) (contract.PushKey, error) {
	return call[contract.PushKey](ctx, c, "GET", "/push-key", nil)
}

// PushBrowsers lists one's own browsers that are told by push.
func (c *Client) PushBrowsers(ctx context.Context) ([]contract.PushBrowser, error) {
	return call[[]contract.PushBrowser](ctx, c, "GET", "/push-browsers", nil)
}

// Subscribe has a browser be told by push.
func (c *Client) Subscribe(ctx context.Context, in contract.PushInput) (contract.PushBrowser, error) {
	return call[contract.PushBrowser](ctx, c, "POST", "/push-browsers", in)
}

// Unsubscribe has a browser no longer be told.
func (c *Client) Unsubscribe(ctx context.Context, id int64) error {
	return c.remove(ctx, "push-browsers", strconv.FormatInt(id, 10))
}
