// Command truth prints the truth table of the causes: each cause, under what may be known, with what is said of it. Every row is ranked by
// the same code that ranks faults.
//
//	go run ./bench/truth           a line for each cause and each choice of what is known
//	go run ./bench/truth -all      every case
//	go run ./bench/truth -cause forward-missing
package main

import (
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"
	"text/tabwriter"

	"inkpost.example/inkpost/internal/core/causes"
	"inkpost.example/inkpost/internal/core/causes/truth"
)

// row counts the cases of one cause with the same knowledge.
type row struct {
	cause causes.Slug
	known string
	count map[truth.Outcome]int
	sure  map[causes.Sure]int
	other map[causes.Slug]int // that are taken for it first
}

func main() {
	all := flag.Bool("all", false, "print every case")
	only := flag.String("cause", "", "only this cause")
	flag.Parse()
	results := truth.All()
	if *only != "" {
		results = slices.DeleteFunc(results, func(r truth.Result) bool { return string(r.Cause) != *only })
	}
	total := map[truth.Outcome]int{}
	for _, r := range results {
		total[r.Outcome]++
	}
	if *all {
		for _, r := range results {
			fmt.Printf("%s: %s %s, told %v\n  %s\n", r.Cause, r.Outcome, r.Sure, append([]causes.Slug{r.Best().Slug}, r.Between()...),
				truth.Words(r.Seen))
		}
	} else {
		print(results)
	}
	fmt.Printf("%d cases: %d first, %d open between several with the cause named, %d missed\n", len(results), total[truth.First],
		total[truth.Open], total[truth.Missed])
	if total[truth.Missed] > 0 {
		os.Exit(1)
	}
}

func print(results []truth.Result) {
	var rows []*row
	for _, r := range results {
		known := strings.Join(r.Known, ", ")
		i := slices.IndexFunc(rows, func(x *row) bool { return x.cause == r.Cause && x.known == known })
		if i < 0 {
			i = len(rows)
			rows = append(rows, &row{r.Cause, known, map[truth.Outcome]int{}, map[causes.Sure]int{}, map[causes.Slug]int{}})
		}
		rows[i].count[r.Outcome]++
		rows[i].sure[r.Sure]++
		if r.Outcome != truth.First {
			rows[i].other[r.Best().Slug]++
		}
	}
	w := tabwriter.NewWriter(os.Stdout, 0, 4, 2, ' ', 0)
	fmt.Fprintln(w, "cause\tfirst\topen\tmissed\tcertain\tlikely\topen\tknown besides what comes back\tbefore it where open")
	for _, r := range rows {
		var before []string
		for slug, n := range r.other {
			before = append(before, fmt.Sprintf("%s %d", slug, n))
		}
		slices.Sort(before)
		fmt.Fprintf(w, "%s\t%d\t%d\t%d\t%d\t%d\t%d\t%s\t%s\n", r.cause, r.count[truth.First], r.count[truth.Open], r.count[truth.Missed],
			r.sure[causes.Certain], r.sure[causes.Likely], r.sure[causes.Open], orNothing(r.known), strings.Join(before, ", "))
	}
	_ = w.Flush()
}

func orNothing(s string) string {
	if s == "" {
		return "nothing"
	}
	return s
}
