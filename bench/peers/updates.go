package main

import (
	"fmt"
	"runtime"
	"strings"
	"time"

	"github.com/miekg/dns"

	"inkpost.example/inkpost/internal/wire/dnsupdate"
)

const updateNames = 250 // of one site

// updates sends signed updates, each of which gives one name another address. BIND and Knot write their journals, Ink Post
// records a move in PostgreSQL, with its history, all before they answer.
func updates(r rig) error {
	var list strings.Builder
	for round := range 40 {
		for i := range updateNames {
			fmt.Fprintf(&list, "%s\ndelete site-%d A\nadd site-%d 30 A 198.51.100.%d\nsend\n", apex, i, i, 1+(i+round*7+11)%250)
		}
	}
	data, err := r.write("updates", list.String())
	if err != nil {
		return err
	}
	got := map[string]map[int][]float64{}
	note := func(name string, outstanding int, o outcome) {
		if got[name] == nil {
			got[name] = map[int][]float64{}
		}
		got[name][outstanding] = append(got[name][outstanding], o.rate)
	}
	const one, all = "Ink Post, GOMAXPROCS=1", "Ink Post"
	for range r.rounds {
		for _, start := range []func() (server, error){r.bind, r.knot} {
			s, err := start()
			if err != nil {
				return err
			}
			err = r.levels(s.port, data, s.name, note)
			s.stop()
			if err != nil {
				return fmt.Errorf("%s: %w", s.name, err)
			}
		}
		for _, name := range []string{one, all} {
			us, err := r.inkpost(updateNames, true)
			if err != nil {
				return err
			}
			before := runtime.GOMAXPROCS(0)
			if name == one {
				runtime.GOMAXPROCS(1)
			}
			err = r.levels(us.port, data, name, note)
			runtime.GOMAXPROCS(before)
			us.stop()
			if err != nil {
				return err
			}
		}
	}
	fmt.Printf("Durable DNS UPDATEs a second (TSIG hmac-sha256, journals and PostgreSQL on), by outstanding requests, median of %d\n", r.rounds)
	fmt.Printf("%-24s %10s %12s %10s %10s\n", "", "1", "1 (dnsperf)", "20", "90")
	for _, name := range []string{"BIND", "Knot", one, all} {
		fmt.Printf("%-24s %10.0f %12.0f %10.0f %10.0f\n", name, median(got[name][alone]), median(got[name][1]), median(got[name][20]), median(got[name][90]))
	}
	fmt.Println("dnsperf at one outstanding request now and then misses an answer's wake-up and waits 100 ms: the slower the answer, the more often.")
	fmt.Println("The first column is a client of our own, one request after the other, the same for all.")
	for _, name := range []string{one, all} {
		better := func(q int) float64 { return max(median(got["BIND"][q]), median(got["Knot"][q])) }
		fmt.Printf("%s: %.2f x BIND at 1; of the better of the two %.2f x at 20, %.2f x at 90\n", name,
			median(got[name][alone])/median(got["BIND"][alone]), median(got[name][20])/better(20), median(got[name][90])/better(90))
	}
	return nil
}

// alone marks what the client of our own measured.
const alone = 0

// levels measures one server at all numbers of outstanding requests.
func (r rig) levels(port int, data, name string, note func(string, int, outcome)) error {
	o, err := r.oneByOne(port)
	if err != nil {
		return err
	}
	note(name, alone, o)
	for _, q := range []int{1, 20, 90} {
		o, err := r.dnsperf(port, data, q, "-u", "-y", "hmac-sha256:"+keyName+":"+keySecret)
		if err != nil {
			return err
		}
		note(name, q, o)
	}
	return nil
}

// oneByOne sends signed updates, each when the one before was answered.
func (r rig) oneByOne(port int) (outcome, error) {
	primary := dnsupdate.Primary{Address: fmt.Sprintf("127.0.0.1:%d", port), KeyName: keyName, Algorithm: "hmac-sha256", Secret: keySecret}
	began := time.Now()
	until := began.Add(time.Duration(r.seconds) * time.Second)
	count := 0.0
	for i := 0; time.Now().Before(until); i++ {
		m := new(dns.Msg).SetUpdate(apex + ".")
		a, err := dns.NewRR(fmt.Sprintf("site-%d.%s. 30 A 198.51.100.%d", i%updateNames, apex, 1+(i%updateNames+i/updateNames*7+5)%250))
		if err != nil {
			return outcome{}, err
		}
		m.RemoveRRset([]dns.RR{a})
		m.Insert([]dns.RR{a})
		if err := primary.Send(r.ctx, m); err != nil {
			return outcome{}, err
		}
		count++
	}
	return outcome{rate: count / time.Since(began).Seconds(), count: count}, nil
}
