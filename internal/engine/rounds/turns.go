package rounds

const (
	// fewAtOnce is how many are looked at in each round however many there are, and inTurns in how many rounds at most each has its turn.
	fewAtOnce = 100
	inTurns   = 10
)

// Turns spreads a look at many over several rounds: of up to a hundred each is due in every round, of more each in one of several, at most
// ten. The zero value is ready for use.
type Turns struct{ round int }

// Next begins a round over so many, and returns which of them are due in it, by their place.
func (t *Turns) Next(count int) (due func(i int) bool) {
	t.round++
	parts, round := min(inTurns, 1+max(0, count-1)/fewAtOnce), t.round
	return func(i int) bool { return i%parts == round%parts }
}
