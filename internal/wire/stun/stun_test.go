package stun

import (
	"context"
	"net"
	"net/netip"
	"testing"
	"time"

	"github.com/pion/stun/v3"
	"github.com/stretchr/testify/require"
)

func dial(ctx context.Context, network, address string) (net.Conn, error) {
	return (&net.Dialer{}).DialContext(ctx, network, address)
}

func responder(t *testing.T, address string, edit func(*Responder)) *Responder {
	t.Helper()
	r, err := Listen(address)
	require.NoError(t, err)
	if edit != nil {
		edit(r)
	}
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- r.Serve(ctx) }()
	t.Cleanup(func() { stop(); require.NoError(t, <-done) })
	return r
}

func TestTheResponderSaysWhereAQuestionComesFrom(t *testing.T) {
	for network, address := range map[string]string{"udp4": "127.0.0.1:0", "udp6": "[::1]:0"} {
		r := responder(t, address, nil)
		at, err := Ask(t.Context(), dial, network, r.Addr(), Credential{})
		require.NoError(t, err)
		require.Equal(t, netip.MustParseAddrPort(r.Addr()).Addr(), at.Addr())
		require.NotZero(t, at.Port())
	}
}

func TestACredentialIsASignOfLife(t *testing.T) {
	heard := make(chan string, 10)
	r := responder(t, "127.0.0.1:0", func(r *Responder) {
		r.Password = func(user string) string { return map[string]string{"ket-07": "gannet"}[user] }
		r.Heard = func(user string, from netip.Addr) { heard <- user + " " + from.String() }
	})
	_, err := Ask(t.Context(), dial, "udp4", r.Addr(), Credential{"ket-07", "gannet"})
	require.NoError(t, err)
	require.Equal(t, "ket-07 127.0.0.1", <-heard)
	for _, wrong := range []Credential{{"ket-07", "herring"}, {"oys-03", "gannet"}} {
		_, err = Ask(t.Context(), dial, "udp4", r.Addr(), wrong)
		require.ErrorIs(t, err, ErrRefused)
	}
	require.Empty(t, heard, "a wrong credential is no sign of life")
	answered, refused := r.Counts()
	require.Equal(t, uint64(1), answered)
	require.Equal(t, uint64(2), refused)
}

func TestWhatIsNoQuestionIsNotAnswered(t *testing.T) {
	r := &Responder{}
	from := netip.MustParseAddrPort("127.0.0.1:4000")
	question := stun.MustBuild(stun.TransactionID, stun.BindingRequest).Raw
	require.NotNil(t, r.reply(question, from))
	require.LessOrEqual(t, len(r.reply(question, from)), 2*len(question), "it is no amplifier")
	for name, packet := range map[string][]byte{
		"nothing":            {},
		"short":              question[:12],
		"a reply":            stun.MustBuild(stun.TransactionID, stun.BindingSuccess).Raw,
		"an indication":      stun.MustBuild(stun.TransactionID, stun.NewType(stun.MethodBinding, stun.ClassIndication)).Raw,
		"another method":     stun.MustBuild(stun.TransactionID, stun.NewType(stun.MethodAllocate, stun.ClassRequest)).Raw,
		"a length that lies": append(append([]byte{}, question[:3]...), append([]byte{200}, question[4:]...)...),
		"no magic cookie":    append(append([]byte{}, question[:4]...), append([]byte{0, 0, 0, 0}, question[8:]...)...),
	} {
		require.Nil(t, r.reply(packet, from), name)
	}
	unknown := stun.MustBuild(stun.TransactionID, stun.BindingRequest, stun.RawAttribute{Type: 0x7abc, Value: []byte("what")})
	reply := &stun.Message{Raw: r.reply(unknown.Raw, from)}
	require.NoError(t, reply.Decode())
	var code stun.ErrorCodeAttribute
	require.NoError(t, code.GetFrom(reply))
	require.Equal(t, stun.CodeUnknownAttribute, code.Code)
}

// A server that answers wrongly, and then rightly: only the right answer counts.
func TestWrongAnswersArePassedOver(t *testing.T) {
	c := Credential{"ket-07", "gannet"}
	right := &stun.XORMappedAddress{IP: net.IPv4(198, 51, 100, 7), Port: 4711}
	liar := &stun.XORMappedAddress{IP: net.IPv4(203, 0, 113, 66), Port: 4711}
	six := &stun.XORMappedAddress{IP: net.ParseIP("2001:db8::66"), Port: 4711}
	integrity := stun.NewShortTermIntegrity(c.Password)
	for name, wrong := range map[string]func(id stun.Setter) []byte{
		"another transaction": func(stun.Setter) []byte {
			return stun.MustBuild(stun.TransactionID, stun.BindingSuccess, liar, integrity).Raw
		},
		"no integrity": func(id stun.Setter) []byte { return stun.MustBuild(id, stun.BindingSuccess, liar).Raw },
		"another password": func(id stun.Setter) []byte {
			return stun.MustBuild(id, stun.BindingSuccess, liar, stun.NewShortTermIntegrity("herring")).Raw
		},
		"the other family": func(id stun.Setter) []byte { return stun.MustBuild(id, stun.BindingSuccess, six, integrity).Raw },
		"no address":       func(id stun.Setter) []byte { return stun.MustBuild(id, stun.BindingSuccess, integrity).Raw },
		"port 0": func(id stun.Setter) []byte {
			return stun.MustBuild(id, stun.BindingSuccess, &stun.XORMappedAddress{IP: liar.IP}, integrity).Raw
		},
		"a request": func(id stun.Setter) []byte { return stun.MustBuild(id, stun.BindingRequest, liar, integrity).Raw },
		"a wrong checksum": func(id stun.Setter) []byte {
			b := stun.MustBuild(id, stun.BindingSuccess, liar, integrity, stun.Fingerprint).Raw
			b[len(b)-1] ^= 1
			return b
		},
		"an unknown demand": func(id stun.Setter) []byte {
			return stun.MustBuild(id, stun.BindingSuccess, liar, stun.RawAttribute{Type: 0x7abc}, integrity).Raw
		},
		"rubbish": func(stun.Setter) []byte { return []byte("\x01\x01 this is no STUN message at all, however long") },
	} {
		t.Run(name, func(t *testing.T) {
			conn, err := net.ListenPacket("udp4", "127.0.0.1:0")
			require.NoError(t, err)
			defer conn.Close()
			go func() {
				buffer := make([]byte, 1500)
				n, from, err := conn.ReadFrom(buffer)
				if err != nil {
					return
				}
				m := &stun.Message{Raw: buffer[:n]}
				if m.Decode() != nil {
					return
				}
				id := stun.NewTransactionIDSetter(m.TransactionID)
				_, _ = conn.WriteTo(wrong(id), from)
				_, _ = conn.WriteTo(stun.MustBuild(id, stun.BindingSuccess, right, integrity, stun.Fingerprint).Raw, from)
			}()
			at, err := Ask(t.Context(), dial, "udp4", conn.LocalAddr().String(), c)
			require.NoError(t, err)
			require.Equal(t, "198.51.100.7:4711", at.String())
		})
	}
}

func TestASilentServerIsGivenUp(t *testing.T) {
	conn, err := net.ListenPacket("udp4", "127.0.0.1:0")
	require.NoError(t, err)
	defer conn.Close()
	ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer cancel()
	_, err = Ask(ctx, dial, "udp4", conn.LocalAddr().String(), Credential{})
	require.Error(t, err)
}

func FuzzRead(f *testing.F) {
	f.Add(stun.MustBuild(stun.TransactionID, stun.BindingSuccess, &stun.XORMappedAddress{IP: net.IPv4(198, 51, 100, 7), Port: 1},
		stun.Fingerprint).Raw)
	f.Add([]byte{})
	f.Fuzz(func(t *testing.T, packet []byte) {
		var id [stun.TransactionIDSize]byte
		if at, err := read(packet, id, Credential{}, false); err == nil {
			require.True(t, at.Addr().Is4())
		}
		_ = (&Responder{}).reply(packet, netip.MustParseAddrPort("127.0.0.1:1"))
	})
}

// At a machine with several addresses, an answer comes from the one that was asked.
func TestAWildcardSocketAnswersFromTheAddressThatWasAsked(t *testing.T) {
	t.Parallel()
	for _, listen := range []string{":0", "0.0.0.0:0", "[::]:0", "127.0.0.9:0"} {
		r, err := Listen(listen)
		require.NoError(t, err)
		go func() { _ = r.Serve(t.Context()) }()
		_, port, err := net.SplitHostPort(r.Addr())
		require.NoError(t, err)
		for network, asked := range map[string][]string{"udp4": {"127.0.0.1", "127.0.0.9"}, "udp6": {"::1"}} {
			for _, address := range asked {
				if listen == "127.0.0.9:0" && address != "127.0.0.9" || listen == "0.0.0.0:0" && network == "udp6" {
					continue // nobody listens there
				}
				at, err := Ask(t.Context(), (&net.Dialer{Timeout: time.Second}).DialContext, network, net.JoinHostPort(address, port),
					Credential{})
				require.NoError(t, err, "%s at %s", listen, address)
				require.True(t, at.Addr().IsLoopback())
			}
		}
	}
}
