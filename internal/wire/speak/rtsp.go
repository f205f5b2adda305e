package speak

import (
	"context"
	"fmt"
	"net"
	"strconv"
	"time"

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
	traits := map[string]string{"server": r.header.Get("Server"), "public": r.header.Get("Public")}
	traits["realm"] = streamRealm(t, target)
	return reply{words: r.line, fingerprint: probe.TraitPrint(traits)}, nil
}

// realmWait is how long the question for the realm may take: a server need not answer it.
const realmWait = 400 * time.Millisecond

// streamRealm asks for a description without a password: a server that wants one says for which realm (RFC 7826 section 13.2, RFC 7616),
// which is often the camera's own name. "" if it does not say.
func streamRealm(t *attempt, target string) string {
	if _, err := fmt.Fprintf(t.conn, "DESCRIBE %s RTSP/1.0\r\nCSeq: 2\r\nAccept: application/sdp\r\nUser-Agent: inkpost-probe\r\n\r\n",
		target); err != nil {
		return ""
	}
	_ = t.conn.SetReadDeadline(time.Now().Add(realmWait))
	r, err := readReply(t.conn, "RTSP/1.0", "RTSP/2.0")
	if err != nil || r.header.Get("CSeq") != "2" {
		return ""
	}
	t.step("receive", "%s", r.line)
	return firstGroup(realm, []byte(r.header.Get("Www-Authenticate")))
}
