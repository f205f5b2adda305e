package agent

import (
	"context"
	"net/netip"
	"os"
	"os/exec"
	"strings"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/wan"
)

// pairIn reads the addresses of a receipt. Anything else is left out: a command is not handed text from the server.
func pairIn(addresses string) (p wan.Pair) {
	for _, text := range strings.Fields(addresses) {
		if a, err := netip.ParseAddr(text); err == nil && a.Zone() == "" {
			p = p.With(a.Unmap().Is6(), a.Unmap())
		}
	}
	return p
}

func textOf(a netip.Addr) string {
	if !a.IsValid() {
		return ""
	}
	return a.String()
}

// plainWord returns a site's code or a link's label; "" for what is neither.
func plainWord(s string) string {
	if len(s) > 64 || strings.IndexFunc(s, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '-' || r == '_' || r == '.')
	}) >= 0 {
		return ""
	}
	return s
}

// afterChange runs the command that is set, never through a shell, with what changed in its environment.
func (r *runner) afterChange(ctx context.Context, receipt contract.Receipt) {
	if len(r.o.After) == 0 {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, r.o.AfterLimit)
	defer cancel()
	cmd := exec.CommandContext(ctx, r.o.After[0], r.o.After[1:]...)
	cmd.Env = append(os.Environ(), "INKPOST_SITE="+plainWord(r.state.Site), "INKPOST_LINK="+plainWord(r.state.Link))
	for name, addresses := range map[string]string{"OLD": receipt.Old, "NEW": receipt.New} {
		p := pairIn(addresses)
		cmd.Env = append(cmd.Env, "INKPOST_"+name+"_IPV4="+textOf(p.IPv4), "INKPOST_"+name+"_IPV6="+textOf(p.IPv6))
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
