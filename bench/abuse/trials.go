package main

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"strings"
	"sync"
	"time"

	"github.com/miekg/dns"

	"inkpost.example/inkpost/internal/contract"
)

var documentation = netip.MustParsePrefix("198.51.100.0/24")

// trial is one kind of abuse.
type trial struct {
	what string
	do   func(ctx context.Context, done *counts)
}

func (s *service) trials() []trial {
	return []trial{
		{"300 bodies that come an octet a second", s.slowBodies},
		{"sign-ins, 200 a second, one IPv6 /64", func(ctx context.Context, done *counts) { s.signIns(ctx, done, "2001:db8:0:66::%x") }},
		{"16 who sign in, each try from another network", s.hashing},
		{fmt.Sprintf("%d agents' keys, announcements without a pause", badKeys), s.agentFloods},
		{fmt.Sprintf("%d agents' keys, LAN reports without a pause", badKeys), s.lanFloods},
		{fmt.Sprintf("%d agents' keys, strings of 5 MB", badKeys), s.longStrings},
		{"wrong keys, 400 a second", s.wrongKeys},
		{fmt.Sprintf("%d links, ten times what a key may announce", links), s.eager},
		{"a person's key, 64 pages at once without a pause", s.pages},
		{"300 event streams that nobody reads, moves meanwhile", s.unread},
		{"names asked for without a pause, by 8", s.queries},
	}
}

// eager announces by every link of others ten times as often as its key may.
func (s *service) eager(ctx context.Context, done *counts) {
	paced(ctx, 10*2*links, func(n int) {
		s.get(ctx, done, fmt.Sprintf("%s?ipv4=198.51.100.%d", s.routers[n%links], 1+n%250), "")
	})
}

func (s *service) pages(ctx context.Context, done *counts) {
	flood(ctx, 64, func(int) { s.get(ctx, done, s.url+"/api/v1/sites", s.key) })
}

// unread opens event streams and reads nothing of them, while something happens all the time.
func (s *service) unread(ctx context.Context, done *counts) {
	for range 300 {
		c, err := (&net.Dialer{}).DialContext(ctx, "tcp", strings.TrimPrefix(s.url, "http://"))
		done.asked.Add(1)
		if err != nil {
			done.cut.Add(1)
			continue
		}
		defer c.Close()
		_ = c.(*net.TCPConn).SetReadBuffer(4096)
		_, _ = fmt.Fprintf(c, "GET /api/v1/events HTTP/1.1\r\nHost: x\r\nAuthorization: Bearer %s\r\n\r\n", s.key)
	}
	flood(ctx, badKeys, func(who int) { s.send(ctx, done, "/api/v1/agent/announcements", s.agents[who], "", word("1")) })
}

// queries asks for names as fast as one machine does that has other things to do.
func (s *service) queries(ctx context.Context, done *counts) {
	flood(ctx, 8, func(who int) {
		c, err := net.Dial("udp", s.dns)
		if err != nil {
			return
		}
		defer c.Close()
		q, err := new(dns.Msg).SetQuestion(fmt.Sprintf("s%02d.isles.saltmarsh.example.", who), dns.TypeA).Pack()
		if err != nil {
			return
		}
		answer := make([]byte, 512)
		for ctx.Err() == nil {
			for range 32 {
				_, _ = c.Write(q)
			}
			done.asked.Add(32)
			_ = c.SetReadDeadline(time.Now().Add(100 * time.Millisecond))
			for i := range 32 {
				if _, err := c.Read(answer); err != nil {
					done.cut.Add(int64(32 - i))
					break
				}
			}
		}
	})
}

// get asks for a page and counts its result.
func (s *service) get(ctx context.Context, done *counts, url, key string) {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
	if err != nil {
		return
	}
	if key != "" {
		req.Header.Set("Authorization", "Bearer "+key)
	}
	done.count(http.DefaultClient.Do(req))
}

// send makes a request and counts its result.
func (s *service) send(ctx context.Context, done *counts, path, key, from string, body []byte) {
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, s.url+path, bytes.NewReader(body))
	if err != nil {
		return
	}
	req.Header.Set("Content-Type", "application/json")
	if key != "" {
		req.Header.Set("Authorization", "Bearer "+key)
	}
	if from != "" {
		req.Header.Set("X-Forwarded-For", from)
	}
	done.count(http.DefaultClient.Do(req))
}

func (c *counts) count(r *http.Response, err error) {
	c.asked.Add(1)
	if err != nil {
		c.cut.Add(1)
		return
	}
	if r.StatusCode >= 400 {
		c.refused.Add(1)
	}
	_, _ = io.Copy(io.Discard, r.Body)
	_ = r.Body.Close()
}

// paced does something so many times a second, side by side.
func paced(ctx context.Context, aSecond int, do func(n int)) {
	tick := time.NewTicker(time.Second / time.Duration(aSecond))
	defer tick.Stop()
	var wg sync.WaitGroup
	defer wg.Wait()
	for n := 0; ; n++ {
		select {
		case <-tick.C:
			wg.Go(func() { do(n) })
		case <-ctx.Done():
			return
		}
	}
}

// flood does something without a pause, by so many at once.
func flood(ctx context.Context, many int, do func(who int)) {
	var wg sync.WaitGroup
	for i := range many {
		wg.Go(func() {
			for ctx.Err() == nil {
				do(i)
			}
		})
	}
	wg.Wait()
}

func (s *service) slowBodies(ctx context.Context, done *counts) {
	var all []net.Conn
	for i := range 300 {
		d := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, byte(2+i%60), 1)}}
		c, err := d.DialContext(ctx, "tcp", strings.TrimPrefix(s.url, "http://"))
		done.asked.Add(1)
		if err != nil {
			done.cut.Add(1)
			continue
		}
		defer c.Close()
		_, _ = fmt.Fprintf(c, "POST /api/v1/session HTTP/1.1\r\nHost: x\r\nContent-Type: application/json\r\nContent-Length: "+
			"100000\r\n\r\n")
		all = append(all, c)
	}
	for ctx.Err() == nil {
		for _, c := range all {
			_, _ = c.Write([]byte(" "))
		}
		select {
		case <-time.After(time.Second):
		case <-ctx.Done():
		}
	}
}

func document(v any) []byte {
	text, err := json.Marshal(v)
	if err != nil {
		panic(err) // our own types
	}
	return text
}

func (s *service) signIns(ctx context.Context, done *counts, from string) {
	paced(ctx, 200, func(n int) {
		s.send(ctx, done, "/api/v1/session", "", fmt.Sprintf(from, n+1),
			document(contract.SignIn{Name: fmt.Sprintf("nobody%d", n), Password: "guess"}))
	})
}

func (s *service) hashing(ctx context.Context, done *counts) {
	var n counts
	flood(ctx, 16, func(int) {
		i := n.asked.Add(1)
		s.send(ctx, done, "/api/v1/session", "", fmt.Sprintf("2001:db8:%x:%x::1", i>>16, i&0xffff),
			document(contract.SignIn{Name: fmt.Sprintf("nobody%d", i), Password: "guess"}))
	})
}

func word(version string) []byte {
	return document(contract.Announcement{Source: "stun",
		AgentSelf: contract.AgentSelf{Protocol: contract.AgentProtocol, Version: version, Sent: time.Now().UTC(),
			Reports: []contract.SourceReport{{Source: "stun", IPv4: fmt.Sprintf("198.51.100.%d", 200+time.Now().UnixNano()%50)}}}})
}

func (s *service) agentFloods(ctx context.Context, done *counts) {
	flood(ctx, badKeys, func(who int) { s.send(ctx, done, "/api/v1/agent/announcements", s.agents[who], "", word("1")) })
}

func (s *service) lanFloods(ctx context.Context, done *counts) {
	report := document(contract.LANReport{Devices: []contract.DeviceReport{{Device: "recorder", Found: "192.168.7.20"}}})
	flood(ctx, badKeys, func(who int) { s.send(ctx, done, "/api/v1/agent/lan", s.agents[who], "", report) })
}

func (s *service) longStrings(ctx context.Context, done *counts) {
	long := word(strings.Repeat("x", 5<<20))
	flood(ctx, badKeys, func(who int) { s.send(ctx, done, "/api/v1/agent/announcements", s.agents[who], "", long) })
}

func (s *service) wrongKeys(ctx context.Context, done *counts) {
	paced(ctx, 400, func(n int) {
		s.send(ctx, done, "/api/v1/agent/announcements", fmt.Sprintf("inkpost-guess-%d", n), "", word("1"))
	})
}
