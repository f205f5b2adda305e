package causes

import "math"

// match is how well a cause predicts what is seen, in natural logarithms. For and Against hold the signs that it predicts rightly and
// wrongly; Out says that a hard sign is against it.
type match struct {
	service, device, link float64
	For, Against          []Sign
	Out                   bool
}

const (
	slip       = 0.03 // how often a soft sign misleads
	impossible = 1e-6 // what is left of a cause that a hard sign contradicts
	weak       = 0.4  // a sign that misleads as often is a hint, and speaks against nothing
)

// add counts one sign.
func (f *match) add(s Sign, v Value, predicted Set) {
	var l float64
	switch {
	case predicted == 0:
		l = math.Log(s.chance(v, s.all()))
	case predicted.Has(v):
		l = math.Log((1 - s.misleads()) * s.chance(v, predicted))
		f.For = append(f.For, s)
	default:
		if s.misleads() < weak {
			f.Against = append(f.Against, s)
		}
		l = math.Log(s.misleads() * s.chance(v, s.all()&^predicted))
		if s.Excludes(v) {
			f.Out = true
			l = math.Log(impossible)
		}
	}
	switch s.level() {
	case ofService:
		f.service += l
	case ofDevice:
		f.device += l
	default:
		f.link += l
	}
}

// fit compares a cause's predictions with what is seen. A second cause decides the signs that show what is behind the router.
func (c Cause) fit(seen Seen, inner *Cause) (f match) {
	for i, v := range seen {
		s := Sign(i)
		if v == Unseen {
			continue
		}
		predicted := c.sets[s]
		if inner != nil && s.behind() {
			predicted = inner.sets[s]
		}
		f.add(s, v, predicted)
	}
	return f
}

// prior is the logarithm of how common the cause is.
func (c Cause) prior() float64 { return math.Log(c.Weight / 1000) }
