package api

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/netip"
	"slices"
	"strings"

	"github.com/labstack/echo/v5"

	"inkpost.example/inkpost/internal/access"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine/changes"
	"inkpost.example/inkpost/internal/engine/intake"
	"inkpost.example/inkpost/internal/store"
)

// A router that can do no more than fetch a URL announces its address here: with the key in the path, or by HTTP Basic with
// the key as the password. The reply is one line that begins with a word, or JSON where that is asked for.

// Reply words of a fetched announcement.
const (
	wordMoved   = "moved"   // the address is another one now, recorded and answered
	wordSame    = "same"    // it is the address that we had
	wordRefused = "refused" // the announcement is wrong; the line says how
	wordLater   = "later"   // not now; the line says when
)

// fetch takes an announcement that came as a plain GET or POST.
func (a *api) fetch(c *echo.Context, _ principal) error {
	reply := func(status int, f contract.FetchReply) error {
		if status == http.StatusServiceUnavailable || status == http.StatusTooManyRequests {
			c.Response().Header().Set("Retry-After", "5")
		}
		if status == http.StatusUnauthorized {
			c.Response().Header().Set("WWW-Authenticate", `Basic realm="announcements", charset="UTF-8"`)
		}
		if strings.Contains(c.Request().Header.Get("Accept"), "application/json") {
			c.Response().Header().Set("Content-Type", "application/json")
			c.Response().WriteHeader(status)
			return json.NewEncoder(c.Response()).Encode(f)
		}
		line := strings.Join(append([]string{f.Word, f.Address}, f.Hostnames...), " ")
		if len(f.Held) > 0 {
			line += " held " + strings.Join(f.Held, " ")
		}
		if f.Detail != "" {
			line = f.Word + ": " + f.Detail
		}
		return c.String(status, strings.TrimSpace(line)+"\n")
	}
	secret := c.Param("key")
	if secret == "" {
		_, secret, _ = c.Request().BasicAuth()
	}
	k, err := a.engine().Access.Key(secret)
	if err == nil && k.Scope != store.ScopeRouter { // an agent reports, and is weighed; a person announces nothing
		k, err = store.Key{}, access.ErrKey
	}
	if err != nil {
		user, _, _ := c.Request().BasicAuth()
		a.noteRefused(c, k, user, err)
	}
	switch {
	case errors.Is(err, access.ErrKey):
		return reply(http.StatusUnauthorized, contract.FetchReply{Word: wordRefused, Detail: "this key cannot announce"})
	case !a.perKey.Allow(fetchOfKey, k.ID):
		return reply(http.StatusTooManyRequests, contract.FetchReply{Word: wordLater,
			Detail: "this key announces too often; try again in 5 seconds"})
	}
	from, err := clientAddress(c)
	if err != nil {
		return err
	}
	in, err := a.fetchedAddresses(c, from)
	var except map[string]bool
	if err == nil {
		except, err = a.knownNames(c, int64(k.LinkID))
	}
	if err != nil {
		return reply(http.StatusUnprocessableEntity, contract.FetchReply{Word: wordRefused, Detail: err.Error()})
	}
	r, err := a.engine().Fetched(c.Request().Context(), intake.ClaimantOf(k, from), in, except)
	var notPublic wan.ErrNotPublic
	var refused changes.Refused
	switch {
	case errors.As(err, &notPublic), errors.As(err, &refused):
		return reply(http.StatusUnprocessableEntity, contract.FetchReply{Word: wordRefused, Detail: err.Error()})
	case errors.Is(err, changes.ErrLinkGone):
		return reply(http.StatusGone, contract.FetchReply{Word: wordRefused, Detail: err.Error()})
	case err != nil:
		return reply(http.StatusServiceUnavailable, contract.FetchReply{Word: wordLater, Detail: "not recorded; try again in 5 seconds"})
	}
	f := contract.FetchReply{Word: wordSame, Address: r.Decision.New.String(), Hostnames: r.Hostnames,
		Held: slices.Sorted(maps.Keys(except))}
	if r.Decision.Changed {
		f.Word = wordMoved
	}
	return reply(http.StatusOK, f)
}

// fetchedAddresses reads the addresses given, or takes that of the socket if none is.
func (a *api) fetchedAddresses(c *echo.Context, from netip.Addr) (wan.Announcement, error) {
	in := wan.Announcement{Source: wan.SourceInterface, Noticed: a.engine().Now()}
	for _, family := range []string{"ipv4", "ipv6"} {
		given, err := typed(family, c.FormValue(family))
		if err != nil {
			return in, fmt.Errorf("%s: %w", family, err)
		}
		if given.IPv4.IsValid() {
			in.Addresses.IPv4 = given.IPv4
		}
		if given.IPv6.IsValid() {
			in.Addresses.IPv6 = given.IPv6
		}
	}
	if !in.Addresses.Known() {
		in.Addresses = wan.PairOf(from)
	}
	if in.Addresses == wan.PairOf(from) {
		in.Source = wan.SourceObserved
	}
	return in, nil
}

// knownNames checks the hostnames that the router names, if any: each has to follow the key's link. That says to whoever
// set the router up that it is the right key; what is announced is the link's address, and so all of its hostnames', but
// for those that it asks to leave where they are.
func (a *api) knownNames(c *echo.Context, linkID int64) (except map[string]bool, err error) {
	values, err := c.FormValues()
	if err != nil {
		return nil, errors.New("the form cannot be read")
	}
	following := a.engine().HostnamesOf(linkID)
	named := func(field string) (map[string]bool, error) {
		out := map[string]bool{}
		for _, name := range values[field] {
			for _, one := range strings.Split(name, ",") {
				host := strings.TrimSuffix(strings.ToLower(strings.TrimSpace(one)), ".")
				if !following[host] {
					return nil, fmt.Errorf("%s %q does not follow the link of this key", field, one)
				}
				out[host] = true
			}
		}
		return out, nil
	}
	given, err := named("name")
	if err != nil {
		return nil, err
	}
	if except, err = named("except"); err != nil {
		return nil, err
	}
	for host := range except {
		if given[host] {
			return nil, fmt.Errorf("name %q is also to be left out", host)
		}
	}
	return except, nil
}
