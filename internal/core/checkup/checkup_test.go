package checkup_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/checkup"
)

var now = time.Date(2026, 11, 30, 9, 0, 0, 0, time.UTC)

func one(t *testing.T, list []checkup.Point, name string) checkup.Point {
	t.Helper()
	for _, c := range list {
		if c.Name == name {
			return c
		}
	}
	t.Fatalf("%q was not looked at: %v", name, list)
	return checkup.Point{}
}

func TestWhatIsNotGoodSaysWhatToDo(t *testing.T) {
	well := checkup.Base{Took: time.Millisecond, Version: "15.8", Used: 5, Most: 100, Has: 30, Known: 30, Writer: "a (process 7)",
		Since: now}
	base := func(edit func(*checkup.Base)) []checkup.Point {
		b := well
		edit(&b)
		return append(b.Judge(), b.JudgeBackup(now))
	}
	for name, c := range map[string]struct {
		list   []checkup.Point
		name   string
		as     checkup.Standing
		seen   string
		advice string
	}{
		"database away": {base(func(b *checkup.Base) { b.Trouble = "connection refused" }), "answers", checkup.Wrong, "connection refused",
			"start PostgreSQL"},
		"database slow": {base(func(b *checkup.Base) { b.Took = time.Second }), "answers", checkup.Attention, "takes 1000 ms", "load"},
		"connections":   {base(func(b *checkup.Base) { b.Used = 95 }), "connections", checkup.Attention, "95 of 100", "max_connections"},
		"older schema": {base(func(b *checkup.Base) { b.Has = 29 }), "schema", checkup.Wrong, "29, and this program needs 30",
			"inkpost serve"},
		"newer schema": {base(func(b *checkup.Base) { b.Has = 31 }), "schema", checkup.Wrong, "knows up to 30", "newer inkpost"},
		"no writer":    {base(func(b *checkup.Base) { b.Writer = "" }), "writer", checkup.Wrong, "no server writes", "inkpost serve"},
		"no backup":    {base(func(*checkup.Base) {}), "newest", checkup.Wrong, "none was ever made", "inkpost backup"},
		"old backup": {base(func(b *checkup.Base) { b.Backup = now.Add(-9 * 24 * time.Hour) }), "newest", checkup.Attention, "9 days old",
			"inkpost backup"},
		"very old backup": {base(func(b *checkup.Base) { b.Backup = now.Add(-40 * 24 * time.Hour) }), "newest", checkup.Wrong,
			"40 days old",
			"inkpost backup"},
		"fresh backup": {base(func(b *checkup.Base) { b.Backup, b.BackupOctets = now.Add(-5*time.Hour), 3<<20 }), "newest", checkup.Good,
			"5 hours old, 3 MiB", ""},
		"disk full": {[]checkup.Point{checkup.Volume{Use: "database", Path: "/d", Free: 100 << 20, Size: 100 << 30}.Judge()}, "database",
			checkup.Wrong, "100 MiB free of 100.0 GiB at /d", "make room"},
		"disk nearly full": {[]checkup.Point{checkup.Volume{Use: "database", Path: "/d", Free: 5 << 30, Size: 100 << 30}.Judge()},
			"database",
			checkup.Attention, "5.0 GiB free", "make room"},
		"large disk": {[]checkup.Point{checkup.Volume{Use: "database", Path: "/d", Free: 50 << 30, Size: 1000 << 30}.Judge()}, "database",
			checkup.Good, "50.0 GiB free", ""},
		"no folder": {[]checkup.Point{checkup.Volume{Use: "copy", Path: "/d", Trouble: "no such file"}.Judge()}, "copy", checkup.Wrong,
			"/d: no such file", "make the folder"},
		"clock adrift":  {checkup.Time{Told: true}.Judge(), "time server", checkup.Attention, "follows no time server", "timedatectl"},
		"clock unknown": {checkup.Time{}.Judge(), "time server", checkup.Untried, "does not say", ""},
		"clocks apart": {checkup.Time{Told: true, Synced: true, BaseThere: true, Offset: -5 * time.Second}.Judge(), "database",
			checkup.Wrong, "differs from this machine's by 5000 ms", "time server"},
		"no vantage point": {checkup.JudgeViews([]checkup.View{{Name: "server", Own: true, State: "working"}}, "working"), "elsewhere",
			checkup.Attention, "none looks from elsewhere", "inkpost vantage invite"},
		"vantage point ailing": {checkup.JudgeViews([]checkup.View{{Name: "harbour", State: "ailing", Problem: "its clock"}}, "working"),
			"harbour", checkup.Attention, "is ailing: its clock", "does not count"},
		"vantage point away": {checkup.JudgeViews([]checkup.View{{Name: "harbour", State: "away"}}, "working"), "harbour",
			checkup.Attention, "is away", "inkpost vantage remove harbour"},
		"port not passed on": {[]checkup.Point{checkup.Door{Name: "names", From: "harbour", Where: "UDP 192.0.2.1:53", Tried: true,
			Words: "refused", Inner: 8453, InnerAnswers: true, Needed: "names are not found"}.Judge()}, "names from harbour", checkup.Wrong,
			"the service answers at port 8453", "pass that port on to 8453"},
		"port shut": {[]checkup.Point{checkup.Door{Name: "STUN", From: "harbour", Where: "UDP 192.0.2.1:3478", Tried: true,
			Words: "silent"}.Judge()}, "STUN from harbour", checkup.Wrong, "does not answer: silent", "firewall"},
		"port not tried": {[]checkup.Point{checkup.Door{Name: "STUN", From: "harbour", Where: "UDP port 3478", Words: "no answer"}.Judge()},
			"STUN from harbour", checkup.Untried, "was not tried: no answer", ""},
		"no mail": {[]checkup.Point{checkup.Post{}.Judge()}, "server", checkup.Attention, "none is set", "--mail-server"},
		"mail refused": {[]checkup.Point{checkup.Post{Set: true, Address: "m:25", Step: "sign in", Trouble: "535 no"}.Judge()}, "server",
			checkup.Wrong, "m:25, at sign in: 535 no", "--mail-user"},
		"no URL": {[]checkup.Point{checkup.Cert{}.Judge(now)}, "public URL", checkup.Attention, "nobody has said", "--public-url"},
		"not encrypted": {[]checkup.Point{checkup.Cert{URL: "http://post.example"}.Judge(now)}, "public URL", checkup.Attention,
			"is not encrypted", "HTTPS"},
		"certificate bad": {[]checkup.Point{checkup.Cert{URL: "https://post.example", Trouble: "expired"}.Judge(now)}, "public URL",
			checkup.Wrong, "expired", "renew"},
		"certificate ends": {[]checkup.Point{checkup.Cert{URL: "https://post.example", Expires: now.Add(10 * 24 * time.Hour)}.Judge(now)},
			"public URL", checkup.Attention, "ends in 10 days", "renew"},
		"no resolver": {checkup.JudgeResolvers(nil), "set", checkup.Attention, "none is set", "--resolver"},
		"resolver silent": {checkup.JudgeResolvers([]checkup.Asked{{At: "192.0.2.53:53", Trouble: "timeout"}}), "192.0.2.53:53",
			checkup.Wrong, "does not answer: timeout", "--resolver"},
		"no server": {[]checkup.Point{checkup.Serving{URL: "http://a", Trouble: "refused"}.Judge()}, "answers", checkup.Wrong,
			"nothing answers at http://a: refused", "inkpost serve"},
		"not ready": {[]checkup.Point{checkup.Serving{URL: "http://a", Words: "is away"}.Judge()}, "answers", checkup.Wrong,
			"its database is away", "database"},
	} {
		t.Run(name, func(t *testing.T) {
			got := one(t, c.list, c.name)
			require.Equal(t, c.as, got.Standing, got.Seen)
			require.Contains(t, got.Seen, c.seen)
			require.Contains(t, got.Fix, c.advice)
			require.Equal(t, c.as == checkup.Attention || c.as == checkup.Wrong, got.Fix != "", "what is not good says what to do")
		})
	}
}

func TestZonesAreJudgedByTheirParentsAndServers(t *testing.T) {
	healthy := func() checkup.Zonal {
		return checkup.Zonal{Apex: "isles.example", Ours: true, Names: []string{"ns1.isles.example", "ns2.isles.example"},
			Glue: map[string][]string{"ns1.isles.example": {"192.0.2.1"}}, Serial: 40, Parent: "example",
			From: []checkup.Delegated{{Server: "a.example", Names: []string{"NS2.isles.example.", "ns1.isles.example"},
				Glue: map[string][]string{"ns1.isles.example": {"192.0.2.1"}}}},
			Servers: []checkup.Served{{Server: "ns1.isles.example", Address: "192.0.2.1", Authoritative: true, Serial: 40},
				{Server: "ns2.isles.example", Address: "192.0.2.2", Authoritative: true, Serial: 40}}}
	}
	require.Equal(t, checkup.Good, checkup.Worst(healthy().Judge()))
	for name, c := range map[string]struct {
		edit func(*checkup.Zonal)
		as   checkup.Standing
		seen string
	}{
		"not delegated": {func(z *checkup.Zonal) { z.From[0].Names = nil }, checkup.Wrong, "delegates it to nobody"},
		"other servers": {func(z *checkup.Zonal) { z.From[0].Names = []string{"old.example"} }, checkup.Attention,
			"names old.example, the zone"},
		"old glue": {func(z *checkup.Zonal) { z.From[0].Glue["ns1.isles.example"] = []string{"192.0.2.9"} }, checkup.Wrong,
			"has ns1.isles.example at 192.0.2.9, the zone itself at 192.0.2.1"},
		"silent server": {func(z *checkup.Zonal) { z.Servers[1].Trouble = "timeout" }, checkup.Wrong,
			"(192.0.2.2) does not answer: timeout"},
		"lame server": {func(z *checkup.Zonal) { z.Servers[1].Authoritative = false }, checkup.Wrong, "does not serve the zone"},
		"behind":      {func(z *checkup.Zonal) { z.Servers[1].Serial = 38 }, checkup.Attention, "has serial 38, the newest is 40"},
		"ahead":       {func(z *checkup.Zonal) { z.Servers[1].Serial = 41 }, checkup.Wrong, "above ours, 40"},
		"other names": {func(z *checkup.Zonal) { z.Servers[1].Names = []string{"x.example"} }, checkup.Attention,
			"names x.example as its"},
		"one server": {func(z *checkup.Zonal) { z.Servers = z.Servers[:1] }, checkup.Attention, "only one server"},
		"the serial goes round": {func(z *checkup.Zonal) { z.Serial, z.Servers[0].Serial, z.Servers[1].Serial = 2, 2, 4294967295 },
			checkup.Attention, "has serial 4294967295, the newest is 2"},
	} {
		t.Run(name, func(t *testing.T) {
			z := healthy()
			c.edit(&z)
			list := z.Judge()
			require.Equal(t, c.as, checkup.Worst(list), "%v", list)
			found := ""
			for _, one := range list {
				if one.Standing == c.as {
					require.NotEmpty(t, one.Fix)
					found += one.Seen
				}
			}
			require.Contains(t, found, c.seen)
		})
	}
	unknown := checkup.Zonal{Apex: "isles.example", Trouble: "no resolver is set"}.Judge()
	require.Equal(t, checkup.Untried, unknown[0].Standing)
	silent := healthy()
	silent.From[0].Trouble = "timeout"
	require.Contains(t, silent.Judge()[0].Seen, "a.example: timeout")
	require.Equal(t, checkup.Untried, silent.Judge()[0].Standing)
}
