package speak

import (
	"bufio"
	"io"
	"net/textproto"
	"strings"
)

// statusReply is a message of the family of HTTP: a status line and headers.
type statusReply struct {
	status string // "200 OK"
	header textproto.MIMEHeader
	line   string
}

// readReply reads a status line of protocol ("RTSP/1.0") and headers. The reader is bounded by the connection.
func readReply(from io.Reader, protocols ...string) (statusReply, error) {
	in := textproto.NewReader(bufio.NewReaderSize(from, 2048))
	line, err := in.ReadLine()
	if err != nil && line == "" {
		return statusReply{}, err
	}
	r := statusReply{line: spoken([]byte(line))}
	for _, p := range protocols {
		if status, ok := strings.CutPrefix(line, p+" "); ok {
			r.status = status
		}
	}
	if len(r.status) < 3 || strings.Trim(r.status[:3], "0123456789") != "" {
		return r, protocolError("it says " + r.line + ", which is not " + protocols[0])
	}
	if r.header, err = in.ReadMIMEHeader(); err != nil && len(r.header) == 0 {
		return r, err
	}
	return r, nil
}
