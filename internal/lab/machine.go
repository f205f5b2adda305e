package lab

import (
	"context"
	"sync"
	"time"
)

// machine is the always-on machine of a site, on which programs run.
type machine struct {
	mu      sync.Mutex
	up      time.Time
	restart chan struct{} // closed when it goes down
}

func newMachine() *machine { return &machine{up: time.Now(), restart: make(chan struct{})} }

// downFor is how long a machine is down when it restarts.
const downFor = time.Second

func (m *machine) now() (up time.Time, down <-chan struct{}) {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.up, m.restart
}

// MachineUp returns how long the always-on machine of a site has been up; 0 for a site that is not there.
func (w *World) MachineUp(code string) time.Duration {
	p, err := w.site(code)
	if err != nil {
		return 0
	}
	up, _ := p.machine.now()
	return time.Since(up)
}

// RunOn runs a program on the always-on machine of a site until ctx ends, and again after each restart. Errors: site.Missing, what the
// program ends with.
func (w *World) RunOn(ctx context.Context, code string, program func(context.Context) error) error {
	p, err := w.site(code)
	for err == nil && ctx.Err() == nil {
		_, down := p.machine.now()
		run, stop := context.WithCancel(ctx)
		ended := make(chan error, 1)
		go func() { ended <- program(run) }()
		select {
		case <-down:
			stop()
			<-ended
			select {
			case <-time.After(downFor):
			case <-ctx.Done():
			}
		case err = <-ended:
			stop()
			return err
		}
	}
	return err
}

// RestartMachine restarts the always-on machine of a site, with what runs on it. Error: site.Missing.
func (w *World) RestartMachine(code string) error {
	p, err := w.site(code)
	if err != nil {
		return err
	}
	m := p.machine
	m.mu.Lock()
	defer m.mu.Unlock()
	close(m.restart)
	m.up, m.restart = time.Now(), make(chan struct{})
	return nil
}
