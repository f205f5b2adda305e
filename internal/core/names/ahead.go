package names

import "time"

// AheadTTL is the TTL, in seconds, that hostnames of a link have while a planned change of its address is near; ShortFor is
// how long after the planned time that lasts at most.
const (
	AheadTTL = 10
	ShortFor = time.Hour
)

// TTLAt returns the TTL of a hostname at now, in seconds. It is lowered one full TTL and a minute ahead of a planned change, so that no
// cache holds a long one when the change comes; once the address has changed, it is what it was. planned is zero if nothing is planned;
// since is when the address last changed.
func TTLAt(ttl int, planned, since, now time.Time) int {
	if planned.IsZero() || ttl <= AheadTTL {
		return ttl
	}
	from := planned.Add(-time.Duration(ttl)*time.Second - time.Minute)
	if now.Before(from) || !now.Before(planned.Add(ShortFor)) || since.After(from) {
		return ttl
	}
	return AheadTTL
}
