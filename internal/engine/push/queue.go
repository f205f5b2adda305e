package push

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivertype"

	"inkpost.example/inkpost/internal/core/names"
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
	return river.InsertOpts{MaxAttempts: 1 << 14, UniqueOpts: river.UniqueOpts{ByArgs: true, ByState: []rivertype.JobState{
		rivertype.JobStateAvailable, rivertype.JobStatePending, rivertype.JobStateRunning, rivertype.JobStateScheduled,
		rivertype.JobStateRetryable}}}
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

// newQueue makes the durable queue of names on their way to remote primaries. There is one job a name at most: a name that changes while
// its job waits is not queued again, as the job takes the newest value when it runs.
func newQueue(p *Pusher, pool *pgxpool.Pool) (*river.Client[pgx.Tx], error) {
	workers := river.NewWorkers()
	river.AddWorker(workers, &worker{pusher: p})
	river.AddWorker(workers, &retainWorker{pusher: p})
	client, err := river.NewClient(riverpgxv5.New(pool), &river.Config{
		Queues: map[string]river.QueueConfig{river.QueueDefault: {MaxWorkers: maxWorkers}}, Workers: workers,
		Logger: slog.New(quiet{p.log.Handler()}), JobTimeout: jobLimit, RescueStuckJobsAfter: jobLimit + 5*time.Second,
		CompletedJobRetentionPeriod: time.Hour,
		FetchCooldown:               20 * time.Millisecond, FetchPollInterval: time.Second,
		PeriodicJobs: []*river.PeriodicJob{river.NewPeriodicJob(river.PeriodicInterval(retainEvery),
			func() (river.JobArgs, *river.InsertOpts) { return RetainArgs{}, nil }, &river.PeriodicJobOpts{RunOnStart: true})},
	})
	if err != nil {
		return nil, fmt.Errorf("job queue: %w", err)
	}
	return client, nil
}

// jobLimit is how long a job may take.
const jobLimit = 20 * time.Second

// quiet keeps the queue's own messages out of the log, except warnings and errors.
type quiet struct{ slog.Handler }

// Enabled implements slog.Handler.
func (q quiet) Enabled(ctx context.Context, l slog.Level) bool {
	return l >= slog.LevelWarn && q.Handler.Enabled(ctx, l)
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
	var jobs []river.InsertManyParams
	for k := range group {
		jobs = append(jobs, river.InsertManyParams{Args: PushArgs{Zone: k.zoneID, Name: k.name}})
	}
	done, err := p.river.InsertMany(ctx, jobs)
	if err != nil {
		return err
	}
	for i, one := range done {
		args := jobs[i].Args.(PushArgs)
		k := key{args.Zone, args.Name}
		switch {
		case !one.UniqueSkippedAsDuplicate:
		case one.Job.State == rivertype.JobStateRunning:
			time.AfterFunc(endedSoon, func() { p.add(k, group[k]) })
		case group[k]:
			if _, err := p.river.JobRetry(ctx, one.Job.ID); err != nil && !errors.Is(err, river.ErrNotFound) {
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

// Run keeps the queue going until ctx ends: names that were added become jobs, and at intervals every name that is
// due does, whatever was lost on the way.
func (p *Pusher) Run(ctx context.Context) {
	for {
		err := p.table.AdoptJobs(ctx) // only we write: jobs marked as running are run by nobody
		if err == nil {
			err = p.river.Start(ctx)
		}
		if err == nil {
			break
		}
		p.log.Warn("the job queue does not start; trying again", "error", err)
		select {
		case <-time.After(time.Second):
		case <-ctx.Done():
			return
		}
	}
	defer func() {
		bounded, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
		defer cancel()
		_ = p.river.StopAndCancel(bounded)
	}()
	sweep := time.NewTicker(sweepEvery)
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
