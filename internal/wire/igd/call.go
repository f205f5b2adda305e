package igd

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"strings"
)

// External asks the gateway for its external address (GetExternalIPAddress). Errors: those of the network, and a reply without an address.
func (g Gateway) External(ctx context.Context) (netip.Addr, error) {
	const action = "GetExternalIPAddress"
	body := `<?xml version="1.0"?><s:Envelope xmlns:s="http://schemas.xmlsoap.org/soap/envelope/" ` +
		`s:encodingStyle="http://schemas.xmlsoap.org/soap/encoding/"><s:Body><u:` +
		action + ` xmlns:u="` + g.Service + `"></u:` + action + `></s:Body></s:Envelope>`
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, g.controlURL.String(), strings.NewReader(body))
	if err != nil {
		return netip.Addr{}, err
	}
	req.Header.Set("Content-Type", `text/xml; charset="utf-8"`)
	req.Header.Set("SOAPAction", `"`+g.Service+`#`+action+`"`)
	r, err := plain().Do(req)
	if err != nil {
		return netip.Addr{}, err
	}
	defer r.Body.Close()
	reply, err := bounded(r.Body)
	if err != nil {
		return netip.Addr{}, err
	}
	return readExternal(reply, r.StatusCode)
}

func readExternal(reply []byte, status int) (netip.Addr, error) {
	var address, problem string
	err := elements(reply, func(path []string, fields map[string]string) {
		switch path[len(path)-1] {
		case "GetExternalIPAddressResponse":
			address = fields["NewExternalIPAddress"]
		case "UPnPError":
			problem = strings.TrimSpace(fields["errorCode"] + " " + fields["errorDescription"])
		}
	})
	switch {
	case err != nil:
		return netip.Addr{}, err
	case problem != "":
		return netip.Addr{}, fmt.Errorf("the gateway answers with UPnP error %s", problem)
	case status != http.StatusOK:
		return netip.Addr{}, fmt.Errorf("the gateway answers with HTTP %d", status)
	case address == "":
		return netip.Addr{}, errors.New("the gateway has no external address: it is not connected")
	}
	a, err := netip.ParseAddr(address)
	if err != nil {
		return netip.Addr{}, fmt.Errorf("the gateway's external address %q is not an address", address)
	}
	return a.Unmap(), nil
}
