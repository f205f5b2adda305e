package ledger

import (
	"encoding/binary"
	"time"
)

// MonthOf is the first day of the month (UTC) of a time.
func MonthOf(t time.Time) time.Time {
	return time.Date(t.UTC().Year(), t.UTC().Month(), 1, 0, 0, 0, 0, time.UTC)
}

// PackMonth writes days of one month one after the other: each with its number in the month, packed as Pack does. Days of a steady service
// are much alike: compressed they take little.
func PackMonth(days []Day) (plain []byte) {
	for _, d := range days {
		hours, latency := d.Pack()
		plain = append(plain, byte(d.Start.Day()))
		plain = append(binary.AppendUvarint(plain, uint64(len(hours))), hours...)
		plain = append(binary.AppendUvarint(plain, uint64(len(latency))), latency...)
	}
	return plain
}

// UnpackMonth reads what PackMonth wrote of the month of a time. What is cut short or wrong is left out.
func UnpackMonth(month time.Time, plain []byte) (days []Day) {
	month = MonthOf(month)
	part := func() (out []byte, ok bool) {
		n, size := binary.Uvarint(plain)
		if size <= 0 || n > uint64(len(plain)-size) {
			return nil, false
		}
		out, plain = plain[size:size+int(n)], plain[size+int(n):]
		return out, true
	}
	for len(plain) > 0 {
		start := month.AddDate(0, 0, int(plain[0])-1)
		plain = plain[1:]
		hours, ok := part()
		if !ok {
			break
		}
		latency, ok := part()
		if !ok {
			break
		}
		if start.Month() == month.Month() && (len(days) == 0 || start.After(days[len(days)-1].Start)) {
			days = append(days, Unpack(start, hours, latency))
		}
	}
	return days
}
