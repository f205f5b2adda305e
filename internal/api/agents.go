package api

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"inkpost.example/inkpost/internal/access"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/core/wan"
	"inkpost.example/inkpost/internal/engine/intake"
	"inkpost.example/inkpost/internal/engine/siteside"
	"inkpost.example/inkpost/internal/store"
)

// Bounds of what an agent may report.
const (
	maxReports = 16
	maxUp      = 1e9 // seconds, 31 years
	maxWords   = 300 // characters of one remark
)

// errClock refuses an announcement of an agent whose clock is wrong: what it reports cannot be put in order.
type errClock struct{ off time.Duration }

func (e errClock) Error() string {
	way := "ahead of"
	if e.off < 0 {
		way = "behind"
	}
	return fmt.Sprintf("the clock at the site is %s %s the server's; set it, best by NTP, and the agent goes on by itself",
		e.off.Abs().Round(time.Second), way)
}

// report takes an announcement of an agent of protocol 2, which has asked all its sources.
func (a *api) report(c *echo.Context, p principal, in contract.Announcement, noticedBy wan.Source, noticed time.Time) error {
	from, err := clientAddress(c)
	if err != nil {
		return err
	}
	now := a.engine().Now()
	if off := in.Sent.Sub(now); in.Sent.IsZero() || off.Abs() > contract.ClockTolerance {
		a.engine().SiteSide.NoteRefusal(p.linkID, errClock{off}.Error(), from)
		return errClock{off}
	}
	reported := siteside.Reported{Noticed: noticed, Source: noticedBy, Agent: strings.TrimSpace(in.Version + " " + in.Platform),
		Protocol: in.Protocol, Up: time.Duration(min(max(in.UpSeconds, 0), maxUp) * float64(time.Second)),
		Resolver: in.Resolver, Cannot: in.Cannot}
	var f site.Flaws
	if len(in.Reports) > maxReports || len(in.Chain) > maxReports || len(in.Cannot) > maxReports || len(in.Down) > maxReports {
		f.Note("reports", fmt.Errorf("there are too many; %d at most", maxReports))
		return f.Err()
	}
	for i, r := range in.Reports {
		field := fmt.Sprintf("reports[%d]", i)
		one, err := readReport(r, now)
		f.Note(field, err)
		reported.Reports = append(reported.Reports, one)
	}
	for i, hop := range in.Chain {
		at, err := netip.ParseAddr(hop)
		f.Note(fmt.Sprintf("chain[%d]", i), err)
		reported.Chain = append(reported.Chain, at)
	}
	for _, words := range append([]string{in.Version, in.Platform, in.Resolver}, append(in.Cannot, in.Down...)...) {
		if len(words) > maxWords {
			f.Note("words", fmt.Errorf("a remark has more than %d characters", maxWords))
		}
	}
	if err := f.Err(); err != nil {
		return err
	}
	r, j, err := a.engine().Report(c.Request().Context(), intake.ClaimantOf(p.key, from), reported)
	if err != nil {
		return err
	}
	a.engine().SiteSide.NoteDown(p.linkID, in.Down)
	return c.JSON(http.StatusOK, contract.Receipt{Changed: r.Decision.Changed, Old: r.Decision.Old.String(), New: r.Decision.New.String(),
		MoveID: r.MoveID, Hostnames: r.Hostnames, Held: j.Held, NAT: j.NAT.Verdict})
}

func readReport(in contract.SourceReport, now time.Time) (wan.Report, error) {
	source, err := wan.ParseSource(in.Source)
	if err != nil {
		return wan.Report{}, err
	}
	if len(in.Via) > maxWords || len(in.Problem) > maxWords {
		return wan.Report{}, fmt.Errorf("a remark has more than %d characters", maxWords)
	}
	if in.AgeMS < 0 || in.AgeMS > maxNoticed.Milliseconds() {
		return wan.Report{}, fmt.Errorf("age_ms %d is out of range; 0 to %d are allowed", in.AgeMS, maxNoticed.Milliseconds())
	}
	out := wan.Report{Source: source, Via: in.Via, At: now.Add(-time.Duration(in.AgeMS) * time.Millisecond), Problem: in.Problem}
	four, err := typed("ipv4", in.IPv4)
	if err != nil {
		return out, err
	}
	six, err := typed("ipv6", in.IPv6)
	out.Addresses = wan.Pair{IPv4: four.IPv4, IPv6: six.IPv6}
	return out, err
}

// noteRefused notes a refused key at the site that it seems to come from: the site whose revoked key it is, the one that the caller names,
// or the one that has the caller's address. The caller is told nothing.
func (a *api) noteRefused(c *echo.Context, k store.Key, named string, err error) {
	if !errors.Is(err, access.ErrKey) || !a.traces.Allow() {
		return
	}
	from, addrErr := clientAddress(c)
	if addrErr != nil {
		return
	}
	switch link, known := a.engine().LinkAt(from); {
	case k.LinkID != 0:
		a.engine().SiteSide.NoteRefusal(int64(k.LinkID), "a key that was revoked is still in use", from)
	case named != "" && a.engine().FirstLink(named) != 0:
		a.engine().SiteSide.NoteStranger(a.engine().FirstLink(named), "a wrong key was given with the site's name", from)
	case known:
		a.engine().SiteSide.NoteStranger(link, "a wrong key comes from the site's own address", from)
	}
}

// maxTaskWait is the longest that a request for tasks waits.
const maxTaskWait = 55

func (a *api) agentTasks(c *echo.Context, p principal) error {
	wait, err := number(c, "wait_seconds", 0, 0, maxTaskWait)
	if err != nil {
		return site.Flaws{{Field: "wait_seconds", Detail: err.Error()}}
	}
	ctx, cancel := context.WithTimeout(c.Request().Context(), time.Duration(wait)*time.Second)
	defer cancel()
	out, err := a.engine().AgentTasks(ctx, p.linkID, c.QueryParam("have"))
	return ok(c, http.StatusOK, out, err)
}

// maxDevices bounds a report; no site has more devices on record.
const maxDevices = 1000

func (a *api) takeLAN(c *echo.Context, p principal) error {
	if err := a.bound(lanReportOfKey, p); err != nil {
		return err
	}
	var in contract.LANReport
	if err := decodeReport(c, &in); err != nil {
		return err
	}
	if len(in.Devices) > maxDevices {
		return site.Flaws{{Field: "devices", Detail: fmt.Sprintf("there are more than %d", maxDevices)}}
	}
	for i, s := range in.Devices {
		if err := checkReport(s); err != nil {
			return site.Flaws{{Field: fmt.Sprintf("devices[%d]", i), Detail: err.Error()}}
		}
	}
	if in.Gateway != nil {
		if err := checkWord(*in.Gateway); err != nil {
			return site.Flaws{{Field: "gateway", Detail: err.Error()}}
		}
	}
	if err := a.engine().NoteDevices(p.linkID, in); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

// checkWord bounds what an agent says of its router.
func checkWord(w contract.GatewayWord) error {
	if len(w.Ports) > maxDevices {
		return fmt.Errorf("has more than %d ports", maxDevices)
	}
	if len(w.Line) > maxWords || len(w.Trouble) > maxWords {
		return fmt.Errorf("a text has more than %d characters", maxWords)
	}
	for _, p := range w.Ports {
		if len(p.Service) > maxWords || len(p.To) > maxWords || len(p.Description) > maxWords {
			return fmt.Errorf("a text about a port has more than %d characters", maxWords)
		}
		if _, err := netip.ParseAddrPort(p.To); p.To != "" && err != nil {
			return fmt.Errorf("the port of %s leads to %q; an address and a port are allowed, such as 192.168.7.30:8443", p.Service, p.To)
		}
	}
	return nil
}

// checkReport bounds what an agent says of one device.
func checkReport(s contract.DeviceReport) error {
	if len(s.Ports) > maxDevices {
		return fmt.Errorf("has more than %d ports", maxDevices)
	}
	for _, words := range []string{s.Device, s.Found, s.IPv6, s.MAC} {
		if len(words) > maxWords {
			return fmt.Errorf("a text has more than %d characters", maxWords)
		}
	}
	for _, p := range s.Ports {
		if len(p.Service) > maxWords || len(p.State) > maxWords || len(p.Detail) > maxWords ||
			len(p.Fingerprint) > maxWords || len(p.Loop) > maxWords {
			return fmt.Errorf("a text about a port has more than %d characters", maxWords)
		}
	}
	return nil
}

func (a *api) tellProof(c *echo.Context, p principal) error {
	var in contract.ProofNews
	if err := decodeReport(c, &in); err != nil {
		return err
	}
	if len(in.State) > maxWords || len(in.From) > maxWords || len(in.Problem) > maxWords {
		return site.Flaws{{Field: "problem", Detail: fmt.Sprintf("has more than %d characters", maxWords)}}
	}
	id, err := strconv.ParseInt(c.Param("id"), 10, 64)
	if err != nil {
		return store.Missing{Kind: "proof", Name: c.Param("id")}
	}
	if err := a.engine().SiteSide.NoteProof(p.linkID, id,
		siteside.ProofNews{State: in.State, Problem: in.Problem, Address: in.Address}); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}

func (a *api) lan(c *echo.Context, _ principal) error {
	out, err := a.engine().DeviceReports(c.Param("code"))
	return ok(c, http.StatusOK, out, err)
}

func (a *api) look(c *echo.Context, _ principal) error {
	out, err := a.engine().Scan(c.Request().Context(), c.Param("code"))
	return ok(c, http.StatusOK, out, err)
}

func (a *api) prove(c *echo.Context, _ principal) error {
	var in contract.ProofInput
	if err := decode(c, &in); err != nil {
		return err
	}
	out, err := a.engine().Prove(c.Request().Context(), c.Param("code"), in)
	return ok(c, http.StatusOK, out, err)
}

func (a *api) nextKey(c *echo.Context, p principal) error {
	key, err := a.engine().Access.NextKey(c.Request().Context(), p.key)
	return ok(c, http.StatusCreated, contract.NextKey{Key: key}, err)
}

func (a *api) turnKey(c *echo.Context, p principal) error {
	id, err := a.keyHeld(c, p)
	if err != nil {
		return err
	}
	if err := a.engine().Access.RotateKey(c.Request().Context(), id); err != nil {
		return err
	}
	return c.NoContent(http.StatusNoContent)
}
