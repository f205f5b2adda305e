package agent

import (
	"context"
	"os"
	"os/exec"
	"strings"

	"inkpost.example/inkpost/internal/contract"
)

// afterChange runs the command that is set, never through a shell, with what changed in its environment.
func (r *runner) afterChange(ctx context.Context, receipt contract.Receipt) {
	if len(r.o.After) == 0 {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, r.o.AfterLimit)
	defer cancel()
	cmd := exec.CommandContext(ctx, r.o.After[0], r.o.After[1:]...)
	cmd.Env = append(os.Environ(), "INKPOST_SITE="+r.state.Site, "INKPOST_LINK="+r.state.Link)
	for name, addresses := range map[string]string{"OLD": receipt.Old, "NEW": receipt.New} {
		four, six := "", ""
		for _, a := range strings.Fields(addresses) {
			switch {
			case strings.Contains(a, ":"):
				six = a
			case a != "-":
				four = a
			}
		}
		cmd.Env = append(cmd.Env, "INKPOST_"+name+"_IPV4="+four, "INKPOST_"+name+"_IPV6="+six)
	}
	out, err := cmd.CombinedOutput()
	if len(out) > 500 {
		out = out[:500]
	}
	switch {
	case ctx.Err() != nil:
		r.log.Warn("the command after a change took too long and was ended", "limit", r.o.AfterLimit, "command", r.o.After)
	case err != nil:
		r.log.Warn("the command after a change failed", "error", err, "command", r.o.After, "said", string(out))
	default:
		r.log.Info("the command after a change ran", "command", r.o.After)
	}
}
