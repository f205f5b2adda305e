package speak_test

import (
	"context"
	"crypto/ecdh"
	"crypto/rand"
	"encoding/base64"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/lab/peer"
	"inkpost.example/inkpost/internal/testbed/inside"
	"inkpost.example/inkpost/internal/wire/speak"
)

func TestRealServers(t *testing.T) {
	inside.Run(t, "TestInsideTheNamespace")
}

func command(t *testing.T, args ...string) {
	t.Helper()
	out, err := exec.Command(args[0], args[1:]...).CombinedOutput()
	require.NoError(t, err, "%s\n%s", strings.Join(args, " "), out)
}

// bench is where the servers are set up.
type bench struct {
	dir, key, cert string
	ours           *ecdh.PrivateKey // our WireGuard key
}

// real is one real server. start gives its command line; config is written to a file called name.conf first.
type real struct {
	name      string
	kind      probe.Kind
	transport probe.Transport
	port      int
	options   probe.Options
	env       string // a further environment variable; CONF stands for the configuration file
	config    string
	args      func(b bench, conf string) []string
	listen    func(b bench) (io.Closer, error) // of one that runs in this process
}

func (b bench) file(t *testing.T, name, content string) string {
	path := filepath.Join(b.dir, name)
	require.NoError(t, os.WriteFile(path, []byte(content), 0o644))
	return path
}

func TestInsideTheNamespace(t *testing.T) {
	inside.Here(t)
	command(t, "nft", "add table inet shut; add chain inet shut in { type filter hook input priority 0; }")
	dir, err := os.MkdirTemp("", "inkpost-real-")
	require.NoError(t, err)
	require.NoError(t, os.Chmod(dir, 0o755))
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	b := bench{dir: dir}
	b.certificate(t)
	b.ours, err = ecdh.X25519().GenerateKey(rand.Reader)
	require.NoError(t, err)
	command(t, "ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", filepath.Join(dir, "host"))
	require.NoError(t, os.MkdirAll("/run/sshd", 0o755))
	require.NoError(t, os.MkdirAll("/run/vsftpd/empty", 0o755))
	gate := peer.Peer{Kind: probe.KindWireGuard, Name: "gate", Keys: b.ours.PublicKey().Bytes()}
	nginx := func(listen string) string {
		return "daemon off; pid PID; error_log stderr; events {} http { access_log off; server { listen 127.0.0.1:" + listen +
			"; ssl_certificate CERT; ssl_certificate_key KEY; location / { return 200 'lighthouse'; } location /away { return 302 " +
			"http://theirs.example/; } } }"
	}
	byConf := func(args ...string) func(bench, string) []string {
		return func(_ bench, conf string) []string { return append(args, conf) }
	}
	dovecot := func(protocol, port string) string {
		return "base_dir = DIR/NAME\nprotocols = " + protocol +
			"\nlog_path = /dev/stderr\nssl = yes\nssl_cert = <CERT\nssl_key = <KEY\nlisten = 127.0.0.1\n" +
			"submission_relay_host = 127.0.0.1\nhostname = hut.example\ndefault_login_user = nobody\ndefault_internal_user = " +
			"nobody\ndefault_internal_group = nogroup\npassdb {\n driver = static\n args = password=x\n}\nuserdb {\n driver = " +
			"static\n args = uid=65534 gid=65534 home=/tmp\n}\n" +
			"service " + protocol + "-login {\n chroot =\n inet_listener " + protocol + " {\n port = " + port +
			"\n }\n inet_listener " + protocol + "s {\n port = 0\n }\n}\n" +
			"service stats {\n chroot =\n}\nservice anvil {\n chroot =\n}\n"
	}
	for _, s := range []real{
		{name: "sshd", kind: probe.KindSSH, port: 2201, args: func(b bench, _ string) []string {
			return []string{"/usr/sbin/sshd", "-D", "-e", "-f", "/dev/null", "-p", "2201", "-h", b.dir + "/host", "-o",
				"ListenAddress=127.0.0.1", "-o", "PidFile=none"}
		}},
		{name: "nginx", kind: probe.KindHTTP, port: 2202, options: probe.Options{Status: "200", Text: "lighthouse"},
			config: nginx("2202"), args: byConf("nginx", "-c")},
		{name: "nginx-tls", kind: probe.KindHTTPS, port: 2203, options: probe.Options{Certificate: "checked"},
			config: nginx("2203 ssl"), args: byConf("nginx", "-c")},
		{name: "nginx-handshake", kind: probe.KindTLS, port: 2204, config: nginx("2204 ssl"), args: byConf("nginx", "-c")},
		{name: "bind", kind: probe.KindDNS, transport: probe.UDP, port: 2205,
			config: "options { directory \"DIR\"; pid-file \"PID\"; listen-on port 2205 { 127.0.0.1; }; listen-on-v6 { none; }; " +
				"recursion no; };\n",
			args: func(_ bench, conf string) []string {
				return []string{"/usr/sbin/named", "-g", "-c", conf, "-p", "2205"}
			}},
		{name: "bind-tcp", kind: probe.KindDNS, port: 2206,
			config: "options { directory \"DIR\"; pid-file \"PID\"; listen-on port 2206 { 127.0.0.1; }; listen-on-v6 { none; }; " +
				"recursion no; };\n",
			args: func(_ bench, conf string) []string {
				return []string{"/usr/sbin/named", "-g", "-c", conf, "-p", "2206"}
			}},
		{name: "chrony", kind: probe.KindNTP, transport: probe.UDP, port: 2207,
			config: "port 2207\nlocal stratum 10\nallow 127.0.0.0/8\nbindaddress 127.0.0.1\ncmdport 0\npidfile PID\n",
			args:   byConf("chronyd", "-d", "-x", "-u", "root", "-f")},
		{name: "coturn", kind: probe.KindSTUN, transport: probe.UDP, port: 2208, args: func(b bench, _ string) []string {
			return []string{"turnserver", "-n", "-S", "--listening-ip", "127.0.0.1", "--listening-port", "2208", "--no-tls",
				"--no-dtls", "--no-cli", "--pidfile", b.dir + "/turn.pid", "--log-file", "stdout"}
		}},
		{name: "xrdp", kind: probe.KindRDP, port: 2209,
			config: "[Globals]\nini_version=1\nport=tcp://127.0.0.1:2209\nsecurity_layer=tls\ncertificate=CERT\nkey_file=KEY\n" +
				"ssl_protocols=TLSv1.2, TLSv1.3\n[Logging]\nLogFile=DIR/xrdp.log\n[Xorg]\nname=Xorg\nlib=libxup.so\n",
			args: byConf("xrdp", "--nodaemon", "--config")},
		{name: "imap", kind: probe.KindIMAP, port: 2210, options: probe.Options{TLS: "needed"}, config: dovecot("imap", "2210"),
			args: byConf("dovecot", "-F", "-c")},
		{name: "pop3", kind: probe.KindPOP3, port: 2211, options: probe.Options{TLS: "needed"}, config: dovecot("pop3", "2211"),
			args: byConf("dovecot", "-F", "-c")},
		{name: "submission", kind: probe.KindSMTP, port: 2212, options: probe.Options{TLS: "needed"},
			config: dovecot("submission", "2212"), args: byConf("dovecot", "-F", "-c")},
		{name: "ftp", kind: probe.KindFTP, port: 2213, options: probe.Options{TLS: "needed"},
			config: "listen=YES\nlisten_address=127.0.0.1\nlisten_port=2213\nbackground=NO\nssl_enable=YES\nrsa_cert_file=CERT\n" +
				"rsa_private_key_file=KEY\nlocal_enable=YES\nseccomp_sandbox=NO\nisolate=NO\nisolate_network=NO\n" +
				"secure_chroot_dir=/run/vsftpd/empty\n",
			args: byConf("vsftpd")},
		{name: "mqtt", kind: probe.KindMQTT, port: 2214, config: "listener 2214 127.0.0.1\nallow_anonymous false\n",
			args: byConf("mosquitto", "-c")},
		{name: "mqtt5", kind: probe.KindMQTT, port: 2215, options: probe.Options{Version: "5"},
			config: "listener 2215 127.0.0.1\nallow_anonymous true\n", args: byConf("mosquitto", "-c")},
		{name: "snmp", kind: probe.KindSNMP, transport: probe.UDP, port: 2216, config: "rocommunity public\n",
			args: func(b bench, conf string) []string {
				return []string{"snmpd", "-f", "-Lo", "-C", "-c", conf, "-p", b.dir + "/snmpd.pid", "udp:127.0.0.1:2216"}
			}},
		{name: "openvpn", kind: probe.KindOpenVPN, transport: probe.UDP, port: 2217,
			args: func(b bench, _ string) []string { return b.openvpn("2217", "udp") }},
		{name: "openvpn-tcp", kind: probe.KindOpenVPN, port: 2218,
			args: func(b bench, _ string) []string { return b.openvpn("2218", "tcp-server") }},
		{name: "kamailio", kind: probe.KindSIP, transport: probe.UDP, port: 2220,
			config: "fork=no\nlog_stderror=yes\nlisten=udp:127.0.0.1:2220\nloadmodule \"sl.so\"\nrequest_route {\n " +
				"sl_send_reply(\"200\", \"OK\");\n}\n",
			args: func(b bench, conf string) []string { return []string{"kamailio", "-DD", "-E", "-Y", b.dir, "-f", conf} }},
		{name: "vnc", kind: probe.KindVNC, port: 2221, args: func(b bench, _ string) []string {
			return []string{"Xtigervnc", ":77", "-rfbport", "2221", "-interface", "127.0.0.1", "-SecurityTypes", "VncAuth",
				"-PasswordFile", b.cert, "-nolisten", "unix"}
		}},
		{name: "charon", kind: probe.KindIKE, transport: probe.UDP, port: 2222, env: "STRONGSWAN_CONF=CONF",
			config: "charon {\n port = 2222\n port_nat_t = 2223\n filelog {\n stderr {\n default = 1\n }\n }\n}\n",
			args:   func(bench, string) []string { return []string{"/usr/lib/ipsec/charon"} }},
		{name: "wireguard", kind: probe.KindWireGuard, transport: probe.UDP, port: 2219,
			options: probe.Options{PeerKey: base64.StdEncoding.EncodeToString(gate.StaticKey())},
			listen: func(b bench) (io.Closer, error) {
				return gate.Listen(probe.UDP, netip.MustParseAddrPort("127.0.0.1:2219"))
			}},
	} {
		t.Run(s.name, func(t *testing.T) { t.Parallel(); s.try(t, b) })
	}
}

func (b bench) openvpn(port, proto string) []string {
	return []string{"openvpn", "--dev", "tun", "--mode", "server", "--ifconfig-noexec", "--proto", proto, "--local", "127.0.0.1",
		"--port", port, "--tls-server", "--ca", b.cert, "--cert", b.cert, "--key", b.key, "--dh", "none", "--verb", "1"}
}

// certificate makes one that a browser would take for hut.example.
func (b *bench) certificate(t *testing.T) {
	c, _ := inside.Certificate(t, "hut.example")
	inside.WriteCertificate(t, b.dir, c, 0o644)
	b.cert, b.key = filepath.Join(b.dir, "cert.pem"), filepath.Join(b.dir, "key.pem")
}

// try has a server answered, dropped by the firewall, replaced by another, and stopped.
func (s real) try(t *testing.T, b bench) {
	if s.transport == "" {
		s.transport = probe.TCP
	}
	if _, err := os.Stat("/dev/net/tun"); err != nil && s.kind == probe.KindOpenVPN {
		t.Skip("this machine has no tun device, without which OpenVPN serves nobody")
	}
	stop := s.run(t, b)
	request := speak.Request{Kind: s.kind, Transport: s.transport, Target: netip.AddrPortFrom(loopback, uint16(s.port)),
		Name: "hut.example", Options: s.options, ProbeKey: b.ours.Bytes(), Deadline: 4 * time.Second}
	var got speak.Reply
	outcome := func(pinned string) probe.Outcome {
		got = speak.To(context.Background(), request)
		return probe.Judge(got.Result, pinned)
	}
	require.Eventually(t, func() bool { return outcome("") == probe.Answered }, 15*time.Second, 100*time.Millisecond, "%+v", &got)
	pinned := got.Fingerprint
	require.Equal(t, probe.TraitOf(s.kind).Recognised != "", pinned != "", "%+v", got)
	require.Equal(t, probe.Answered, outcome(pinned), "%+v", got)

	request.Deadline = 700 * time.Millisecond
	rule := fmt.Sprintf("%s dport %d drop", string(s.transport), s.port)
	command(t, "nft", "add rule inet shut in "+rule)
	require.Equal(t, probe.Silent, outcome(pinned), "dropped by the firewall: %+v", got)
	// Rules of others come and go meanwhile: only our own is taken out.
	list, err := exec.Command("nft", "-a", "list", "chain", "inet", "shut", "in").Output()
	require.NoError(t, err)
	for _, line := range strings.Split(string(list), "\n") {
		if text, handle, ok := strings.Cut(line, " # handle "); ok && strings.TrimSpace(text) == rule {
			command(t, "nft", "delete rule inet shut in handle "+handle)
		}
	}
	request.Deadline = 4 * time.Second
	require.Equal(t, probe.Answered, outcome(pinned), "%+v", got)

	stop()
	request.Deadline = 700 * time.Millisecond
	require.Eventually(t, func() bool { return outcome(pinned) == probe.Refused }, 10*time.Second, 50*time.Millisecond, "%+v", &got)

	another := peer.Peer{Kind: probe.KindSSH, Name: "another"}
	if s.kind == probe.KindSSH {
		another.Kind = probe.KindHTTP
	}
	if s.transport == probe.TCP {
		l, err := another.Listen(probe.TCP, request.Target)
		require.NoError(t, err)
		defer l.Close()
	} else {
		c, err := net.ListenUDP("udp", net.UDPAddrFromAddrPort(request.Target))
		require.NoError(t, err)
		defer c.Close()
		go func() {
			buffer := make([]byte, 2048)
			for {
				n, from, err := c.ReadFromUDPAddrPort(buffer)
				if err != nil {
					return
				}
				_, _ = c.WriteToUDPAddrPort(buffer[:n], from) // an echo
			}
		}()
	}
	require.Equal(t, probe.Garbled, outcome(pinned), "%+v", got)
}

func (s real) run(t *testing.T, b bench) (stop func()) {
	if s.listen != nil {
		l, err := s.listen(b)
		require.NoError(t, err)
		return func() { _ = l.Close() }
	}
	conf := b.file(t, s.name+".conf", strings.NewReplacer("DIR", b.dir, "NAME", s.name, "PID", b.dir+"/"+s.name+".pid", "CERT",
		b.cert, "KEY", b.key).Replace(s.config))
	args := s.args(b, conf)
	log, err := os.Create(filepath.Join(b.dir, s.name+".log"))
	require.NoError(t, err)
	cmd := exec.Command(args[0], args[1:]...)
	cmd.Stdout, cmd.Stderr = log, log
	if s.env != "" {
		cmd.Env = append(os.Environ(), strings.ReplaceAll(s.env, "CONF=CONF", "CONF="+conf))
	}
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	require.NoError(t, cmd.Start())
	stopped := false
	stop = func() {
		if stopped {
			return
		}
		stopped = true
		_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGTERM)
		ended := make(chan error, 1)
		go func() { ended <- cmd.Wait() }()
		select {
		case <-ended:
		case <-time.After(2 * time.Second):
			_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
			<-ended
		}
		_ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) // what it has started
	}
	t.Cleanup(func() {
		stop()
		if t.Failed() {
			text, _ := os.ReadFile(log.Name())
			t.Logf("%s says:\n%s", s.name, text)
		}
	})
	return stop
}
