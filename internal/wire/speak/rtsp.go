package speak

import (
	"context"
	"fmt"
	"net"
	"strconv"

	"inkpost.example/inkpost/internal/core/probe"
)

// speakRTSP asks for the methods that a stream server has (OPTIONS: RFC 2326 section 10.1, RFC 7826 section 13.1).
func speakRTSP(_ context.Context, t *attempt) (reply, error) {
	host := orDefault(t.request.Name, t.request.Target.Addr().String())
	target := "rtsp://" + net.JoinHostPort(host, strconv.Itoa(int(t.request.Target.Port()))) + "/"
	t.step("send", "OPTIONS %s", target)
	if _, err := fmt.Fprintf(t.conn, "OPTIONS %s RTSP/1.0\r\nCSeq: 1\r\nUser-Agent: inkpost-probe\r\n\r\n", target); err != nil {
		return reply{}, err
	}
	r, err := readReply(t.conn, "RTSP/1.0", "RTSP/2.0")
	if err != nil {
		return reply{}, err
	}
	t.step("receive", "%s", r.line)
	if r.header.Get("CSeq") != "1" {
		return reply{}, protocolError("the answer's CSeq is " + spoken([]byte(r.header.Get("CSeq"))) + " instead of 1")
	}
	return reply{words: r.line, fingerprint: probe.BannerPrint(r.header.Get("Server"))}, nil
}
