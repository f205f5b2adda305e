package main

import (
	"fmt"
	"os/exec"
	"regexp"
	"strconv"
)

var (
	perSecond = regexp.MustCompile(`(?:Queries|Updates) per second:\s+([0-9.]+)`)
	completed = regexp.MustCompile(`(?:Queries|Updates) completed:\s+(\d+) \(([0-9.]+)%\)`)
	wentWell  = regexp.MustCompile(`NOERROR \d+ \(([0-9.]+)%\)`)
)

type outcome struct {
	rate  float64 // completed a second
	count float64
}

// dnsperf runs the client. Less than 99 % of good answers is a failure: a fast refusal is no speed.
func (r rig) dnsperf(port int, data string, outstanding int, extra ...string) (outcome, error) {
	args := append([]string{"-s", "127.0.0.1", "-p", fmt.Sprint(port), "-d", data, "-l", fmt.Sprint(r.seconds), "-c", "1", "-T", "1",
		"-q", fmt.Sprint(outstanding)}, extra...)
	text, err := exec.CommandContext(r.ctx, "dnsperf", args...).CombinedOutput()
	if err != nil {
		return outcome{}, fmt.Errorf("dnsperf: %w\n%s", err, text)
	}
	number := func(re *regexp.Regexp) float64 {
		m := re.FindSubmatch(text)
		if m == nil {
			return 0
		}
		n, _ := strconv.ParseFloat(string(m[1]), 64)
		return n
	}
	if good := number(wentWell); good < 99 {
		return outcome{}, fmt.Errorf("dnsperf: only %.1f %% of the answers are good\n%s", good, text)
	}
	return outcome{rate: number(perSecond), count: number(completed)}, nil
}
