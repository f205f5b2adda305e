// Package jobs is the durable queue of background work. It owns the queue and nothing else: rooms say what they can do before it opens, and
// put their work into it afterwards. What a job is for stands in the database already: a job only has it tried.
//
// No lock may be held when it is called.
package jobs

import (
	"context"
	"fmt"
	"log/slog"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"github.com/riverqueue/river"
	"github.com/riverqueue/river/riverdriver/riverpgxv5"
	"github.com/riverqueue/river/rivertype"
)

// Limit is how long a job may take that says nothing else.
const Limit = 20 * time.Second

// longestJob is how long any job may take: what runs for longer is run by nobody any more.
const longestJob = 90 * time.Second

// adoptEvery is how often jobs are looked for that another server has left half-done.
const adoptEvery = 5 * time.Second

// quietEvery is how often a queue asks for jobs that does not listen.
const quietEvery = 20 * time.Second

// Queue is the room. It is safe for concurrent use once it is open.
type Queue struct {
	pool     *pgxpool.Pool
	adopt    func(ctx context.Context, own string) error
	quiet    bool
	log      *slog.Logger
	workers  *river.Workers
	queues   map[string]river.QueueConfig
	periodic []*river.PeriodicJob
	client   *river.Client[pgx.Tx]
}

// New returns a queue that does nothing yet. adopt returns jobs to the queue that run by its record, and not by the client own:
// an earlier server left them half-done. A quiet queue does not listen to the database: it asks for jobs every quietEvery.
func New(pool *pgxpool.Pool, adopt func(ctx context.Context, own string) error, quiet bool, log *slog.Logger) *Queue {
	return &Queue{pool: pool, adopt: adopt, quiet: quiet, log: log, workers: river.NewWorkers(), queues: map[string]river.QueueConfig{}}
}

// Do has jobs of one kind done by w, so many of a queue's at a time.
func Do[T river.JobArgs](q *Queue, queue string, most int, w river.Worker[T]) {
	river.AddWorker(q.workers, w)
	q.queues[queue] = river.QueueConfig{MaxWorkers: max(most, q.queues[queue].MaxWorkers)}
}

// Every has a job done at once and at intervals.
func (q *Queue) Every(d time.Duration, args river.JobArgs) {
	q.periodic = append(q.periodic, river.NewPeriodicJob(river.PeriodicInterval(d),
		func() (river.JobArgs, *river.InsertOpts) { return args, nil }, &river.PeriodicJobOpts{RunOnStart: true}))
}

// Open makes the queue ready to take jobs. Error: what is wrong with how it was set up.
func (q *Queue) Open() (err error) {
	every := time.Second
	if q.quiet {
		every = quietEvery
	}
	q.client, err = river.NewClient(riverpgxv5.New(q.pool), &river.Config{Queues: q.queues, Workers: q.workers,
		Logger: slog.New(quiet{q.log.Handler()}), JobTimeout: Limit, RescueStuckJobsAfter: longestJob + 5*time.Second,
		CompletedJobRetentionPeriod: time.Hour, FetchCooldown: 20 * time.Millisecond, FetchPollInterval: every, PollOnly: q.quiet,
		PeriodicJobs: q.periodic})
	if err != nil {
		return fmt.Errorf("job queue: %w", err)
	}
	return nil
}

// Client is the open queue.
func (q *Queue) Client() *river.Client[pgx.Tx] { return q.client }

// Run has jobs done until ctx ends.
func (q *Queue) Run(ctx context.Context) {
	for {
		err := q.adopt(ctx, q.client.ID()) // only we write: jobs of others are run by nobody
		if err == nil {
			err = q.client.Start(ctx)
		}
		if err == nil {
			break
		}
		q.log.Warn("the job queue does not start; trying again", "error", err)
		select {
		case <-time.After(time.Second):
		case <-ctx.Done():
			return
		}
	}
	tick := time.NewTicker(adoptEvery)
	defer tick.Stop()
	for ctx.Err() == nil {
		select {
		case <-tick.C:
			if err := q.adopt(ctx, q.client.ID()); err != nil && ctx.Err() == nil {
				q.log.Warn("jobs that another server may have left half-done are not looked for; trying again", "error", err)
			}
		case <-ctx.Done():
		}
	}
	bounded, cancel := context.WithTimeout(context.WithoutCancel(ctx), 5*time.Second)
	defer cancel()
	_ = q.client.StopAndCancel(bounded)
}

// Once keeps jobs of the same arguments from being in the queue twice.
func Once() river.InsertOpts {
	return river.InsertOpts{MaxAttempts: 1 << 14, UniqueOpts: river.UniqueOpts{ByArgs: true, ByState: []rivertype.JobState{
		rivertype.JobStateAvailable, rivertype.JobStatePending, rivertype.JobStateRunning, rivertype.JobStateScheduled,
		rivertype.JobStateRetryable}}}
}

// quiet keeps the queue's own messages out of the log, except warnings and errors.
type quiet struct{ slog.Handler }

// Enabled implements slog.Handler.
func (q quiet) Enabled(ctx context.Context, l slog.Level) bool {
	return l >= slog.LevelWarn && q.Handler.Enabled(ctx, l)
}
