package pace

import (
	"fmt"
	"time"
)

// Length says how long d is in the unit a person would say, from tenths of a millisecond to days. A negative d is said as none.
func Length(d time.Duration) string {
	switch {
	case d < 10*time.Millisecond:
		return fmt.Sprintf("%.1f ms", max(0, float64(d.Microseconds())/1000))
	case d < time.Second:
		return fmt.Sprintf("%d ms", d.Round(time.Millisecond).Milliseconds())
	case d < 10*time.Second:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < 2*time.Minute:
		return fmt.Sprintf("%.0f s", d.Seconds())
	case d < 2*time.Hour:
		return fmt.Sprintf("%.0f min", d.Minutes())
	case d < 48*time.Hour:
		return fmt.Sprintf("%.0f h", d.Hours())
	}
	return fmt.Sprintf("%.0f days", d.Hours()/24)
}

// Times says how often something was: once, or so many times.
func Times(n int) string {
	if n == 1 {
		return "once"
	}
	return fmt.Sprintf("%d times", n)
}
