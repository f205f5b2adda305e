package api

import (
	"context"
	"encoding/gob"
	"net/http"
	"time"

	"github.com/labstack/echo/v5"
	"github.com/miekg/dns"

	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/site"
)

// memberRoutes are the doors between servers on one database, and who they are.
func (a *api) memberRoutes() []route {
	at := base + "/members"
	return []route{
		{method: "POST", path: at + "/updates", summary: "Carry out a DNS UPDATE that another server on the database was asked for",
			who: memberOnly, in: contract.RelayedUpdate{}, out: contract.UpdateReply{}, serve: a.relayedUpdate},
		{method: "POST", path: at + "/heartbeats", summary: "Note agents that another server on the database has heard of",
			who: memberOnly, in: []contract.Heartbeat{}, status: http.StatusNoContent, serve: a.relayedHeartbeats},
		{method: "GET", path: at + "/probes", summary: "Follow what another server on the database is to probe (application/x-ndjson)",
			who: memberOnly, stream: true, query: []param{{"server", "its name", wordParam}, {"room", "rounds at once", numberParam}},
			serve: a.lend},
		{method: "GET", path: at + "/knowledge", summary: "Follow what is known beyond the database (a stream of encoding/gob)",
			who: memberOnly, stream: true, serve: a.tell},
		{method: "POST", path: at + "/rounds", summary: "Return what another server on the database has probed", who: memberOnly,
			large: true, in: contract.LentRounds{}, status: http.StatusNoContent, serve: a.lentRounds},
		{method: "GET", path: base + "/servers", summary: "List the servers on the database, and which shards they probe", who: person,
			out: []contract.Server{}, serve: a.servers},
	}
}

func (a *api) servers(c *echo.Context, _ principal) error {
	out, err := a.engine().Servers(c.Request().Context())
	return ok(c, http.StatusOK, out, err)
}

const (
	// lendHeartbeat is how often a stream of probes says that it is alive: who hears nothing looks for another server that writes.
	lendHeartbeat = 2 * time.Second
	// maxRoom is how many rounds another server makes at once at most.
	maxRoom = 1 << 16
)

// lend streams what another server is to probe.
func (a *api) lend(c *echo.Context, _ principal) error {
	room, err := number(c, "room", 0, 1, maxRoom)
	if err != nil {
		return site.Flaws{{Field: "room", Detail: err.Error()}}
	}
	name := c.QueryParam("server")
	if name == "" || len(name) > maxWords {
		return site.Flaws{{Field: "server", Detail: "is missing, or too long"}}
	}
	eng, ctx := a.engine(), c.Request().Context()
	place := eng.JoinShards(name, room)
	defer place.Leave()
	write := lineByLine(c)
	if write(contract.LentProbes{Probes: []contract.LentProbe{}}) != nil {
		return nil
	}
	for ctx.Err() == nil {
		wait, cancel := context.WithTimeout(ctx, lendHeartbeat)
		list, there := eng.Lent(wait, place)
		cancel()
		select {
		case <-eng.Stopping():
			return nil
		default:
		}
		if !there || write(contract.LentProbes{Probes: list}) != nil {
			return nil
		}
	}
	return nil
}

// tell streams what this server knows to another one.
func (a *api) tell(c *echo.Context, _ principal) error {
	w := c.Response()
	control := http.NewResponseController(w)
	telling := a.engine().Tell()
	defer telling.Close()
	w.Header().Set("Content-Type", "application/octet-stream")
	w.WriteHeader(http.StatusOK)
	out := gob.NewEncoder(w)
	for {
		news, ok := telling.Next(c.Request().Context())
		if !ok {
			return nil
		}
		_ = control.SetWriteDeadline(time.Now().Add(writeWait))
		if out.Encode(news) != nil || control.Flush() != nil {
			return nil
		}
	}
}

func (a *api) lentRounds(c *echo.Context, _ principal) error {
	var in contract.LentRounds
	if err := decodeReport(c, &in); err != nil {
		return err
	}
	if !a.engine().NoteRounds(in) {
		return errNotOurs // it has to join again
	}
	return c.NoContent(http.StatusNoContent)
}

// relayedUpdate carries out a DNS UPDATE that another server was asked for.
func (a *api) relayedUpdate(c *echo.Context, _ principal) error {
	var in contract.RelayedUpdate
	if err := decode(c, &in); err != nil {
		return err
	}
	m := new(dns.Msg)
	if err := m.Unpack(in.Message); err != nil {
		return ok(c, http.StatusOK, contract.UpdateReply{RCode: dns.RcodeFormatError}, nil)
	}
	from, err := a.relayedFor(c.Request())
	if err != nil {
		return errNotOurs
	}
	done := make(chan int, 1)
	a.engine().Update(c.Request().Context(), m, in.Key, from.Address, func(rcode int, _ bool) { done <- rcode })
	select {
	case rcode := <-done:
		return ok(c, http.StatusOK, contract.UpdateReply{RCode: rcode}, nil)
	case <-c.Request().Context().Done():
		return c.Request().Context().Err()
	}
}

// relayedHeartbeats notes agents that another server has heard of.
func (a *api) relayedHeartbeats(c *echo.Context, _ principal) error {
	var list []contract.Heartbeat
	if err := decode(c, &list); err != nil {
		return err
	}
	for _, one := range list {
		a.engine().NoteHeartbeat(one.Username, one.From.Unmap())
	}
	return c.NoContent(http.StatusNoContent)
}
