package zonefile

import (
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"github.com/miekg/dns"

	"inkpost.example/inkpost/internal/core/names"
)

// Most records that a file may hold: far more than a zone of hostnames has, and few enough to hold in memory.
const Most = 200_000

// File is a zone file that was read: its SOA record, nil where there is none, and its other records in order.
type File struct {
	SOA     *dns.SOA
	Records []names.Record
}

// Fault is an error in a zone file. Line and Column count from 1; Column is 0 where the whole line is meant.
type Fault struct {
	Line, Column int
	Detail       string
}

func (f Fault) Error() string {
	if f.Column == 0 {
		return fmt.Sprintf("line %d: %s", f.Line, f.Detail)
	}
	return fmt.Sprintf("line %d, column %d: %s", f.Line, f.Column, f.Detail)
}

// Read reads a zone file. Names without a final dot are taken below apex until the file has an $ORIGIN; $INCLUDE is not
// followed. Errors are of type Fault, but for those of r.
func Read(r io.Reader, apex names.Name) (File, error) {
	text, err := io.ReadAll(r)
	if err != nil {
		return File{}, err
	}
	var out File
	origin := string(apex) + "."
	p := dns.NewZoneParser(strings.NewReader(string(text)), origin, "")
	p.SetDefaultTTL(3600)
	for rr, more := p.Next(); more; rr, more = p.Next() {
		if len(out.Records) >= Most {
			return File{}, Fault{Line: 1, Detail: fmt.Sprintf("the file has more than %d records", Most)}
		}
		if soa, is := rr.(*dns.SOA); is {
			if out.SOA != nil {
				return File{}, Fault{Line: lineOf(text, "SOA", 2), Detail: "a second SOA record; a zone has one (RFC 1035 section 5.2)"}
			}
			if dns.CanonicalName(soa.Hdr.Name) != origin {
				return File{}, Fault{Line: lineOf(text, "SOA", 1), Detail: fmt.Sprintf("the SOA record is for %s, not for %s", soa.Hdr.Name, origin)}
			}
			out.SOA = soa
			continue
		}
		if owner := strings.TrimSuffix(rr.Header().Name, "."+origin); rr.Header().Class != dns.ClassINET {
			return File{}, Fault{Line: lineOf(text, owner, 1), Detail: fmt.Sprintf("class %s; only IN is served", dns.Class(rr.Header().Class))}
		}
		record := Record(rr)
		if record.Data == "" { // the parser takes a line without data for a record to be deleted, as in an update (RFC 2136)
			return File{}, Fault{Line: lineOf(text, strings.TrimSuffix(rr.Header().Name, "."+origin), 1), Detail: fmt.Sprintf("the %s record has no data", record.Type)}
		}
		out.Records = append(out.Records, record)
	}
	if err := p.Err(); err != nil {
		return File{}, place(err, text)
	}
	return out, nil
}

// lineOf finds the line on which a word stands for the nth time, 1 where it cannot be found.
func lineOf(text []byte, word string, nth int) int {
	for i, line := range strings.Split(string(text), "\n") {
		if slices.ContainsFunc(strings.Fields(line), func(field string) bool {
			return strings.EqualFold(strings.TrimSuffix(field, "."), strings.TrimSuffix(word, "."))
		}) {
			if nth--; nth == 0 {
				return i + 1
			}
		}
	}
	return 1
}

// where is how the parser ends its errors: at line: LINE:COLUMN.
var where = regexp.MustCompile(`^(?:dns: )?(.*?):? at line: (\d+):(\d+)$`)

var quoted = regexp.MustCompile(`"([^"]+)"$`)

func place(err error, text []byte) error {
	m := where.FindStringSubmatch(strings.ReplaceAll(err.Error(), "\n", " "))
	if m == nil {
		return Fault{Line: 1, Detail: strings.TrimPrefix(err.Error(), "dns: ")}
	}
	line, _ := strconv.Atoi(m[2])
	column, _ := strconv.Atoi(m[3])
	if word := quoted.FindStringSubmatch(m[1]); word != nil { // the parser points behind the word that it names
		if lines := strings.Split(string(text), "\n"); line >= 1 && line <= len(lines) {
			if at := strings.LastIndex(lines[line-1][:min(column, len(lines[line-1]))], word[1]); at >= 0 {
				column = at + 1
			}
		}
	}
	return Fault{Line: max(line, 1), Column: column, Detail: m[1]}
}

// Write writes a zone: its SOA record first, where there is one, then the apex, then the other names in order. The order is the same for the
// same content, so that two files can be compared line by line.
func Write(w io.Writer, zone names.Name, soa *dns.SOA, records []names.Record) error {
	apex := string(zone)
	if _, err := fmt.Fprintf(w, "$ORIGIN %s.\n", apex); err != nil {
		return err
	}
	if soa != nil {
		if _, err := fmt.Fprintf(w, "$TTL %d\n%s\n", soa.Hdr.Ttl, soa.String()); err != nil {
			return err
		}
	}
	list := slices.Clone(records)
	slices.SortStableFunc(list, func(a, b names.Record) int {
		if (string(a.Name) == apex) != (string(b.Name) == apex) {
			return map[bool]int{true: -1, false: 1}[string(a.Name) == apex]
		}
		return strings.Compare(string(a.Name)+" "+a.Type+" "+a.Data, string(b.Name)+" "+b.Type+" "+b.Data)
	})
	for _, r := range list {
		if _, err := fmt.Fprintf(w, "%s.\t%d\tIN\t%s\t%s\n", r.Name, r.TTL, r.Type, r.Data); err != nil {
			return err
		}
	}
	return nil
}
