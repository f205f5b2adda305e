package cli

import (
	"bufio"
	"context"
	"errors"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"inkpost.example/inkpost/internal/client"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/commission"
)

// followEvery is how often a run is read while somebody waits for it.
const followEvery = time.Second

// follow prints the steps of a run as they are over, says what to do about the one that is due, and takes answers at a terminal, until the
// run is finished, the time is over, or somebody leaves. Errors: those of the server; a moment without it is waited for.
func follow(cmd *cobra.Command, c *client.Client, run contract.Commissioning, limit time.Duration) (contract.Commissioning, error) {
	ctx, cancel := context.WithCancel(cmd.Context())
	defer cancel()
	if limit > 0 {
		ctx, cancel = context.WithTimeout(ctx, limit)
		defer cancel()
	}
	f := follower{cmd: cmd, shown: map[string]bool{}, quiet: cmd.Flag("format").Value.String() != "table"}
	answers := f.answers(ctx)
	tick := time.NewTicker(followEvery)
	defer tick.Stop()
	for {
		f.print(run)
		if run.Finished || !run.Ended.IsZero() {
			return run, nil
		}
		select {
		case <-ctx.Done():
			return run, nil
		case answer := <-answers:
			if answer == "q" {
				return run, nil
			}
			if err := f.answer(ctx, c, run, answer); err != nil {
				f.say("  %s", err)
			}
		case <-tick.C:
		}
		next, err := c.Commissioning(ctx, run.Site)
		var refused *client.Error
		switch {
		case err == nil:
			run = next
		case errors.As(err, &refused) && refused.Problem.Status < 500:
			return run, err // removed meanwhile, or the key is no longer valid
		}
	}
}

// follower remembers what of a run was printed.
type follower struct {
	cmd   *cobra.Command
	shown map[string]bool
	due   string
	quiet bool // a document is printed at the end, and nothing before it
	asks  bool
}

func (f *follower) say(format string, args ...any) {
	if !f.quiet {
		say(f.cmd, format, args...)
	}
}

// answers reads what is typed at a terminal.
func (f *follower) answers(ctx context.Context) <-chan string {
	in, ok := f.cmd.InOrStdin().(*os.File)
	if f.quiet || !ok || !term.IsTerminal(int(in.Fd())) {
		return nil
	}
	f.asks = true
	out := make(chan string)
	go func() {
		for lines := bufio.NewScanner(in); lines.Scan(); {
			select {
			case out <- strings.TrimSpace(lines.Text()):
			case <-ctx.Done():
				return
			}
		}
	}()
	return out
}

func (f *follower) print(run contract.Commissioning) {
	paint := painter(coloured(f.cmd))
	for _, e := range run.Entries {
		if key := string(e.Step) + e.Subject; e.State.Over() && !f.shown[key] {
			f.shown[key] = true
			f.say("%s", line(paint, e))
		}
	}
	e, ok := commission.Due(run.Entries)
	now := string(e.Step) + e.Subject + string(e.State) + e.Next
	if !ok || now == f.due {
		return
	}
	f.due = now
	f.say("%s", line(paint, e))
	if e.Next != "" {
		f.say("  %s", e.Next)
	} else if e.Do != "" {
		f.say("  %s", e.Do)
	}
	for _, card := range e.Cards {
		f.say("  %s, at %s:", paint(strong, card.Title), card.Where)
		for _, field := range card.Fields {
			f.say("    %s  %s", paint(faded, pad(field.Label, 18)), field.Value)
		}
		if card.Note != "" {
			f.say("    %s", card.Note)
		}
	}
	switch {
	case !f.asks:
	case e.ByWord && e.Provable:
		f.say("  %s", paint(faded, "Enter: done · p: have the agent prove the way in · s REASON: pass over · q: leave"))
	case e.ByWord:
		f.say("  %s", paint(faded, "Enter: done · s REASON: pass over · q: leave"))
	default:
		f.say("  %s", paint(faded, "it is watched · s REASON: pass over · q: leave"))
	}
}

// answer sends what was typed. Errors: those of the server, and what cannot be understood.
func (f *follower) answer(ctx context.Context, c *client.Client, run contract.Commissioning, typed string) error {
	e, ok := commission.Due(run.Entries)
	if !ok {
		return nil
	}
	in := contract.CommissioningAnswer{Step: e.Step, Subject: e.Subject, State: commission.Done}
	word, reason, _ := strings.Cut(typed, " ")
	switch word {
	case "":
		if !e.ByWord {
			return errors.New("that is seen, not said: it goes on by itself")
		}
	case "s":
		in.State, in.Words = commission.Skipped, strings.TrimSpace(reason)
	case "p":
		service, _ := strings.CutPrefix(e.Subject, "service ")
		p, err := c.ProveStep(ctx, run.Site, service)
		if err == nil {
			f.say("  %s\n  %s", p.Words, p.Next)
		}
		return err
	default:
		return usagef("type Enter, \"s REASON\" or \"q\"")
	}
	f.due = ""
	_, err := c.AnswerStep(ctx, run.Site, in)
	return err
}
