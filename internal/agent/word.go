package agent

import (
	"context"
	"net/netip"
	"sync"
	"time"

	"inkpost.example/inkpost/internal/agent/source"
	"inkpost.example/inkpost/internal/contract"
)

// wordFloor is the least time between two rounds of questions to the router about its ports, whoever asks for them.
const wordFloor = 10 * time.Second

// words has the router asked for its word on the watched ports: not more often than wordFloor, and once for all who want to know meanwhile.
type words struct {
	mu      sync.Mutex
	last    time.Time
	waiting bool
}

// next says how long to wait before the router is asked; ok is false if somebody waits for that already.
func (w *words) next(now time.Time) (wait time.Duration, ok bool) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.waiting {
		return 0, false
	}
	w.waiting = true
	return max(0, w.last.Add(wordFloor).Sub(now)), true
}

func (w *words) begin(now time.Time) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.last, w.waiting = now, false
}

// askRouter asks the router what it lists for the ports of the link's services, and tells the server.
func (r *runner) askRouter(ctx context.Context, watched []contract.WatchedDevice) {
	if !r.asks.Load() {
		return
	}
	wait, ok := r.words.next(time.Now())
	if !ok {
		return
	}
	r.side.Go(func() {
		there := pause(ctx, wait)
		r.words.begin(time.Now())
		if !there {
			return
		}
		services, ports := r.forwarded(watched)
		w := r.gateway.Word(ctx, ports)
		out := contract.GatewayWord{UpSeconds: w.Up.Seconds(), Line: w.Line, LineUpSeconds: w.LineUp.Seconds(), Trouble: w.Trouble}
		for i, p := range w.Ports {
			one := contract.ListedPort{Service: services[i], LeaseSeconds: p.Lease.Seconds(), Description: p.Description}
			if p.To.IsValid() {
				one.To = p.To.String()
			}
			out.Ports = append(out.Ports, one)
		}
		if ctx.Err() != nil || w.Silent() {
			return
		}
		if err := r.to.any.ReportLAN(ctx, contract.LANReport{Devices: []contract.DeviceReport{}, Gateway: &out}); err != nil {
			r.log.Warn("the router's word could not be sent", "error", err)
		}
	})
}

// forwarded lists the services of the link that the router forwards, and their external ports.
func (r *runner) forwarded(watched []contract.WatchedDevice) (services []string, ports []source.Port) {
	own := r.own.Load()
	for _, d := range watched {
		for _, p := range d.Ports {
			at, err := netip.ParseAddrPort(p.Public)
			if err != nil || own != nil && own.IPv4.IsValid() && at.Addr() != own.IPv4 {
				continue
			}
			transport := p.Transport
			if transport != "udp" {
				transport = "tcp"
			}
			services = append(services, p.Service)
			ports = append(ports, source.Port{Transport: transport, External: int(at.Port())})
		}
	}
	return services, ports
}
