package commission_test

import (
	"net/netip"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/commission"
	"inkpost.example/inkpost/internal/core/diagnose"
	"inkpost.example/inkpost/internal/core/names"
	"inkpost.example/inkpost/internal/core/probe"
	"inkpost.example/inkpost/internal/core/site"
)

var began = time.Date(2026, 11, 30, 9, 0, 0, 0, time.UTC)

// fresh is a site whose agent runs, with a device and a service nobody has begun with.
func fresh() commission.Facts {
	return commission.Facts{Now: began.Add(10 * time.Second), Began: began, Site: "KET-07",
		Links: []commission.Link{{Link: site.Link{ID: 1, Label: "main", Agent: true, IPv4: netip.MustParseAddr("198.51.100.7"),
			Heard: began},
			MachineUp: began.Add(-time.Hour), Hostnames: []commission.Hostname{{Name: "ket-07.isles.saltmarsh.example",
				State: names.StatePointed, Want: "198.51.100.7",
				Elsewhere: []commission.Answer{{Server: "203.0.113.53:53", Given: "198.51.100.7", Right: true}}}}}},
		Devices: []commission.Device{{Device: site.Device{ID: 2, Name: "door-phone", MAC: "02:00:5e:07:00:03",
			Address: netip.MustParseAddr("192.168.7.22")}, Looked: began.Add(time.Second), Present: true}},
		Services: []commission.Service{{Service: site.Service{ID: 3, DeviceID: 2, Name: "view", Kind: probe.KindHTTP, Transport: probe.TCP,
			ExternalFrom: 8090, ExternalTo: 8090, InternalFrom: 80}, OnLink: 1, Agent: true}}}
}

type world struct {
	t       *testing.T
	facts   commission.Facts
	results []commission.Result
}

// look looks, keeps what is seen to be so, and returns the step that is due.
func (w *world) look() commission.Entry {
	entries, seen := commission.Look(w.facts, w.results)
	w.results = append(w.results, seen...)
	_, again := commission.Look(w.facts, w.results)
	require.Empty(w.t, again, "what was recorded is not found anew")
	e, _ := commission.Due(entries)
	return e
}

func (w *world) says(step commission.Step, of int64, state commission.State) {
	w.results = append(w.results, commission.Result{Step: step, Of: of, State: state, At: w.facts.Now, By: "field technician",
		Words: "said"})
}

func (w *world) expect(step commission.Step, state commission.State, words string) {
	w.t.Helper()
	e := w.look()
	require.Equal(w.t, step, e.Step)
	require.Equal(w.t, state, e.State, e.Words)
	require.Contains(w.t, e.Words, words)
}

func TestAServiceComesIntoUseStepByStep(t *testing.T) {
	w := &world{t: t, facts: fresh()}
	s := &w.facts.Services[0]
	w.expect(commission.Reserved, commission.Waiting, "192.168.7.22 is not noted as reserved")
	w.facts.Devices[0].Reserved = true
	w.expect(commission.Inside, commission.Waiting, "asked to look")
	s.Inside, s.Looked = "refused", began.Add(2*time.Second)
	w.expect(commission.Inside, commission.Failing, "the service does not run")
	s.Inside = "open"
	w.expect(commission.Before, commission.Waiting, "not probed")
	s.Probed, s.State, s.Outcome = began.Add(3*time.Second), probe.StateUnreachable, probe.Silent
	s.Finding = &diagnose.Finding{Cause: "forward-missing", Hop: diagnose.HopForward, Sure: causes.Likely, Summary: "no forward",
		Next: "Enter it."}
	w.expect(commission.Forward, commission.Waiting, "no forward")
	w.says(commission.Forward, 3, commission.Done)
	w.expect(commission.Forward, commission.Failing, "said by field technician to be done, and it is not so: no forward")
	s.Finding = &diagnose.Finding{Cause: "device-lan-only", Hop: diagnose.HopService, Sure: causes.Certain,
		Summary: "its firewall drops it"}
	w.expect(commission.Firewall, commission.Waiting, "its firewall drops it")
	s.State, s.Outcome, s.Finding, s.Proven = probe.StateReachable, probe.Answered, nil, w.facts.Now
	s.Fingerprint, s.Shown = "http door-phone", "http door-phone"
	w.expect(commission.ByName, commission.Waiting, "not tried")
	s.Named = commission.Named{Hostname: "ket-07.isles.saltmarsh.example", Given: "198.51.100.7", Good: true, At: w.facts.Now}
	w.expect(commission.Restart, commission.Waiting, "since before this run began")
	w.facts.Links[0].MachineUp, w.facts.Links[0].Heard = began.Add(4*time.Second), began.Add(8*time.Second)
	e := w.look()
	require.Equal(t, commission.Rehearsal, e.Step)
	require.True(t, e.Optional)
	w.facts.Closed = []commission.Door{{Service: "router-page", Port: "tcp 8081", Known: true, Closed: true}}
	w.facts.SheetKept, w.facts.SheetBy = w.facts.Now, "owner"
	w.look()
	entries, _ := commission.Look(w.facts, w.results)
	require.True(t, commission.Finished(entries), "a rehearsal may be left out: %v", entries)
	w.facts.Links[0].Moves = []commission.Move{{Old: "198.51.100.7", New: "198.51.100.9", At: began.Add(5 * time.Second),
		Confirmed: began.Add(7 * time.Second)}}
	w.look()
	entries, _ = commission.Look(w.facts, w.results)
	for _, e := range entries {
		require.Equal(t, commission.Done, e.State, "%s: %s", e.Step, e.Words)
	}
}

func TestWhatIsAlreadySoIsNotAskedFor(t *testing.T) {
	f := fresh()
	f.Devices[0].Reserved = true
	f.Services[0].Proven, f.Services[0].Inside, f.Services[0].Looked = began.Add(-time.Hour), "open", began.Add(time.Second)
	f.Services[0].State, f.Services[0].Outcome, f.Services[0].Probed = probe.StateReachable, probe.Answered, f.Now
	f.Services[0].Fingerprint = "http door-phone"
	entries, fresh := commission.Look(f, nil)
	for step, state := range map[commission.Step]commission.State{commission.OnRecord: commission.Done,
		commission.Before:  commission.Skipped,
		commission.Forward: commission.Done, commission.Firewall: commission.Done, commission.Outside: commission.Done,
		commission.Pinned: commission.Done} {
		require.Contains(t, func() (out []commission.State) {
			for _, e := range entries {
				if e.Step == step {
					out = append(out, e.State)
				}
			}
			return out
		}(), state, step)
	}
	for _, r := range fresh {
		require.Empty(t, r.By, "nobody said so")
		require.NotEmpty(t, r.Words)
	}
}

func TestEachTroubleIsFoundAtItsStep(t *testing.T) {
	seen := began.Add(2 * time.Second)
	for name, one := range map[string]struct {
		change func(*commission.Facts)
		step   commission.Step
		state  commission.State
		words  string
	}{
		"nothing heard": {func(f *commission.Facts) { f.Links[0].IPv4 = netip.Addr{} }, commission.OnRecord, commission.Waiting,
			"nothing has announced"},
		"key refused": {func(f *commission.Facts) {
			f.Links[0].IPv4, f.Links[0].Refused = netip.Addr{}, "its address is private"
		},
			commission.OnRecord, commission.Failing, "its address is private"},
		"no hostname": {func(f *commission.Facts) { f.Links[0].Hostnames = nil }, commission.OnRecord, commission.Waiting, "no hostname"},
		"moved inside": {func(f *commission.Facts) { f.Devices[0].Found = "192.168.7.140" }, commission.Reserved, commission.Failing,
			"192.168.7.140"},
		"its address is another's": {func(f *commission.Facts) { f.Devices[0].HeldBy = "02:00:5e:07:00:09" }, commission.Reserved,
			commission.Failing,
			"02:00:5e:07:00:09 answers"},
		"sleeps": {func(f *commission.Facts) {
			f.Devices[0].Reserved, f.Devices[0].Present = true, false
			f.Services[0].Inside, f.Services[0].Looked = "silent", seen
		}, commission.Inside, commission.Failing, "nobody at 192.168.7.22"},
		"something answers before": {func(f *commission.Facts) {
			f.Devices[0].Reserved = true
			s := &f.Services[0]
			s.Inside, s.Looked, s.Probed, s.Outcome, s.Seen = "open", seen, seen, probe.Answered, "a login page"
		}, commission.Before, commission.Failing, "a login page"},
	} {
		t.Run(name, func(t *testing.T) {
			w := &world{t: t, facts: fresh()}
			one.change(&w.facts)
			w.expect(one.step, one.state, one.words)
		})
	}
}

func TestTheNameIsLookedAtElsewhere(t *testing.T) {
	w := &world{t: t, facts: fresh()}
	l := &w.facts.Links[0]
	at := func() commission.Entry {
		entries, _ := commission.Look(w.facts, nil)
		e, ok := commission.Find(entries, commission.Resolved, "link main")
		require.True(t, ok)
		return e
	}
	require.Equal(t, commission.Done, at().State)
	h := &l.Hostnames[0]
	h.Elsewhere = append(h.Elsewhere, commission.Answer{Server: "203.0.113.54:53", Given: "198.51.100.3"})
	require.Equal(t, commission.Waiting, at().State)
	require.Contains(t, at().Words, "203.0.113.54:53 gives 198.51.100.3")
	other := commission.Hostname{Name: "slip.quay.saltmarsh.example", State: names.StateHeld, Want: "198.51.100.7"}
	l.Hostnames = append(l.Hostnames, other)
	require.Equal(t, commission.Failing, at().State, "what fails is told before what is waited for")
	require.Contains(t, at().Words, "does not take slip.quay.saltmarsh.example")
	l.Hostnames = l.Hostnames[:1]
	h = &l.Hostnames[0]
	h.State, h.Given = names.StateStale, "198.51.100.99"
	require.Equal(t, commission.Failing, at().State)
	require.Contains(t, at().Next, "somebody else's", "the name may be taken")
	l.Hostnames = nil
	require.Equal(t, commission.Later, at().State, "a hostname is asked for first")
}

func TestOneServicesTroubleDoesNotHoldUpAnother(t *testing.T) {
	f := fresh()
	f.Devices[0].Reserved = true
	other := f.Services[0]
	other.ID, other.Name = 4, "audio"
	f.Services = append(f.Services, other)
	f.Services[0].Inside, f.Services[0].Looked = "refused", began.Add(time.Second)
	f.Services[1].Inside, f.Services[1].Looked = "open", began.Add(time.Second)
	entries, _ := commission.Look(f, nil)
	e, _ := commission.Find(entries, commission.Inside, "service view")
	require.Equal(t, commission.Failing, e.State)
	e, _ = commission.Find(entries, commission.Before, "service view")
	require.Equal(t, commission.Later, e.State)
	e, _ = commission.Find(entries, commission.Before, "service audio")
	require.Equal(t, commission.Waiting, e.State)
	e, _ = commission.Find(entries, commission.Sheet, "")
	require.Equal(t, commission.Later, e.State, "the sheet comes last")
}

func TestADoorThatIsOpenIsFound(t *testing.T) {
	f := fresh()
	door := func(doors ...commission.Door) commission.Entry {
		f.Closed = doors
		entries, _ := commission.Look(f, []commission.Result{{Step: commission.Outside, Of: 3, State: commission.Done}})
		e, _ := commission.Find(entries, commission.Doors, "")
		return e
	}
	require.Equal(t, commission.Waiting, door().State, "nothing is on record: somebody has to say so")
	require.True(t, door().ByWord)
	open := commission.Door{Service: "router-page", Port: "tcp 8081", Known: true}
	require.Equal(t, commission.Failing, door(open).State)
	require.Contains(t, door(open).Words, "router-page (tcp 8081)")
	open.Closed = true
	require.Equal(t, commission.Done, door(open).State)
	open.Until = f.Now.Add(time.Hour)
	require.Equal(t, commission.Waiting, door(open).State, "it was opened for a while")
}

func TestWhatProvesNothingBySilenceIsSaid(t *testing.T) {
	f := fresh()
	f.Devices[0].Reserved = true
	s := &f.Services[0]
	s.Kind, s.Transport, s.Inside, s.Looked, s.Probed, s.Outcome = probe.KindUDP, probe.UDP, "silent", began.Add(time.Second), f.Now,
		probe.Silent
	entries, _ := commission.Look(f, nil)
	w := &world{t: t, facts: f}
	w.says(commission.Inside, 3, commission.Done)
	before, _ := commission.Find(func() []commission.Entry { list, _ := commission.Look(f, w.results); return list }(), commission.Before,
		"service view")
	require.Equal(t, commission.Skipped, before.State, "that nothing came back before is no proof either")
	for _, step := range []commission.Step{commission.Inside, commission.Outside, commission.ByName} {
		e, ok := commission.Find(entries, step, "service view")
		require.True(t, ok)
		require.True(t, e.ByWord, step)
		require.False(t, e.State.Over(), step)
	}
}

func TestWhatAKitAsksForComesFirst(t *testing.T) {
	w := &world{t: t, facts: fresh()}
	w.facts.Devices[0].Steps = []string{"Bring its firmware up to date.", "Replace the password."}
	w.expect(commission.Prepared, commission.Waiting, "its kit asks for this")
	require.Equal(t, "Bring its firmware up to date. Replace the password.", w.look().Do)
	w.says(commission.Prepared, 2, commission.Done)
	w.expect(commission.Reserved, commission.Waiting, "not noted as reserved")
}
