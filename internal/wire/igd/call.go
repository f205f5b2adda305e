package igd

import (
	"bytes"
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"strings"
)

// Refused reports a gateway that answers with a UPnP error (UPnP Device Architecture 3.2.5).
type Refused struct {
	Code  string
	Words string
}

func (e Refused) Error() string {
	return strings.TrimSpace("the gateway answers with UPnP error " + e.Code + " " + e.Words)
}

// argument is one of an action, in the order that its description gives.
type argument struct{ name, value string }

// call has the gateway carry out an action, and returns what it answers. Errors: Refused, those of the network, and a reply that is none.
func (g Gateway) call(ctx context.Context, action string, in ...argument) (map[string]string, error) {
	var body bytes.Buffer
	body.WriteString(`<?xml version="1.0"?><s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/" ` +
		`s:encodingStyle="http://schemas.xmlsoap.org/soap/encoding/"><s:Body><u:` + action + ` xmlns:u="` + g.Service + `">`)
	for _, a := range in {
		body.WriteString("<" + a.name + ">")
		_ = xml.EscapeText(&body, []byte(a.value)) // a buffer takes all
		body.WriteString("</" + a.name + ">")
	}
	body.WriteString(`</u:` + action + `></s:Body></s:Envelope>`)
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, g.controlURL.String(), &body)
	if err != nil {
		return nil, err
	}
	req.Header.Set("Content-Type", `text/xml; charset="utf-8"`)
	req.Header.Set("SOAPAction", `"`+g.Service+`#`+action+`"`)
	r, err := plain().Do(req)
	if err != nil {
		return nil, err
	}
	defer r.Body.Close()
	reply, err := bounded(r.Body)
	if err != nil {
		return nil, err
	}
	return readAnswer(action, reply, r.StatusCode)
}

func readAnswer(action string, reply []byte, status int) (out map[string]string, err error) {
	var refused *Refused
	err = elements(reply, func(path []string, fields map[string]string) {
		switch path[len(path)-1] {
		case action + "Response":
			out = fields
		case "UPnPError":
			refused = &Refused{strings.TrimSpace(fields["errorCode"]), strings.TrimSpace(fields["errorDescription"])}
		}
	})
	switch {
	case err != nil:
		return nil, err
	case refused != nil:
		return nil, *refused
	case status != http.StatusOK:
		return nil, fmt.Errorf("the gateway answers with HTTP %d", status)
	}
	return out, nil
}

// External asks the gateway for its external address (GetExternalIPAddress). Errors: Refused, those of the network, and a reply without an
// address.
func (g Gateway) External(ctx context.Context) (netip.Addr, error) {
	out, err := g.call(ctx, "GetExternalIPAddress")
	if err != nil {
		return netip.Addr{}, err
	}
	address := out["NewExternalIPAddress"]
	if address == "" {
		return netip.Addr{}, errors.New("the gateway has no external address: it is not connected")
	}
	a, err := netip.ParseAddr(address)
	if err != nil {
		return netip.Addr{}, fmt.Errorf("the gateway's external address %q is not an address", address)
	}
	return a.Unmap(), nil
}
