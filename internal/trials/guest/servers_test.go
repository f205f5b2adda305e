package guest_test

import (
	"fmt"
	"net"
	"os"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/lab/peer"
	"inkpost.example/inkpost/internal/testbed/inside"
	"inkpost.example/inkpost/internal/testbed/spaces"
)

// standing is a service of a troubled site, and the real server behind it. config is written to a file first; in it and in args, CONF, DIR,
// CERT and KEY stand for that file, a directory and a certificate.
type standing struct {
	device, kind, transport string
	port                    int
	options                 probe.Options
	config                  string
	args                    []string
	full                    bool // only where all faults are made
}

// The devices of a troubled site, and where they are.
var sited = map[string]struct{ at, mac string }{
	"recorder": {"192.168.7.30", recorderMAC},
	"desk":     {"192.168.7.31", "02:00:5e:07:00:02"},
	"hall":     {"192.168.7.32", "02:00:5e:07:00:03"},
}

const (
	recorderAt = "192.168.7.30"
	deskAt     = "192.168.7.31"
)

// stood are the services of a troubled site. All of their servers are those that devices run.
var stood = map[string]standing{
	"page": {device: "recorder", kind: "https", port: 8443, args: []string{"nginx", "-c", "CONF"},
		config: "daemon off; master_process off; pid DIR/nginx.pid; error_log stderr; events {} http { access_log off; server { listen " +
			"0.0.0.0:8443 ssl; ssl_certificate CERT; ssl_certificate_key KEY; location / { return 200 'recorder'; } } }"},
	"stream": {device: "recorder", kind: "mqtt", port: 8554, args: []string{"mosquitto", "-c", "CONF"},
		config: "listener 8554 0.0.0.0\nallow_anonymous false\n"},
	"shell": {device: "desk", kind: "ssh", port: 8022, args: []string{"/usr/sbin/sshd", "-D", "-e", "-f", "/dev/null", "-p", "8022", "-h",
		"DIR/host", "-o", "PidFile=none"}},
	"names": {device: "desk", kind: "dns", transport: "udp", port: 8053, args: []string{"/usr/sbin/named", "-g", "-c", "CONF", "-p",
		"8053"},
		config: "options { directory \"DIR\"; pid-file \"DIR/named.pid\"; listen-on port 8053 { any; }; listen-on-v6 { none; }; " +
			"recursion no; allow-query { any; }; session-keyfile none; };\ncontrols { };\n"},
	"files": {device: "hall", kind: "ftp", port: 8021, full: true, args: []string{"vsftpd", "CONF"},
		config: "listen=YES\nlisten_port=8021\nbackground=NO\nlocal_enable=YES\nseccomp_sandbox=NO\nisolate=NO\nisolate_network=NO\n" +
			"secure_chroot_dir=/run/vsftpd/empty\n"},
	"screen": {device: "hall", kind: "rdp", port: 8389, full: true, args: []string{"xrdp", "--nodaemon", "--config", "CONF"},
		config: "[Globals]\nini_version=1\nport=8389\nsecurity_layer=tls\ncertificate=CERT\nkey_file=KEY\n" +
			"ssl_protocols=TLSv1.2, TLSv1.3\n[Logging]\nLogFile=DIR/xrdp.log\n[Xorg]\nname=Xorg\nlib=libxup.so\n"},
	"clock": {device: "hall", kind: "ntp", transport: "udp", port: 8123, full: true,
		args:   []string{"chronyd", "-d", "-x", "-u", "root", "-f", "CONF"},
		config: "port 8123\nlocal stratum 10\nallow all\ncmdport 0\npidfile DIR/chrony.pid\n"},
	"tunnel": {device: "hall", kind: "openvpn", transport: "udp", port: 8194, full: true,
		args: []string{"openvpn", "--dev", "tun", "--mode", "server", "--ifconfig-noexec", "--proto", "udp", "--port", "8194",
			"--tls-server", "--ca", "CERT", "--cert", "CERT", "--key", "KEY", "--dh", "none", "--verb", "1"}},
}

// running are the servers of a site that run now.
type running struct {
	mu   sync.Mutex
	of   map[string]*spaces.Process
	dirs map[string]string
}

func (s *troubled) x(name string) standing {
	x := stood[name]
	if x.transport == "" {
		x.transport = "tcp"
	}
	return x
}

// start runs a service's server, the same as before.
func (s *troubled) start(name string) {
	s.t.Helper()
	x := s.x(name)
	s.running.mu.Lock()
	defer s.running.mu.Unlock()
	dir, ok := s.running.dirs[name]
	if !ok {
		var err error
		dir, err = os.MkdirTemp("", "inkpost-device-") // servers that give up their rights read it
		require.NoError(s.t, err)
		require.NoError(s.t, os.Chmod(dir, 0o777))
		s.t.Cleanup(func() { _ = os.RemoveAll(dir) })
		s.running.dirs[name] = dir
		s.furnish(dir, name)
	}
	fill := strings.NewReplacer("DIR", dir, "CONF", dir+"/server.conf", "CERT", dir+"/cert.pem", "KEY", dir+"/key.pem")
	require.NoError(s.t, os.WriteFile(dir+"/server.conf", []byte(fill.Replace(x.config)), 0o600))
	var args []string
	for _, a := range x.args {
		args = append(args, fill.Replace(a))
	}
	s.running.of[name] = s.Serve(x.device, args...)
}

// furnish makes what a server is recognised by.
func (s *troubled) furnish(dir, name string) {
	c, _ := inside.Certificate(s.t, name+".example")
	inside.WriteCertificate(s.t, dir, c, 0o600)
	if stood[name].kind == "ssh" {
		require.NoError(s.t, os.MkdirAll("/run/sshd", 0o755))
		s.Run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", dir+"/host")
	}
	if stood[name].kind == "ftp" {
		require.NoError(s.t, os.MkdirAll("/run/vsftpd/empty", 0o755))
	}
}

// stop ends a service's server, as a crash would.
func (s *troubled) stop(name string) {
	s.running.mu.Lock()
	defer s.running.mu.Unlock()
	s.running.of[name].Kill()
}

// freeze has a service's server do nothing any more: the kernel goes on accepting for it.
func (s *troubled) freeze(name string) (thaw func()) {
	s.t.Helper()
	s.running.mu.Lock()
	p := s.running.of[name]
	s.running.mu.Unlock()
	p.Signal(s.t, syscall.SIGSTOP)
	return func() { p.Signal(s.t, syscall.SIGCONT) }
}

// replace has somebody else answer in a service's place.
func (s *troubled) replace(name string, who peer.Peer) (back func()) {
	s.stop(name)
	var stop func()
	require.Eventually(s.t, func() bool { // until the kernel has given the port back
		var l net.Listener
		err := s.Within(s.x(name).device, func() (err error) {
			l, err = net.Listen("tcp", fmt.Sprintf("0.0.0.0:%d", s.x(name).port))
			return err
		})
		if err != nil {
			return false
		}
		_ = l.Close()
		return true
	}, 5*time.Second, 20*time.Millisecond)
	stop = s.stand(s.x(name).device, who, fmt.Sprintf("0.0.0.0:%d", s.x(name).port))
	return func() { stop(); s.start(name) }
}
