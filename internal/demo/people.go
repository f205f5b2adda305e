package demo

import (
	"context"
	"net"
	"strings"
	"time"

	"inkpost.example/inkpost/internal/access"
	"inkpost.example/inkpost/internal/contract"
	"inkpost.example/inkpost/internal/core/fault"
	"inkpost.example/inkpost/internal/core/notice"
	"inkpost.example/inkpost/internal/core/team"
	"inkpost.example/inkpost/internal/lab/mailsink"
	"inkpost.example/inkpost/internal/store"
)

// mailAt is where the demo's mail server listens: it keeps what it gets.
const mailAt = "127.0.0.1:8425"

// startMail starts the mail server, on a free port where the console has one.
func (d *Demo) startMail(o Options) (string, error) {
	at := mailAt
	if strings.HasSuffix(o.HTTP, ":0") {
		at = "127.0.0.1:0"
	}
	l, err := net.Listen("tcp", at)
	if err != nil {
		return "", err
	}
	d.Mail = mailsink.New(nil)
	d.agents.Go(func() { _ = d.Mail.Serve(l) })
	return l.Addr().String(), nil
}

const (
	dispatch   = "dispatch"
	technician = "field technician"
	museum     = "museum"
)

// tags put the sites of the scenario together.
var tags = map[string][]string{"KET-07": {"harbour", "museum"}, "FER-11": {"harbour"}, "BOA-09": {"harbour"}, "OYS-03": {"harbour"},
	"CLI-05": {"public"}, "SCH-10": {"public"}}

// seedPeople puts those on record who are told, and says of what.
func seedPeople(ctx context.Context, d *Demo) error {
	e := d.Engine()
	for name, r := range map[string]store.Rights{dispatch: {Role: team.Technician}, technician: {Role: team.Technician,
		Tags: []string{"harbour"}}, museum: {Role: team.Viewer, Tags: []string{"museum"}}} {
		if _, err := access.ResetPassword(ctx, d.Store(), name, time.Now(), true); err != nil {
			return err
		}
		if err := e.Access.SetRights(ctx, name, func(store.Rights) store.Rights { return r }); err != nil {
			return err
		}
	}
	for _, p := range []contract.Addressee{{Name: owner, Mail: "owner@saltmarsh.example"}, {Name: dispatch,
		Mail: "dispatch@saltmarsh.example"},
		{Name: technician, Mail: "field@saltmarsh.example"}} {
		if _, err := e.SetAddressee(ctx, p.Name, contract.AddresseeInput{Mail: p.Mail, Zone: "Europe/London"}); err != nil {
			return err
		}
	}
	for _, r := range []notice.Rule{
		{Person: dispatch, Topic: notice.Faults, Serious: true},
		{Person: technician, Topic: notice.Faults, Scope: fault.Scope{Tag: "harbour"}, Subject: "[{site}] {summary}"},
		{Person: owner, Topic: notice.Faults, Serious: true, AfterMinutes: 30},
		{Person: technician, Topic: notice.Moves, Scope: fault.Scope{Site: "KET-07"}},
		{Person: owner, Topic: notice.Weekly, Hours: notice.Hours{From: "07:00", Zone: "Europe/London"}},
	} {
		if _, err := e.AddNoticeRule(ctx, r); err != nil {
			return err
		}
	}
	return nil
}
