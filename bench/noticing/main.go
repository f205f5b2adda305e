// Command noticing measures how long it takes from a provider's change of address to the announcement being recorded, and to the hostname
// leading there, over 200 changes in the lab: told by the router at once, and by the regular check alone.
//
//	go run ./bench/noticing
package main

import (
	"context"
	"flag"
	"fmt"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"inkpost.example/inkpost/bench/figures"
	"inkpost.example/inkpost/internal/agent"
	"inkpost.example/inkpost/internal/agent/source"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/daemon"
	"inkpost.example/inkpost/internal/lab"
	"inkpost.example/inkpost/internal/store/cluster"
	"inkpost.example/inkpost/internal/wire/dnsask"
)

// sites share the changes: one that moves more often than four times in five minutes is damped.
const sites = 100

func main() {
	changes := flag.Int("changes", 200, "how many changes are made, each way")
	flag.Parse()
	for _, told := range []bool{true, false} {
		if err := measure(context.Background(), told, *changes); err != nil {
			fmt.Fprintln(os.Stderr, "noticing:", err)
			os.Exit(1)
		}
	}
}

const apex = "isles.saltmarsh.example"

func named(code string) string { return strings.ToLower(code) + "." + apex }

func measure(ctx context.Context, told bool, changes int) error {
	dir, err := os.MkdirTemp("", "inkpost-noticing-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o711); err != nil {
		return err
	}
	c, err := cluster.Start(ctx, cluster.Options{Dir: filepath.Join(dir, "db")})
	if err != nil {
		return err
	}
	defer c.Stop()
	d, err := daemon.Start(ctx, daemon.Options{Database: c.URL("inkpost"), HTTP: "127.0.0.1:0", DNS: "127.0.0.1:0",
		STUN: "127.0.0.1:0", CheckEvery: 15 * time.Second, VerifyEvery: time.Hour,
		Policy: wan.Policy{StandIns: []netip.Prefix{lab.Public}}, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		return err
	}
	defer d.Stop()
	var specs []lab.SiteSpec
	gateway := func(i int) netip.Addr { return netip.AddrFrom4([4]byte{127, 203, byte(i), 1}) }
	for i := range sites {
		link := lab.LinkSpec{Label: "main", Provider: "Kettle Cable"}
		if told {
			link.Gateway = gateway(i)
		}
		specs = append(specs, lab.SiteSpec{Code: fmt.Sprintf("BEN-%02d", i), Links: []lab.LinkSpec{link}})
	}
	world, err := lab.New(specs, slog.New(slog.DiscardHandler))
	if err != nil {
		return err
	}
	defer world.Close()
	run, stop := context.WithCancel(ctx)
	var agents sync.WaitGroup
	defer agents.Wait()
	defer stop()
	if _, err := d.Engine().AddZone(ctx, contract.ZoneInput{Apex: apex, Servers: []string{"ns1.elsewhere.example"}}); err != nil {
		return err
	}
	for i, s := range specs {
		if _, err := d.Engine().AddSite(ctx, contract.SiteInput{Code: s.Code, Name: "Bench"}); err != nil {
			return err
		}
		if _, err := d.Engine().AddLink(ctx, s.Code, contract.LinkInput{Label: "main"}); err != nil {
			return err
		}
		if _, err := d.Engine().AddHostname(ctx, contract.HostnameInput{Name: named(s.Code), Site: s.Code}); err != nil {
			return err
		}
		inv, err := d.Engine().Invite(ctx, s.Code, "main", contract.InvitationInput{})
		if err != nil {
			return err
		}
		dial, err := world.Dial(s.Code, "main")
		if err != nil {
			return err
		}
		o := agent.Options{Server: d.URL, Code: inv.Code, StateDir: filepath.Join(dir, s.Code), Dial: dial,
			Network: source.Network{Gateway: gateway(i), Search: netip.AddrPortFrom(gateway(i), 1900), Dial: (&net.Dialer{}).DialContext}}
		agents.Go(func() { _ = agent.Run(run, o) })
	}
	address := func(code string) string {
		l, err := d.Engine().Link(code, "main")
		if err != nil {
			return ""
		}
		return l.Addresses().String()
	}
	for _, s := range specs {
		for address(s.Code) == "-" {
			time.Sleep(20 * time.Millisecond)
		}
	}
	time.Sleep(6 * time.Second) // the routers are subscribed to
	var mu sync.Mutex
	var took, answered []time.Duration
	var wg sync.WaitGroup
	for i := range sites {
		wg.Go(func() {
			for range (changes + sites - 1 - i) / sites {
				time.Sleep(time.Duration(rand.Int64N(int64(15 * time.Second)))) // at any moment between two checks
				r, err := world.Renumber(specs[i].Code, "main")
				if err != nil {
					return
				}
				began := time.Now()
				for address(specs[i].Code) != r.New && time.Since(began) < time.Minute {
					time.Sleep(time.Millisecond)
				}
				recorded := time.Since(began)
				for time.Since(began) < time.Minute {
					given, err := dnsask.Addresses(ctx, d.DNS, dnsask.Authoritative, names.Name(named(specs[i].Code)))
					if err == nil && given.IPv4.String() == r.New {
						break
					}
					time.Sleep(time.Millisecond)
				}
				mu.Lock()
				took, answered = append(took, recorded), append(answered, time.Since(began))
				mu.Unlock()
			}
		})
	}
	wg.Wait()
	words := "by the regular check (every 15 s)"
	if told {
		words = "told by the router (IGD notice)"
	}
	for _, x := range []struct {
		what string
		took []time.Duration
	}{{"recorded", took}, {"answered by name", answered}} {
		slices.Sort(x.took)
		at := func(share float64) time.Duration {
			return figures.Quantile(x.took, share).Round(time.Millisecond)
		}
		figures.Plain("noticing", "a provider's change of address "+x.what+", "+words+", median", at(0.5).Seconds(), "s", "")
		figures.Plain("noticing", "a provider's change of address "+x.what+", "+words+", 99 %", at(0.99).Seconds(), "s", "")
		fmt.Printf("%-17s %-34s %d changes: fastest %s, median %s, 90 %% %s, 99 %% %s, slowest %s\n", x.what, words, len(x.took), at(0),
			at(0.5), at(0.9), at(0.99), at(1))
	}
	return nil
}
