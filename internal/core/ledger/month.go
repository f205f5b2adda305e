package ledger

import (
	"bytes"
	"compress/flate"
	"encoding/binary"
	"io"
	"time"
)

// maxMonth bounds what UnpackMonth unpacks, in octets: 31 days of which each hour and each latency is another.
const maxMonth = 31 * 4096

// MonthOf is the first day of the month (UTC) of a time.
func MonthOf(t time.Time) time.Time {
	return time.Date(t.UTC().Year(), t.UTC().Month(), 1, 0, 0, 0, 0, time.UTC)
}

// PackMonth writes days of one month in short: each with its number in the month, packed as Pack does, and all of them compressed. Days of
// a steady service are much alike.
func PackMonth(days []Day) []byte {
	var plain []byte
	for _, d := range days {
		hours, latency := d.Pack()
		plain = append(plain, byte(d.Start.Day()))
		plain = append(binary.AppendUvarint(plain, uint64(len(hours))), hours...)
		plain = append(binary.AppendUvarint(plain, uint64(len(latency))), latency...)
	}
	var out bytes.Buffer
	w, _ := flate.NewWriter(&out, flate.BestCompression) // the level is a valid one
	_, _ = w.Write(plain)                                // a buffer takes everything
	_ = w.Close()
	return out.Bytes()
}

// UnpackMonth reads what PackMonth wrote of the month of a time. What is cut short or wrong is left out.
func UnpackMonth(month time.Time, doc []byte) []Day {
	month = MonthOf(month)
	plain, _ := io.ReadAll(io.LimitReader(flate.NewReader(bytes.NewReader(doc)), maxMonth))
	part := func() (out []byte, ok bool) {
		n, size := binary.Uvarint(plain)
		if size <= 0 || n > uint64(len(plain)-size) {
			return nil, false
		}
		out, plain = plain[size:size+int(n)], plain[size+int(n):]
		return out, true
	}
	var days []Day
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
