// Package noticeedits edits who is told of what, and where notices go, and shows how they got there. It owns nothing.
//
// It holds no lock.
package noticeedits

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net/mail"
	"regexp"
	"strconv"
	"strings"
	"time"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/notice"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/engine/rooms"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/wire/hook"
	letter "inkpost.example/inkpost/internal/wire/mail"
)

// NoticeEdits is complete before anything of it is called. It is safe for concurrent use.
type NoticeEdits struct {
	Rooms *rooms.Rooms
}

// NoticeRules lists who is told of what. Error: that of the database.
func (e *NoticeEdits) NoticeRules(ctx context.Context) ([]notice.Rule, error) {
	return e.Rooms.Store.NoticeRules(ctx)
}

// AddNoticeRule adds a rule. Errors: site.Flaws, store.Missing, that of the database.
func (e *NoticeEdits) AddNoticeRule(ctx context.Context, in notice.Rule) (notice.Rule, error) {
	r, err := e.checkRule(in)
	if err != nil {
		return r, err
	}
	r.Created = e.Rooms.Now()
	if r.ID, err = e.Rooms.Store.AddNoticeRule(ctx, r); err == nil {
		e.Rooms.Notices.Edited()
	}
	return r, err
}

func (e *NoticeEdits) checkRule(in notice.Rule) (notice.Rule, error) {
	in.ID, in.Created = 0, time.Time{}
	r, err := in.Checked()
	if err == nil && r.Site != "" {
		p, missing := e.Rooms.FindSite(r.Site)
		r.Site, err = p.Code, missing
	}
	return r, err
}

// EditNoticeRule replaces a rule, and not whose it is. Errors: site.Flaws, store.Missing, that of the database.
func (e *NoticeEdits) EditNoticeRule(ctx context.Context, id int64, in notice.Rule) (notice.Rule, error) {
	list, err := e.Rooms.Store.NoticeRules(ctx)
	if err != nil {
		return in, err
	}
	for _, was := range list {
		if was.ID != id {
			continue
		}
		if in.Person == "" && in.Hook == "" {
			in.Person, in.Hook = was.Person, was.Hook
		}
		if in.Person != was.Person || in.Hook != was.Hook {
			return in, site.Flaws{{Field: "person", Detail: "a rule stays with whom it is for; add one for " + in.Person + in.Hook}}
		}
		r, err := e.checkRule(in)
		if err != nil {
			return r, err
		}
		r.ID, r.Created = id, was.Created
		if err = e.Rooms.Store.EditNoticeRule(ctx, r); err == nil {
			e.Rooms.Notices.Edited()
		}
		return r, err
	}
	return in, store.Missing{Kind: "rule", Name: strconv.FormatInt(id, 10)}
}

// RemoveNoticeRule removes a rule. Errors: store.Missing, that of the database.
func (e *NoticeEdits) RemoveNoticeRule(ctx context.Context, id int64) error {
	err := e.Rooms.Store.RemoveNoticeRule(ctx, id)
	if err == nil {
		e.Rooms.Notices.Edited()
	}
	return err
}

// Addressees lists the people with where notices to them go. Error: that of the database.
func (e *NoticeEdits) Addressees(ctx context.Context) ([]contract.Addressee, error) {
	list, err := e.Rooms.Store.PeopleMail(ctx)
	out := make([]contract.Addressee, len(list))
	for i, p := range list {
		out[i] = contract.Addressee(p)
	}
	return out, err
}

// SetAddressee says where notices to a person go. Errors: site.Flaws, store.Missing, that of the database.
func (e *NoticeEdits) SetAddressee(ctx context.Context, name string, in contract.AddresseeInput) (contract.Addressee, error) {
	var f site.Flaws
	in.Mail = strings.TrimSpace(in.Mail)
	if a, err := mail.ParseAddress(in.Mail); in.Mail != "" && (err != nil || a.Address != in.Mail) {
		f.Note("mail", fmt.Errorf("%q is no mail address; give one such as field@saltmarsh.example", in.Mail))
	}
	if _, err := time.LoadLocation(in.Zone); err != nil {
		f.Note("zone", fmt.Errorf("%q is no time zone; give one such as Europe/London, or UTC", in.Zone))
	}
	if err := f.Err(); err != nil {
		return contract.Addressee{}, err
	}
	err := e.Rooms.Store.PutPersonMail(ctx, store.PersonMail{Name: name, Mail: in.Mail, Zone: in.Zone})
	if err == nil {
		e.Rooms.Notices.Edited()
	}
	return contract.Addressee{Name: name, Mail: in.Mail, Zone: in.Zone}, err
}

// Hooks lists webhooks. Error: that of the database.
func (e *NoticeEdits) Hooks(ctx context.Context) ([]contract.Hook, error) {
	list, err := e.Rooms.Store.Hooks(ctx)
	out := make([]contract.Hook, len(list))
	for i, h := range list {
		out[i] = contract.Hook{Name: h.Name, URL: h.URL, Created: h.Created.Time}
	}
	return out, err
}

var hookName = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,30}[a-z0-9])?$`)

// AddHook adds a webhook, and returns its secret, which is shown this once. Errors: site.Flaws, store.Taken, that of the database.
func (e *NoticeEdits) AddHook(ctx context.Context, in contract.HookInput) (contract.Hook, error) {
	var f site.Flaws
	if !hookName.MatchString(in.Name) {
		f.Note("name", errors.New("takes 1 to 32 of a-z, 0-9 and hyphen, beginning and ending with a letter or digit"))
	}
	if err := hook.CheckURL(in.URL); err != nil {
		f.Note("url", err)
	}
	if err := f.Err(); err != nil {
		return contract.Hook{}, err
	}
	h := contract.Hook{Name: in.Name, URL: in.URL, Secret: rand.Text(), Created: e.Rooms.Now()}
	return h, e.Rooms.Store.AddHook(ctx, store.Hook{Name: h.Name, URL: h.URL, Secret: h.Secret})
}

// RemoveHook removes a webhook with its rules. Errors: store.Missing, that of the database.
func (e *NoticeEdits) RemoveHook(ctx context.Context, name string) error {
	err := e.Rooms.Store.RemoveHook(ctx, name)
	if err == nil {
		e.Rooms.Notices.Edited()
	}
	return err
}

// Notices lists the log of notices, the newest first. Error: that of the database.
func (e *NoticeEdits) Notices(ctx context.Context, f store.DeliveryFilter) ([]contract.Notice, error) {
	list, err := e.Rooms.Store.Deliveries(ctx, f)
	out := make([]contract.Notice, len(list))
	for i, d := range list {
		out[i] = noticeView(d)
	}
	return out, err
}

func noticeView(d store.Delivery) contract.Notice {
	return contract.Notice{ID: d.ID, To: d.Notice.To, Way: d.Way, State: d.State, Tries: d.Tries, Decided: d.Notice.Decided, Done: d.Done,
		Target: d.Target, Problem: d.Problem, What: d.Notice.Content.What, Subject: d.Notice.Content.Subject}
}

// Notice returns a notice with what it says. Errors: store.Missing, that of the database.
func (e *NoticeEdits) Notice(ctx context.Context, id int64) (contract.NoticeStory, error) {
	list, err := e.Rooms.Store.Deliveries(ctx, store.DeliveryFilter{ID: id, Limit: 1})
	if err == nil && len(list) == 0 {
		err = store.Missing{Kind: "notice", Name: strconv.FormatInt(id, 10)}
	}
	if err != nil {
		return contract.NoticeStory{}, err
	}
	l, err := letter.Write(list[0].Notice.Content, e.Rooms.ConsoleURL)
	return contract.NoticeStory{Notice: noticeView(list[0]), Content: list[0].Notice.Content, Text: l.Text}, err
}

// SendAgain sends a notice that was given up on its way again. Errors: store.Missing, that of the database.
func (e *NoticeEdits) SendAgain(ctx context.Context, id int64) error {
	return e.Rooms.Notices.Again(ctx, id)
}

// TestNotice sends a test at once, and tells each step. Errors: site.Flaws, store.Missing, that of the database.
func (e *NoticeEdits) TestNotice(ctx context.Context, in contract.NoticeTest) (contract.NoticeTrial, error) {
	if (in.Person == "") == (in.Hook == "") {
		return contract.NoticeTrial{}, site.Flaws{{Field: "person", Detail: "give either a person or a hook"}}
	}
	if in.Way != "" && (in.Hook != "" || in.Way != notice.ByMail && in.Way != notice.ByPush) {
		return contract.NoticeTrial{}, site.Flaws{{Field: "way", Detail: fmt.Sprintf("%q is no way to a person: mail and push are",
			in.Way)}}
	}
	t, err := e.Rooms.Notices.Try(ctx, in.Person, in.Hook, in.Way)
	out := contract.NoticeTrial{Target: t.Target, Good: t.Good, Steps: []contract.NoticeStep{}}
	for _, s := range t.Steps {
		out.Steps = append(out.Steps, contract.NoticeStep(s))
	}
	return out, err
}
