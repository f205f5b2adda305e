package push

import (
	"context"
	"errors"
	"time"

	"github.com/riverqueue/river"
	"github.com/riverqueue/river/rivertype"

	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/engine/jobs"
	"inkpost.example/inkpost/internal/engine/rounds"
)

type adding struct {
	key key
	now bool
}

// PushArgs is a job: it carries one name to its remote zone's primary.
type PushArgs struct {
	Zone int64      `json:"zone"`
	Name names.Name `json:"name"`
}

// Kind implements river.JobArgs.
func (PushArgs) Kind() string { return "push" }

// InsertOpts implements river.JobArgsWithInsertOpts.
func (PushArgs) InsertOpts() river.InsertOpts {
	return jobs.Once()
}

type worker struct {
	river.WorkerDefaults[PushArgs]
	pusher *Pusher
}

// Work implements river.Worker. A job that cannot be done yet is put off rather than failed: its tries are counted with
// the name, and no list of errors grows in the database.
func (w *worker) Work(ctx context.Context, job *river.Job[PushArgs]) error {
	k := key{job.Args.Zone, job.Args.Name}
	wait, err := w.pusher.push(ctx, k)
	if w.pusher.state.setNext(k, time.Time{}); wait > 0 {
		w.pusher.state.setNext(k, w.pusher.now().Add(wait))
	}
	if err != nil {
		w.pusher.log.Warn("a push was not recorded", "name", job.Args.Name, "error", err)
		return river.JobSnooze(max(wait, firstRetry))
	}
	if wait > 0 {
		return river.JobSnooze(wait)
	}
	return nil
}

// retainEvery is how often old history is dropped.
const retainEvery = 12 * time.Hour

// RetainArgs is a job: it makes room for the history to come, and drops what is too old.
type RetainArgs struct{}

// Kind implements river.JobArgs.
func (RetainArgs) Kind() string { return "retain" }

// KindAliases implements river.JobArgsWithKindAliases: jobs that an older server left are of that kind.
func (RetainArgs) KindAliases() []string { return []string{"keep"} }

// InsertOpts implements river.JobArgsWithInsertOpts.
func (RetainArgs) InsertOpts() river.InsertOpts {
	return river.InsertOpts{MaxAttempts: 5, UniqueOpts: river.UniqueOpts{ByPeriod: time.Hour}}
}

type retainWorker struct {
	river.WorkerDefaults[RetainArgs]
	pusher *Pusher
}

// Work implements river.Worker.
func (w *retainWorker) Work(ctx context.Context, _ *river.Job[RetainArgs]) error {
	return w.pusher.host.Retain(ctx)
}

// add queues a name soon; with now, one that waits for its next try is tried at once. A full channel drops it: the next
// sweep finds it due.
func (p *Pusher) add(k key, now bool) {
	select {
	case p.added <- adding{k, now}:
	default:
	}
}

// insert makes jobs of names. A name whose job is just being ended comes back soon: that job may have taken an older value.
func (p *Pusher) insert(ctx context.Context, group map[key]bool) error {
	var list []river.InsertManyParams
	for k := range group {
		list = append(list, river.InsertManyParams{Args: PushArgs{Zone: k.zoneID, Name: k.name}})
	}
	done, err := p.queue.Client().InsertMany(ctx, list)
	if err != nil {
		return err
	}
	for i, one := range done {
		args := list[i].Args.(PushArgs)
		k := key{args.Zone, args.Name}
		switch {
		case !one.UniqueSkippedAsDuplicate:
		case one.Job.State == rivertype.JobStateRunning:
			time.AfterFunc(endedSoon, func() { p.add(k, group[k]) })
		case group[k]:
			if _, err := p.queue.Client().JobRetry(ctx, one.Job.ID); err != nil && !errors.Is(err, river.ErrNotFound) {
				return err
			}
		}
	}
	return nil
}

const (
	maxGroup   = 1024 // names that become jobs together
	sweepEvery = 5 * time.Second
	endedSoon  = 100 * time.Millisecond
)

// Run fills the queue until ctx ends: names that were added become jobs, and at intervals every name that is
// due does, whatever was lost on the way.
func (p *Pusher) Run(ctx context.Context) {
	sweep := rounds.Every(sweepEvery)
	defer sweep.Stop()
	all := func(now bool) {
		for _, z := range p.record.Zones() {
			p.Due(z, now)
		}
	}
	all(true) // whatever pause an earlier server had set
	for {
		var first adding
		select {
		case first = <-p.added:
		case <-sweep.C:
			sweep.Begun()
			all(false)
			continue
		case <-ctx.Done():
			return
		}
		group := map[key]bool{first.key: first.now}
	collect:
		for len(group) < maxGroup {
			select {
			case next := <-p.added:
				group[next.key] = group[next.key] || next.now
			default:
				break collect
			}
		}
		if err := p.insert(ctx, group); err != nil && ctx.Err() == nil {
			p.log.Warn("pushes not queued; the next sweep finds them", "names", len(group), "error", err)
		}
	}
}
