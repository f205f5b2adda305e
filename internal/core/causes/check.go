package causes

import "math"

// Check is something that tells causes apart.
type Check string

// The checks.
const (
	HopLimited    Check = "hop-limited probe"
	LookInside    Check = "look from inside"
	LoopLook      Check = "loop-back look"
	AskGateway    Check = "gateway's word"
	TryMapping    Check = "asked-for mapping"
	LookElsewhere Check = "another vantage point"
	CompareSites  Check = "other sites"
	StartAgent    Check = "agent"
)

// checkTable says what a person does to have a check made.
var checkTable = []struct {
	check Check
	ask   string
}{
	{LookInside, "Have it looked at from inside: start an agent at {site} (inkpost agent invite {site} {link}), or try {inside} of " +
		"{device} " +
		"({at}) from another machine there"},
	{HopLimited, "Add a vantage point that can limit how far its packets go (Linux): inkpost vantage invite NAME"},
	{AskGateway, "Look at the router's pages: its WAN address, how long it has been up, and whether its list of forwards has {forward}"},
	{TryMapping, "Let Ink Post try it: with inkpost link edit {site} {link} --may-map, the agent asks the router to pass the port " +
		"on to it for a moment"},
	{LoopLook, "At the site, open {address} {port} from inside"},
	{LookElsewhere, "Add another vantage point: inkpost vantage invite NAME"},
	{CompareSites, "Ask {provider} whether there is an outage, and whether it blocks {port}"},
	{StartAgent, "Call the site: is the power on, is the modem's line light on, does the internet work there? An agent there tells " +
		"that by " +
		"itself: inkpost agent invite {site} {link}"},
}

// Ask returns what a person does to have the check made, with the places of Place; "" for a check that nobody can ask for.
func (c Check) Ask() string {
	for _, row := range checkTable {
		if row.check == c {
			return row.ask
		}
	}
	return ""
}

// Deciding returns the check that would tell two causes apart: that of the unseen sign whose predictions differ most. Checks that skip
// holds are left out. ok is false if there is none.
func Deciding(a, b Slug, seen Seen, skip map[Check]bool) (check Check, sign Sign, ok bool) {
	x, _ := Find(a)
	y, _ := Find(b)
	best := 0.0
	for _, s := range Signs() {
		if seen[s] != Unseen || s.Check() == "" || skip[s.Check()] {
			continue
		}
		if d := apart(x.Predicts[s], y.Predicts[s], s); d > best {
			check, sign, ok, best = s.Check(), s, true, d
		}
	}
	return check, sign, ok
}

// apart is how far two predictions differ, from 0 to 1: half of the sum of the differences of their chances.
func apart(a, b Set, s Sign) float64 {
	chance := func(set Set, v Value) float64 {
		if set == 0 {
			set = s.all()
		}
		return s.chance(v, set)
	}
	sum := 0.0
	for v := Value(1); int(v) <= s.Values(); v++ {
		sum += math.Abs(chance(a, v) - chance(b, v))
	}
	return sum / 2
}
