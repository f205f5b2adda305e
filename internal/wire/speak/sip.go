package speak

import (
	"bytes"
	"context"
	"crypto/rand"
	"fmt"
	"strings"

	"inkpost.example/inkpost/internal/core/probe"
)

// speakSIP asks a telephony server what it can do (OPTIONS: RFC 3261 section 11), over UDP or TCP.
func speakSIP(ctx context.Context, t *attempt) (reply, error) {
	from, host, id := local(t.conn), orDefault(t.request.Name, t.request.Target.Addr().String()), rand.Text()
	request := fmt.Appendf(nil, "OPTIONS sip:%s SIP/2.0\r\nVia: SIP/2.0/%s %s;rport;branch=z9hG4bK%s\r\nMax-Forwards: 70\r\nFrom: "+
		"<sip:probe@%s>;tag=%s\r\n"+
		"To: <sip:%s>\r\nCall-ID: %s\r\nCSeq: 1 OPTIONS\r\nContact: <sip:probe@%s>\r\nAccept: application/sdp\r\nUser-Agent: "+
		"inkpost-probe\r\nContent-Length: 0\r\n\r\n",
		host, strings.ToUpper(string(t.request.Transport)), from, id[:16], from.Addr(), id[16:], host, id, from)
	var r statusReply
	take := func(packet []byte) (err error) {
		if r, err = readReply(bytes.NewReader(packet), "SIP/2.0"); err != nil {
			return err
		}
		if r.header.Get("Call-ID") != id && r.header.Get("I") != id {
			return protocolError("the answer is to another call")
		}
		return nil
	}
	var err error
	if t.request.Transport == probe.UDP {
		err = t.ask(ctx, "OPTIONS sip:"+host, request, take)
	} else {
		t.step("send", "OPTIONS sip:%s", host)
		if _, err = t.conn.Write(request); err == nil {
			if r, err = readReply(t.conn, "SIP/2.0"); err == nil && r.header.Get("Call-ID") != id && r.header.Get("I") != id {
				err = protocolError("the answer is to another call")
			}
		}
	}
	if err != nil {
		return reply{}, err
	}
	t.step("receive", "%s", r.line)
	return reply{words: r.line, fingerprint: probe.TraitPrint(map[string]string{
		"server": orDefault(r.header.Get("Server"), r.header.Get("User-Agent")), "allow": r.header.Get("Allow"),
		"supported": r.header.Get("Supported"), "realm": firstGroup(realm, []byte(r.header.Get("Www-Authenticate")))})}, nil
}
