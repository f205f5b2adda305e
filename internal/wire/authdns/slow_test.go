package authdns

import (
	"encoding/binary"
	"errors"
	"net"
	"testing"
	"time"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/require"
)

func TestSlowAndOversizedClientsKeepNobodyOut(t *testing.T) {
	s := limited(t, 0)
	question, err := new(dns.Msg).SetQuestion("ket-07."+apex, dns.TypeA).Pack()
	require.NoError(t, err)
	frame := append(binary.BigEndian.AppendUint16(nil, uint16(len(question))), question...)
	var idle []net.Conn
	for i := range tcpClients + 20 {
		c, err := net.Dial("tcp", s.Addr())
		require.NoError(t, err)
		t.Cleanup(func() { _ = c.Close() })
		_, err = c.Write(frame[:1+i%10]) // a part of a question, and then nothing
		require.NoError(t, err)
		idle = append(idle, c)
	}
	began := time.Now()
	c := dns.Client{Net: "tcp", Timeout: 3 * time.Second}
	r, _, err := c.Exchange(new(dns.Msg).SetQuestion("ket-07."+apex, dns.TypeA), s.Addr())
	require.NoError(t, err)
	require.Len(t, r.Answer, 1)
	require.Less(t, time.Since(began), time.Second, "a client that asks does not wait for those that do not")
	require.NoError(t, idle[0].SetReadDeadline(time.Now().Add(2*time.Second)))
	_, err = idle[0].Read(make([]byte, 1))
	var timeout net.Error
	require.Error(t, err)
	require.False(t, errors.As(err, &timeout) && timeout.Timeout(), "the one that was silent for longest was sent away")

	large, err := net.Dial("tcp", s.Addr())
	require.NoError(t, err)
	defer large.Close()
	_, err = large.Write(append([]byte{0xff, 0xff}, make([]byte, 100)...)) // a frame longer than any question
	require.NoError(t, err)
	require.NoError(t, large.SetReadDeadline(time.Now().Add(2*time.Second)))
	_, err = large.Read(make([]byte, 1))
	require.Error(t, err)
	require.False(t, errors.As(err, &timeout) && timeout.Timeout(), "it is sent away at once, without an answer")
	require.Len(t, ask(t, s, "udp", "ket-07."+apex, dns.TypeA, nil).Answer, 1)
}
