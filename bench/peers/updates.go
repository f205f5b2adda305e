package main

import (
	"fmt"
	"os"
	"os/exec"
	"runtime"
	"strconv"
	"strings"
	"time"

	"github.com/miekg/dns"

	"inkpost.example/inkpost/bench/figures"
	"inkpost.example/inkpost/internal/wire/dnsupdate"
)

const updateNames = 250 // of one site

// updated is the address that name i gets in a round. Each has two of its own: an address of another link of the site would be refused,
// as it says that the link is down.
func updated(i, round int) string {
	return fmt.Sprintf("%s.%d", []string{"198.51.100", "203.0.113"}[round%2], i%updateNames+1)
}

// updates sends signed updates, each of which gives one name another address. BIND and Knot write their journals, Ink Post
// records a move in PostgreSQL, with its history, all before they answer.
func updates(r rig) error {
	var list strings.Builder
	for round := range 40 {
		for i := range updateNames {
			fmt.Fprintf(&list, "%s\ndelete site-%d A\nadd site-%d 30 A %s\nsend\n", apex, i, i, updated(i, round+1))
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
	bind, err := r.bind()
	if err != nil {
		return err
	}
	defer bind.stop()
	knot, err := r.knot()
	if err != nil {
		return err
	}
	defer knot.stop()
	us, err := r.inkpost(updateNames, true)
	if err != nil {
		return err
	}
	defer us.stop()
	// One after the other at each level, so that all of them have the machine's good and bad moments.
	for range r.rounds {
		for _, outstanding := range []int{alone, 1, 20, 90} {
			for _, x := range []struct {
				name       string
				port       int
				processors int
			}{{"BIND", bind.port, 0}, {"Knot", knot.port, 0}, {one, us.port, 1}, {all, us.port, 0}} {
				before := runtime.GOMAXPROCS(x.processors)
				o, err := r.level(x.port, data, outstanding)
				runtime.GOMAXPROCS(before)
				if err != nil {
					return fmt.Errorf("%s: %w", x.name, err)
				}
				note(x.name, outstanding, o)
			}
		}
	}
	fmt.Printf("Durable DNS UPDATEs a second (TSIG hmac-sha256, journals and PostgreSQL on), by outstanding requests, median of %d\n",
		r.rounds)
	fmt.Printf("%-24s %10s %12s %10s %10s\n", "", "1", "1 (dnsperf)", "20", "90")
	for _, name := range []string{"BIND", "Knot", one, all} {
		fmt.Printf("%-24s %10.0f %12.0f %10.0f %10.0f\n", name, median(got[name][alone]), median(got[name][1]), median(got[name][20]),
			median(got[name][90]))
	}
	fmt.Println("dnsperf at one outstanding request now and then misses an answer's wake-up and waits 100 ms: the slower the " +
		"answer, the more often.")
	fmt.Println("The first column is a client of our own, one request after the other, the same for all.")
	better := func(q int) float64 { return max(median(got["BIND"][q]), median(got["Knot"][q])) }
	for q, goal := range map[int]float64{alone: 1, 20: 3, 90: 3.5} {
		figures.AtLeast("updates", fmt.Sprintf("durable DNS UPDATEs, %d outstanding, beside the better of BIND and Knot", max(q, 1)),
			median(got[all][q])/better(q), "x", goal, fmt.Sprintf("%.0f a second", better(q)))
	}
	for _, name := range []string{one, all} {
		fmt.Printf("%s: %.2f x BIND at 1; of the better of the two %.2f x at 20, %.2f x at 90\n", name,
			median(got[name][alone])/median(got["BIND"][alone]), median(got[name][20])/better(20), median(got[name][90])/better(90))
	}
	return nil
}

// alone marks what the client of our own measured.
const alone = 0

// level measures one server at one number of outstanding requests.
func (r rig) level(port int, data string, outstanding int) (outcome, error) {
	if outstanding == alone {
		return r.apart(port)
	}
	return r.dnsperf(port, data, outstanding, "-u", "-y", "hmac-sha256:"+keyName+":"+keySecret)
}

// apart runs oneByOne in a process of its own, as dnsperf is one: it must not take processor time from Ink Post, which runs
// in this one.
func (r rig) apart(port int) (outcome, error) {
	self, err := os.Executable()
	if err != nil {
		return outcome{}, err
	}
	text, err := exec.CommandContext(r.ctx, self, "-seconds", fmt.Sprint(r.seconds), "one-by-one", fmt.Sprint(port)).CombinedOutput()
	if err != nil {
		return outcome{}, fmt.Errorf("one by one: %w\n%s", err, text)
	}
	rate, err := strconv.ParseFloat(strings.TrimSpace(string(text)), 64)
	return outcome{rate: rate}, err
}

// oneByOne sends signed updates, each when the one before was answered.
func (r rig) oneByOne(port int) (outcome, error) {
	primary := dnsupdate.Primary{Address: fmt.Sprintf("127.0.0.1:%d", port), KeyName: keyName, Algorithm: "hmac-sha256", Secret: keySecret}
	began := time.Now()
	until := began.Add(time.Duration(r.seconds) * time.Second)
	count := 0.0
	for i := 0; time.Now().Before(until); i++ {
		m := new(dns.Msg).SetUpdate(apex + ".")
		a, err := dns.NewRR(fmt.Sprintf("site-%d.%s. 30 A %s", i%updateNames, apex, updated(i%updateNames, i/updateNames+1)))
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
