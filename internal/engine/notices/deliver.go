package notices

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/riverqueue/river"
	"github.com/riverqueue/river/rivertype"

	"inkpost.example/inkpost/internal/core/notice"
	"inkpost.example/inkpost/internal/engine/jobs"
	"inkpost.example/inkpost/internal/store"
	"inkpost.example/inkpost/internal/wire/hook"
	"inkpost.example/inkpost/internal/wire/mail"
	"inkpost.example/inkpost/internal/wire/webpush"
)

const (
	// deliverAtOnce is how many deliveries are tried at a time, and deliverLimit how long one may take.
	deliverAtOnce = 8
	deliverLimit  = 60 * time.Second
	// recordLimit is how long the database may take to keep how a delivery went.
	recordLimit = 5 * time.Second
	// giveUpAfter is how long a delivery is tried.
	giveUpAfter = 24 * time.Hour
	// sweptAtOnce is how many deliveries a sweep puts into the queue.
	sweptAtOnce = 5000
)

// pauses are how long is waited after each failed try; the last stands for all that follow.
var pauses = []time.Duration{10 * time.Second, 30 * time.Second, 2 * time.Minute, 5 * time.Minute, 15 * time.Minute, 30 * time.Minute,
	time.Hour}

// DeliverArgs is a job: it tries a delivery.
type DeliverArgs struct {
	Delivery int64 `json:"delivery"`
}

// Kind implements river.JobArgs.
func (DeliverArgs) Kind() string { return "deliver" }

// InsertOpts implements river.JobArgsWithInsertOpts.
func (DeliverArgs) InsertOpts() river.InsertOpts {
	o := jobs.Once()
	o.Queue = "notices"
	return o
}

type worker struct {
	river.WorkerDefaults[DeliverArgs]
	room *Room
}

// Timeout implements river.Worker.
func (w *worker) Timeout(*river.Job[DeliverArgs]) time.Duration { return deliverLimit }

// Work implements river.Worker. How a delivery went stands with it: a job that could not deliver is put off rather than failed.
func (w *worker) Work(ctx context.Context, job *river.Job[DeliverArgs]) error {
	wait, err := w.room.try(ctx, job.Args.Delivery)
	if err != nil { // nothing is known to have been sent, or it is not known to be: the receiver tells by the ID
		w.room.Log.Warn("a delivery was not recorded; it is tried again", "delivery", job.Args.Delivery, "error", err)
		return river.JobSnooze(pauses[0])
	}
	if wait > 0 {
		return river.JobSnooze(wait)
	}
	return nil
}

// deliver puts deliveries into the queue, and returns how many are being tried already. What gets lost on the way there, the next sweep
// finds.
func (r *Room) deliver(ctx context.Context, ids []int64) (running int) {
	if len(ids) == 0 {
		return 0
	}
	list := make([]river.InsertManyParams, len(ids))
	for i, id := range ids {
		list[i] = river.InsertManyParams{Args: DeliverArgs{Delivery: id}}
	}
	done, err := r.queue.Client().InsertMany(ctx, list)
	if err != nil && ctx.Err() == nil {
		r.Log.Warn("deliveries were not queued; the next sweep finds them", "deliveries", len(ids), "error", err)
	}
	for _, one := range done {
		if one.UniqueSkippedAsDuplicate && one.Job.State == rivertype.JobStateRunning {
			running++
		}
	}
	return running
}

// sweep puts every delivery that waits into the queue, where it is not in it already, and drops what is too old.
func (r *Room) sweep(ctx context.Context) {
	ids, err := r.store.WaitingDeliveries(ctx, sweptAtOnce)
	if err == nil {
		r.deliver(ctx, ids)
		err = r.store.DropNotices(ctx, r.Now().Add(-keepFor))
	}
	if err != nil && ctx.Err() == nil {
		r.Log.Warn("notices that wait could not be read; trying again", "error", err)
	}
}

// try tries a delivery once, and returns how long to wait for the next try; 0 where there is none. Error: that of the database.
func (r *Room) try(ctx context.Context, id int64) (wait time.Duration, err error) {
	list, err := r.store.Deliveries(ctx, store.DeliveryFilter{ID: id, Limit: 1})
	if err != nil || len(list) == 0 || list[0].State != store.DeliveryWaiting {
		return 0, err
	}
	d := list[0]
	target, err := r.send(ctx, d)
	if err != nil && errors.Is(ctx.Err(), context.Canceled) { // we are stopping: that says nothing of the receiver
		return pauses[0], nil
	}
	// How it went is written down although the time for it is over: what was sent would be sent again.
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), recordLimit)
	defer cancel()
	d, wait = after(d, target, err, r.Now())
	r.Counters.Delivered(string(d.Way), d.State)
	return wait, r.store.PutDelivery(ctx, d)
}

// after says how a delivery stands after a try that went to target and ended with err, and how long to wait for the next one; 0 where there
// is none.
func after(d store.Delivery, target string, err error, now time.Time) (next store.Delivery, wait time.Duration) {
	d.Tries++
	d.Target, d.Problem, d.State, d.Done = target, "", store.DeliverySent, now
	if err == nil {
		return d, 0
	}
	var refused mail.Refused
	var failed hook.Failed
	var unpushed webpush.Failed
	final := errors.As(err, &refused) && refused.Final || errors.As(err, &failed) && failed.Final || errors.As(err, &unpushed) &&
		unpushed.Final
	if d.Problem = err.Error(); final || now.Sub(d.Since) >= giveUpAfter {
		d.State = store.DeliveryFailed
		return d, 0
	}
	d.State, d.Done = store.DeliveryWaiting, time.Time{}
	return d, pauses[min(d.Tries, len(pauses))-1]
}

// send sends a delivery its way, and returns where to.
func (r *Room) send(ctx context.Context, d store.Delivery) (target string, err error) {
	switch d.Way {
	case notice.ByHook:
		return r.sendHook(ctx, d)
	case notice.ByPush:
		return r.sendPush(ctx, d)
	}
	people, err := r.store.PeopleMail(ctx)
	if err != nil {
		return "", err
	}
	name := strings.TrimPrefix(d.Notice.To, "person ")
	i := slices.IndexFunc(people, func(p store.PersonMail) bool { return p.Name == name })
	switch {
	case i < 0:
		return "", mail.Refused{At: "address", Words: name + " is not on record any more", Final: true}
	case people[i].Mail == "":
		return "", mail.Refused{At: "address",
			Words: "no mail address is on record for " + name + ": inkpost notice address " + name + " MAIL"}
	case r.Mail.Address == "":
		return people[i].Mail, mail.Refused{At: "server", Words: "this server has no mail server: inkpost serve --mail-server HOST"}
	}
	m, err := r.letter(d)
	if err != nil {
		return people[i].Mail, err
	}
	m.To = people[i].Mail
	_, err = r.Mail.Send(ctx, m)
	return m.To, err
}

// letter writes the mail of a delivery. Its ID is always the same: a receiver who gets it twice can tell.
func (r *Room) letter(d store.Delivery) (mail.Message, error) {
	c := d.Notice.Content
	l, err := mail.Write(c, r.Console)
	if err != nil {
		return mail.Message{}, mail.Refused{At: "write", Words: err.Error(), Final: true}
	}
	m := mail.Message{ID: fmt.Sprintf("notice.%d.%s@%s", d.ID, r.name, r.domain()), Subject: c.Subject, Text: l.Text, HTML: l.HTML,
		Date: d.Notice.Decided, Urgent: c.Serious && c.What != notice.Over}
	if c.FaultID != 0 {
		m.Thread = fmt.Sprintf("fault.%d.%s@%s", c.FaultID, r.name, r.domain())
	}
	if r.Console != "" {
		m.Unsubscribe = strings.TrimSuffix(r.Console, "/") + "/notices"
	}
	return m, nil
}

func (r *Room) sendHook(ctx context.Context, d store.Delivery) (target string, err error) {
	hooks, err := r.store.Hooks(ctx)
	if err != nil {
		return "", err
	}
	name := strings.TrimPrefix(d.Notice.To, "hook ")
	i := slices.IndexFunc(hooks, func(h store.Hook) bool { return h.Name == name })
	if i < 0 {
		return "", hook.Failed{Words: "hook " + name + " is not on record any more", Final: true}
	}
	return hooks[i].URL, r.Hooks.Send(ctx, hooks[i].URL, []byte(hooks[i].Secret), r.event(d))
}

// event makes the event of a delivery. Its ID is always the same.
func (r *Room) event(d store.Delivery) hook.Event {
	c := d.Notice.Content
	source := r.Console
	if source == "" {
		source = "urn:inkpost:" + r.name
	}
	return hook.Event{SpecVersion: "1.0", ID: fmt.Sprintf("notice.%d.%s", d.ID, r.name), Source: source,
		Type:    "inkpost.notice." + string(c.What),
		Subject: c.Site, Time: d.Notice.Decided, ContentType: "application/json", Data: c}
}
