package diagnose

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/probe"
)

// went is how probes of a service went lately: 40 quick answers, then these, in milliseconds; 0 is none.
func went(list ...int) (l probe.Lately) {
	for range 40 {
		l = l.Note(probe.Answered, 30*time.Millisecond)
	}
	for _, ms := range list {
		o := probe.Answered
		if ms == 0 {
			o = probe.Silent
		}
		l = l.Note(o, time.Duration(ms)*time.Millisecond)
	}
	return l
}

func TestALineThatLosesPacketsIsToldOnce(t *testing.T) {
	bad := went(0, 30, 30, 1030, 30, 30, 0, 30, 30)
	e := scene()
	e.Services[0].Lately, e.Services[2].Lately = bad, bad
	list := Site(e)
	require.Len(t, list, 1)
	f := list[0]
	require.Equal(t, []string{"line-loss", "link main"}, []string{string(f.Cause), f.Subject})
	require.Contains(t, f.Summary, "6 of 48 probes")
	require.Contains(t, f.Next, "Kettle Cable")
	require.Len(t, f.Evidence, 2)
	require.False(t, f.Serious(), "everything still works")

	e.Lossy = true
	require.Empty(t, Site(e), "it is our own line")
	e.Lossy, e.Services[2].Lately = false, went()
	require.Empty(t, Site(e), "of one service of three, it is not the line")
}

func TestWhatHasBecomeSlowIsToldOfWhatItHasInCommon(t *testing.T) {
	slow := went(1200, 1300, 1250, 1400, 1500)
	for name, c := range map[string]struct {
		which   []int
		subject string
		says    string
	}{
		"one service":  {[]int{0}, "service page", "page takes 1.2 s to answer, where 30 ms is usual"},
		"a device":     {[]int{0, 1}, "device recorder", "recorder takes"},
		"all the link": {[]int{0, 1, 2}, "link main", "Everything on link main takes"},
	} {
		e := scene()
		for _, i := range c.which {
			e.Services[i].Lately = slow
		}
		list := Site(e)
		require.Len(t, list, 1, name)
		require.Equal(t, c.subject, list[0].Subject, name)
		require.Contains(t, list[0].Summary, c.says, name)
		require.False(t, list[0].Serious())
	}
}

func TestACertificateForAnotherName(t *testing.T) {
	e := scene()
	s := &e.Services[0]
	s.Kind, s.Expires, s.CertificateFor, s.Misnamed = probe.KindHTTPS, now.AddDate(1, 0, 0), []string{"old.example"}, true
	f := Site(e)[0]
	require.EqualValues(t, "certificate-name", f.Cause)
	require.Contains(t, f.Summary, "made out to old.example, not to ket-07.isles.example")
	require.False(t, f.Serious())

	s.Options = probe.Share(probe.Options{Certificate: "checked"})
	fail(&e, probe.Garbled, 0)
	list := Site(e)
	require.Len(t, list, 1, "it fails for its certificate alone: nothing is weighed")
	require.EqualValues(t, "certificate-name", list[0].Cause)
	require.True(t, list[0].Serious(), "whoever checks it is turned away")

	s.Misnamed, s.Expires = false, now.Add(-time.Hour)
	list = Site(e)
	require.Len(t, list, 1)
	require.EqualValues(t, "certificate-expired", list[0].Cause)
	require.True(t, list[0].Serious())
}

func TestWhatMaySurpriseIsARemarkAndNoFault(t *testing.T) {
	e := scene()
	e.Services[2].Kind, e.Services[2].Transport, e.Services[2].State, e.Services[2].Outcome = probe.KindWireGuard, probe.UDP,
		probe.StateUnknown, probe.Silent
	e.Seen = map[string]DeviceReport{"recorder": {At: now, Present: true, Ports: map[string]string{"page": "open", "playback": "open"},
		Loop: map[string]string{"page": "silent", "playback": "answers"}}}
	require.Empty(t, Site(e))
	got := map[string]causes.Slug{}
	for _, p := range Paths(e) {
		for _, r := range p.Remarks {
			got[p.Service] = r.Cause
			require.NotContains(t, r.Words+r.Next, "{")
			require.False(t, strings.HasSuffix(r.Words, "."))
		}
	}
	require.Equal(t, map[string]causes.Slug{"page": "inside-only", "shell": "not-provable"}, got)
}
