package main

import (
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/miekg/dns"
)

const (
	apex      = "isles.saltmarsh.example"
	zoneNames = 10_000
	keyName   = "bench.saltmarsh.example"
	keySecret = "c2xpcHdheS1nYW5uZXQta2V0dGxlLWZlcnJ5LTAwMDE="
)

// zoneText is the zone of 10,000 names that every server has.
func zoneText() string {
	var out strings.Builder
	fmt.Fprintf(&out, "$ORIGIN %s.\n$TTL 30\n@ 300 SOA ns1.elsewhere.example. hostmaster.elsewhere.example. 1 3600 300 1209600 "+
		"30\n@ 300 NS ns1.elsewhere.example.\n", apex)
	for i := range zoneNames {
		fmt.Fprintf(&out, "site-%d 30 A 198.51.100.%d\n", i, i%250+1)
	}
	return out.String()
}

// server is a peer that runs as a process of its own.
type server struct {
	name string
	port int
	cmd  *exec.Cmd
}

func (s server) stop() {
	_ = s.cmd.Process.Signal(os.Interrupt)
	done := make(chan struct{})
	go func() { _ = s.cmd.Wait(); close(done) }()
	select {
	case <-done:
	case <-time.After(5 * time.Second):
		_ = s.cmd.Process.Kill()
		<-done
	}
}

func freePort() (int, error) {
	for range 20 {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return 0, err
		}
		port := l.Addr().(*net.TCPAddr).Port
		u, err := net.ListenPacket("udp", l.Addr().String())
		_ = l.Close()
		if err == nil {
			return port, u.Close()
		}
	}
	return 0, errors.New("no port is free on UDP and TCP")
}

func (r rig) start(name, config string, args ...string) (server, error) {
	port, err := freePort()
	if err != nil {
		return server{}, err
	}
	dir := filepath.Join(r.dir, name)
	if _, err := r.write(name+"/zone.db", zoneText()); err != nil {
		return server{}, err
	}
	fill := strings.NewReplacer("DIR", dir, "PORT", fmt.Sprint(port), "ZONE", apex, "KEY", keyName, "SECRET", keySecret)
	if _, err := r.write(name+"/conf", fill.Replace(config)); err != nil {
		return server{}, err
	}
	for i := range args {
		args[i] = fill.Replace(args[i])
	}
	log, err := os.Create(filepath.Join(dir, "log"))
	if err != nil {
		return server{}, err
	}
	s := server{name: name, port: port, cmd: exec.Command(args[0], args[1:]...)}
	s.cmd.Stdout, s.cmd.Stderr, s.cmd.Dir = log, log, dir
	if err := s.cmd.Start(); err != nil {
		return server{}, err
	}
	if err := answering(port); err != nil {
		s.stop()
		said, _ := os.ReadFile(filepath.Join(dir, "log"))
		return server{}, fmt.Errorf("%s: %w\n%s", name, err, said)
	}
	return s, nil
}

func answering(port int) error {
	c := dns.Client{Timeout: time.Second}
	for range 100 {
		r, _, err := c.Exchange(new(dns.Msg).SetQuestion("site-77."+apex+".", dns.TypeA), fmt.Sprintf("127.0.0.1:%d", port))
		if err == nil && len(r.Answer) == 1 {
			return nil
		}
		time.Sleep(100 * time.Millisecond)
	}
	return errors.New("it does not answer for the zone")
}

func (r rig) nsd() (server, error) {
	return r.start("NSD", `server:
  ip-address: 127.0.0.1@PORT
  username: ""
  chroot: ""
  database: ""
  pidfile: ""
  zonesdir: "DIR"
  xfrdir: "DIR"
  xfrdfile: "DIR/xfrd.state"
  zonelistfile: "DIR/zone.list"
  server-count: 1
  minimal-responses: yes
remote-control:
  control-enable: no
zone:
  name: "ZONE"
  zonefile: "DIR/zone.db"
`, "nsd", "-d", "-c", "DIR/conf")
}

func (r rig) bind() (server, error) {
	return r.start("BIND", `options { directory "DIR"; listen-on port PORT { 127.0.0.1; }; listen-on-v6 { none; }; recursion no; `+
		`pid-file none;
  session-keyfile "session.key"; minimal-responses yes; notify no; allow-query { any; }; dnssec-validation no; };
controls { };
logging { category default { null; }; category update { null; }; category update-security { null; }; };
key "KEY" { algorithm hmac-sha256; secret "SECRET"; };
zone "ZONE" { type primary; file "zone.db"; update-policy { grant "KEY" zonesub ANY; }; };
`, "named", "-f", "-n", "1", "-c", "DIR/conf")
}

func (r rig) knot() (server, error) {
	return r.start("Knot", `server:
    rundir: "DIR"
    listen: 127.0.0.1@PORT
    udp-workers: 1
    tcp-workers: 1
    background-workers: 1
database:
    storage: "DIR"
log:
  - target: stderr
    any: error
key:
  - id: KEY
    algorithm: hmac-sha256
    secret: SECRET
acl:
  - id: push
    key: KEY
    action: [update, transfer]
zone:
  - domain: ZONE
    storage: "DIR"
    file: zone.db
    acl: push
    zonefile-sync: -1
    zonefile-load: difference
    journal-content: changes
`, "knotd", "-c", "DIR/conf")
}

// spent is processor time, in seconds: all of it, and what of it the kernel took.
type spent struct{ all, kernel float64 }

func (s spent) since(before spent) spent { return spent{s.all - before.all, s.kernel - before.kernel} }

// ticks returns the processor time of a process and of its children, where it answers from children.
func (s server) ticks() (total spent, err error) {
	pids := []int{s.cmd.Process.Pid}
	for i := 0; i < len(pids); i++ {
		text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pids[i]))
		if err != nil {
			return total, err
		}
		fields := strings.Fields(string(text[strings.LastIndexByte(string(text), ')')+1:]))
		for i, f := range fields[11:13] { // utime, stime
			n, err := strconv.ParseFloat(f, 64)
			if err != nil {
				return total, err
			}
			total.all += n / 100 // USER_HZ
			if i == 1 {
				total.kernel += n / 100
			}
		}
		children, _ := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/children", pids[i], pids[i]))
		for _, f := range strings.Fields(string(children)) {
			if pid, err := strconv.Atoi(f); err == nil {
				pids = append(pids, pid)
			}
		}
	}
	return total, nil
}
