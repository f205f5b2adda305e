package peer

import (
	"bufio"
	"bytes"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/textproto"
	"strings"

	"golang.org/x/crypto/ssh"

	"inkpost.example/inkpost/internal/core/probe"
)

func (p Peer) ssh(c net.Conn) {
	signer, err := ssh.NewSignerFromKey(p.key())
	if err != nil {
		return
	}
	config := &ssh.ServerConfig{PasswordCallback: func(ssh.ConnMetadata, []byte) (*ssh.Permissions, error) {
		return nil, errors.New("nobody can sign in to a simulated device")
	}}
	config.AddHostKey(signer)
	_, _, _, _ = ssh.NewServerConn(c, config)
}

func (p Peer) web(c net.Conn) {
	in := reader(c)
	for {
		req, err := http.ReadRequest(in)
		if err != nil {
			return
		}
		page := "<!doctype html><title>" + p.Name + "</title><h1>" + p.Name + "</h1>\n"
		_, err = fmt.Fprintf(c, "HTTP/1.1 200 OK\r\nServer: %s\r\nContent-Type: text/html; charset=utf-8\r\nContent-Length: "+
			"%d\r\n\r\n%s", p.Name, len(page), page)
		if err != nil || req.Close {
			return
		}
	}
}

func (p Peer) desktop(c net.Conn) {
	head := make([]byte, 19)
	if _, err := io.ReadFull(c, head); err != nil || head[0] != 3 || head[5] != 0xe0 {
		return
	}
	_, _ = c.Write([]byte{3, 0, 0, 19, 14, 0xd0, 0, 0, 0x12, 0x34, 0, 2, 0, 8, 0, 2, 0, 0, 0})
	_ = p.secure(c).Handshake()
}

func (p Peer) screen(c net.Conn) {
	_, _ = c.Write([]byte("RFB 003.008\n"))
	if _, err := io.ReadFull(c, make([]byte, 12)); err == nil {
		_, _ = c.Write([]byte{1, 2}) // one security type: a password
	}
	_, _ = c.Read(make([]byte, 1))
}

func (p Peer) stream(c net.Conn) {
	in := textproto.NewReader(reader(c))
	if line, err := in.ReadLine(); err != nil || !strings.HasSuffix(line, "RTSP/1.0") {
		return
	}
	header, err := in.ReadMIMEHeader()
	if err != nil {
		return
	}
	_, _ = fmt.Fprintf(c, "RTSP/1.0 200 OK\r\nCSeq: %s\r\nServer: %s\r\nPublic: OPTIONS, DESCRIBE, SETUP, PLAY, TEARDOWN\r\n\r\n",
		header.Get("Cseq"), p.Name)
}

// lines speaks the mail and file protocols: a greeting, what is offered, the way to TLS.
func (p Peer) lines(c net.Conn) {
	greeting := map[probe.Kind]string{probe.KindSMTP: "220 " + p.Name + " ESMTP", probe.KindIMAP: "* OK " + p.Name + " ready",
		probe.KindPOP3: "+OK " + p.Name + " <4711.1@lab>", probe.KindFTP: "220 " + p.Name + " FTP"}
	_, _ = io.WriteString(c, greeting[p.Kind]+"\r\n")
	in := reader(c)
	for {
		line, err := in.ReadString('\n')
		if err != nil {
			return
		}
		words := strings.ToUpper(strings.TrimSpace(line))
		answer, secure := p.line(words)
		if _, err := io.WriteString(c, answer+"\r\n"); err != nil {
			return
		}
		if secure {
			t := p.secure(c)
			if t.Handshake() != nil {
				return
			}
			c, in = t, bufio.NewReader(t)
		}
		if _, is := c.(*tls.Conn); is && strings.Contains(words, "QUIT") {
			return
		}
	}
}

func (p Peer) line(words string) (answer string, secure bool) {
	tag, _, _ := strings.Cut(words, " ")
	switch {
	case p.Kind == probe.KindSMTP && strings.HasPrefix(words, "EHLO"):
		return "250-" + p.Name + "\r\n250 STARTTLS", false
	case p.Kind == probe.KindSMTP && words == "STARTTLS":
		return "220 go ahead", true
	case p.Kind == probe.KindIMAP && strings.HasSuffix(words, "CAPABILITY"):
		return "* CAPABILITY IMAP4rev1 STARTTLS\r\n" + strings.ToLower(tag) + " OK done", false
	case p.Kind == probe.KindIMAP && strings.HasSuffix(words, "STARTTLS"):
		return strings.ToLower(tag) + " OK go ahead", true
	case p.Kind == probe.KindPOP3 && words == "STLS":
		return "+OK go ahead", true
	case p.Kind == probe.KindFTP && words == "AUTH TLS":
		return "234 go ahead", true
	case p.Kind == probe.KindPOP3:
		return "+OK", false
	}
	return "221 bye", false
}

func (p Peer) broker(c net.Conn) {
	head := make([]byte, 2)
	if _, err := io.ReadFull(c, head); err != nil || head[0] != 0x10 {
		return
	}
	body := make([]byte, head[1])
	if _, err := io.ReadFull(c, body); err != nil || len(body) < 7 || !bytes.HasPrefix(body[2:], []byte("MQTT")) {
		return
	}
	answer := []byte{0x20, 2, 0, 5} // not authorised
	if body[6] == 5 {
		answer = []byte{0x20, 3, 0, 0x87, 0}
	}
	_, _ = c.Write(answer)
}

// framed carries datagrams over TCP, each after its length.
func (p Peer) framed(c net.Conn) {
	size := make([]byte, 2)
	if _, err := io.ReadFull(c, size); err != nil {
		return
	}
	packet := make([]byte, binary.BigEndian.Uint16(size))
	if _, err := io.ReadFull(c, packet); err != nil {
		return
	}
	if answer := p.Answer(packet); answer != nil {
		_, _ = c.Write(append(binary.BigEndian.AppendUint16(nil, uint16(len(answer))), answer...))
	}
}
