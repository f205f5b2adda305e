// All runs the programs of bench one after the other, prints what they measured beside the goals, and writes it as JSON and as a page of
// the documents. Parts that are not asked for keep the figures that they had.
//
//	make bench                              everything
//	make bench PARTS="answers updates"      some of it
package main

import (
	"bufio"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"math"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"inkpost.example/inkpost/bench/figures"
)

// part is one of the programs.
type part struct {
	name string
	args []string // of go
}

// parts are in the order in which they run.
var parts = []part{
	{"answers", []string{"run", "./bench/peers", "-rounds", "5", "answers"}},
	{"updates", []string{"run", "./bench/peers", "updates"}},
	{"announcements", []string{"run", "./bench/peers", "announcements"}},
	{"moves", []string{"test", "-run", "xxx", "-bench", "Moves", "-benchtime", "1x", "-timeout", "20m", "./bench"}},
	{"streams", []string{"test", "-run", "xxx", "-bench", "Streams", "-benchtime", "1x", "-timeout", "20m", "./bench"}},
	{"import", []string{"test", "-run", "xxx", "-bench", "Import", "-benchtime", "1x", "-timeout", "20m", "./bench"}},
	{"several servers", []string{"test", "-run", "xxx", "-bench", "Members", "-benchtime", "9000x", "-timeout", "20m", "./bench"}},
	{"agents", []string{"test", "-run", "xxx", "-bench", "IdleAgents", "-benchtime", "1x", "-timeout", "30m", "./bench"}},
	{"probing", []string{"run", "./bench/scale"}},
	{"a million", []string{"run", "./bench/million"}},
	{"history", []string{"run", "./bench/keeping"}},
	{"edits", []string{"run", "./bench/edits"}},
	{"console", []string{"run", "./bench/console"}},
	{"noticing", []string{"run", "./bench/noticing"}},
	{"abuse", []string{"run", "./bench/abuse"}},
}

// measured is a figure, and when and of what it was measured.
type measured struct {
	figures.Figure
	Reached bool   `json:"reached"`
	Program string `json:"program"`
	Date    string `json:"date"`
	Commit  string `json:"commit"`
	// Taken is the share of the processors that the hypervisor gave to others meanwhile, in percent; 0 for none, or where nobody looked.
	Taken float64 `json:"taken,omitempty"`
}

// report is the file.
type report struct {
	Machine string     `json:"machine"`
	Figures []measured `json:"figures"`
}

func main() {
	wanted := flag.String("parts", "", "names of parts, with commas; none are all")
	dir := flag.String("to", "docs", "the folder of performance.json and performance.md")
	write := flag.Bool("print", false, "measure nothing: print what is there, and write the page anew")
	flag.Parse()
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	if err := run(ctx, strings.FieldsFunc(*wanted, func(r rune) bool { return r == ',' }), *dir, *write); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

func run(ctx context.Context, wanted []string, dir string, write bool) error {
	for _, name := range wanted {
		if !slices.ContainsFunc(parts, func(p part) bool { return p.name == name }) {
			var names []string
			for _, p := range parts {
				names = append(names, p.name)
			}
			return fmt.Errorf("there is no part %q: there are %s", name, strings.Join(names, ", "))
		}
	}
	file := filepath.Join(dir, "performance.json")
	var all report
	if doc, err := os.ReadFile(file); err == nil {
		if err := json.Unmarshal(doc, &all); err != nil {
			return fmt.Errorf("%s: %w", file, err)
		}
	}
	commit := "unknown" // before the page is written anew: that is no change of what is measured
	if out, err := exec.CommandContext(ctx, "git", "describe", "--always", "--dirty").Output(); err == nil {
		commit = strings.TrimSpace(string(out))
	}
	failed := 0
	for i, p := range parts {
		if write || len(wanted) > 0 && !slices.Contains(wanted, p.name) {
			continue
		}
		fmt.Printf("[%d of %d] %s: go %s\n", i+1, len(parts), p.name, strings.Join(p.args, " "))
		list, err := carryOut(ctx, p, commit)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil {
			fmt.Fprintf(os.Stderr, "%s: %v; its earlier figures stay\n", p.name, err)
			failed++
			continue
		}
		all.Machine = machine()
		all.Figures = append(slices.DeleteFunc(all.Figures, func(m measured) bool { return m.Program == p.name }), list...)
		if err := keep(all, dir); err != nil { // after each part: a run takes long, and may be broken off
			return err
		}
	}
	if err := keep(all, dir); err != nil {
		return err
	}
	fmt.Print(table(all))
	if failed > 0 {
		return fmt.Errorf("%d parts failed", failed)
	}
	return nil
}

// carryOut runs a part, shows what it prints, and returns its figures. One that was noted twice counts as it was the last time.
func carryOut(ctx context.Context, p part, commit string) ([]measured, error) {
	file, err := os.CreateTemp("", "inkpost-figures-")
	if err != nil {
		return nil, err
	}
	defer os.Remove(file.Name())
	defer file.Close()
	cmd := exec.CommandContext(ctx, "go", p.args...)
	cmd.Env = append(os.Environ(), figures.File+"="+file.Name())
	if info, err := os.Stat("/dev/shm"); err == nil && info.IsDir() && p.name == "answers" {
		cmd.Env = append(cmd.Env, "TMPDIR=/dev/shm") // everybody's files in memory: what is compared is not the disk, unlike with updates
	}
	cmd.Stdout, cmd.Stderr = os.Stdout, os.Stderr
	before := ticksNow()
	if err := cmd.Run(); err != nil {
		return nil, err
	}
	others := math.Round(10*taken(before, ticksNow())) / 10
	var list []measured
	for lines := bufio.NewScanner(file); lines.Scan(); {
		one := measured{Program: p.name, Date: time.Now().Format(time.DateOnly), Commit: commit, Taken: others}
		if err := json.Unmarshal(lines.Bytes(), &one.Figure); err != nil {
			return nil, err
		}
		one.Reached = one.Figure.Reached()
		list = append(slices.DeleteFunc(list, func(m measured) bool { return m.Part == one.Part && m.What == one.What }), one)
	}
	return list, nil
}

// machine says where figures are from.
func machine() string {
	model, memory := "unknown processors", ""
	for name, into := range map[string]*string{"/proc/cpuinfo": &model, "/proc/meminfo": &memory} {
		doc, _ := os.ReadFile(name)
		for _, line := range strings.Split(string(doc), "\n") {
			if k, v, ok := strings.Cut(line, ":"); ok && slices.Contains([]string{"model name", "MemTotal"}, strings.TrimSpace(k)) {
				*into = strings.TrimSpace(v)
				break
			}
		}
	}
	kernel, _ := os.ReadFile("/proc/sys/kernel/osrelease")
	return fmt.Sprintf("%d x %s, %s of memory, Linux %s", runtime.NumCPU(), model, memory, strings.TrimSpace(string(kernel)))
}

// keep writes the file and the page.
func keep(all report, dir string) error {
	slices.SortStableFunc(all.Figures, func(a, b measured) int {
		at := func(m measured) int { return slices.IndexFunc(parts, func(p part) bool { return p.name == m.Program }) }
		return at(a) - at(b)
	})
	doc, err := json.MarshalIndent(all, "", "  ")
	if err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(dir, "performance.json"), append(doc, '\n'), 0o644); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(dir, "performance.md"), []byte(page(all)), 0o644)
}
