package zonefile

import (
	"bytes"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"github.com/miekg/dns"
	"golang.org/x/net/idna"

	"inkpost.example/inkpost/internal/core/names"
)

// Most records that a file may hold: far more than a zone of hostnames has, and few enough to hold in memory.
const Most = 200_000

// File is a zone file that was read: its SOA record, nil if there is none, and its other records in order.
type File struct {
	SOA     *dns.SOA
	Records []names.Record
	Places  []Fault // where each record stands; without a Detail
}

// Fault is an error in a zone file. Line and Column count from 1; Column is 0 if the whole line is meant.
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
	text = generated(text)
	var out File
	origin := string(apex) + "."
	at := &counting{text: text}
	p := dns.NewZoneParser(at, origin, "")
	p.SetDefaultTTL(3600)
	place := Fault{Line: 1, Column: 1}
	wrong := func(format string, args ...any) (File, error) {
		return File{}, Fault{Line: place.Line, Column: place.Column, Detail: fmt.Sprintf(format, args...)}
	}
	type data struct {
		name       names.Name
		kind, data string
		ttl        int
	}
	seen := map[data]bool{}
	for begin := 0; ; begin = at.read {
		rr, more := p.Next()
		if !more {
			break
		}
		if at.read > begin { // or else it is one more of a $GENERATE
			place = at.entry(begin)
		}
		if len(out.Records) >= Most {
			return File{}, Fault{Line: 1, Detail: fmt.Sprintf("the file has more than %d records", Most)}
		}
		if soa, is := rr.(*dns.SOA); is {
			if out.SOA != nil {
				return wrong("a second SOA record; a zone has one (RFC 1035 section 5.2)")
			}
			if dns.CanonicalName(soa.Hdr.Name) != origin {
				return wrong("the SOA record is for %s, not for %s", soa.Hdr.Name, origin)
			}
			out.SOA = soa
			continue
		}
		if rr.Header().Class != dns.ClassINET {
			return wrong("class %s; only IN is served", dns.Class(rr.Header().Class))
		}
		record := Record(rr)
		if blank(rr) {
			return wrong("the %s record has no data%s", record.Type, example(record.Type))
		}
		if !encodes(rr) {
			return wrong("%q is not data of a %s record%s", record.Data, record.Type, example(record.Type))
		}
		if record.Name, err = asciiOwner(record.Name); err == nil {
			record.Data, err = asciiData(record.Type, record.Data)
		}
		if err != nil {
			return wrong("%v", err)
		}
		if one := (data{record.Name, record.Type, record.Data, record.TTL}); seen[one] { // exactly the same again is the same record
			continue
		} else {
			seen[one] = true
		}
		out.Records, out.Places = append(out.Records, record), append(out.Places, place)
	}
	if err := p.Err(); err != nil {
		return File{}, placed(err, text)
	}
	return out, nil
}

// counting hands a text to the parser octet by octet, and knows how far that is.
type counting struct {
	text []byte
	read int
	line int // complete lines before counted
	upTo int // of the text
}

// ReadByte implements io.ByteReader.
func (c *counting) ReadByte() (byte, error) {
	if c.read >= len(c.text) {
		return 0, io.EOF
	}
	c.read++
	return c.text[c.read-1], nil
}

// Read implements io.Reader.
func (c *counting) Read(p []byte) (int, error) {
	n := copy(p, c.text[c.read:])
	if c.read += n; n == 0 {
		return 0, io.EOF
	}
	return n, nil
}

// entry finds where an entry begins that was read since begin: behind empty lines, comments and directives.
func (c *counting) entry(begin int) Fault {
	c.line += bytes.Count(c.text[c.upTo:begin], []byte("\n"))
	c.upTo = begin
	line := 1 + c.line
	for begin < c.read {
		rest := c.text[begin:]
		end := bytes.IndexByte(rest, '\n')
		if end < 0 {
			end = len(rest)
		}
		words := bytes.TrimLeft(rest[:end], " \t\r")
		directive := bytes.HasPrefix(words, []byte("$")) && !bytes.HasPrefix(bytes.ToUpper(words), []byte("$GENERATE"))
		if len(bytes.TrimRight(words, " \t\r")) > 0 && words[0] != ';' && !directive {
			return Fault{Line: line, Column: 1 + end - len(words)}
		}
		begin, line = begin+end+1, line+1
	}
	return Fault{Line: line, Column: 1}
}

// generated returns each $GENERATE without a TTL the one that $TTL sets (RFC 2308 section 4): the parser forgets it there.
func generated(text []byte) []byte {
	if !bytes.Contains(bytes.ToUpper(text), []byte("$GENERATE")) {
		return text
	}
	lines := strings.Split(string(text), "\n")
	ttl := ""
	for i, line := range lines {
		words := strings.Fields(line)
		switch {
		case len(words) >= 2 && strings.EqualFold(words[0], "$TTL"):
			ttl = words[1]
		case ttl != "" && len(words) >= 4 && strings.EqualFold(words[0], "$GENERATE") && (words[3][0] < '0' || words[3][0] > '9'):
			lines[i] = strings.Join(append(append(slices.Clone(words[:3]), ttl), words[3:]...), " ")
		}
	}
	return []byte(strings.Join(lines, "\n"))
}

// octets are those that the parser writes with their numbers (RFC 1035 section 5.1).
var octets = regexp.MustCompile(`\\[0-9]{3}`)

// asciiOwner brings a name that a file has in UTF-8 into its ASCII form (RFC 5891), as names that people type.
func asciiOwner(name names.Name) (names.Name, error) {
	if !octets.MatchString(string(name)) && strings.IndexFunc(string(name), beyondASCII) < 0 {
		return name, nil
	}
	text := octets.ReplaceAllStringFunc(string(name), func(code string) string {
		n, _ := strconv.Atoi(code[1:])
		return string([]byte{byte(n)})
	})
	out, err := international.ToASCII(text)
	if err != nil {
		return name, fmt.Errorf("name %q is not a legal international name (RFC 5891): %s", text, strings.TrimPrefix(err.Error(), "idna: "))
	}
	return names.Name(out), nil
}

func beyondASCII(r rune) bool { return r > unicode.MaxASCII }

// asciiData does the same to the names in the data of the types that people write.
func asciiData(rrtype, data string) (string, error) {
	plain := strings.IndexFunc(data, beyondASCII) < 0 && !octets.MatchString(data)
	if plain || !slices.Contains([]string{"CNAME", "DNAME", "MX", "NS", "SRV", "PTR"}, rrtype) {
		return data, nil
	}
	words := strings.Fields(data)
	last, err := asciiOwner(names.Name(words[len(words)-1]))
	words[len(words)-1] = string(last)
	return strings.Join(words, " "), err
}

var international = idna.New(idna.MapForLookup(), idna.Transitional(false), idna.BidiRule(), idna.CheckJoiners(true))

// where is how the parser ends its errors: at line: LINE:COLUMN.
var where = regexp.MustCompile(`^(?:dns: )?(.*?):? at line: (\d+):(\d+)$`)

var quoted = regexp.MustCompile(`"([^"]+)"$`)

func placed(err error, text []byte) error {
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

// Write writes a zone: its SOA record first, if there is one, then the apex, then the other names in order. The order is the same for the
// same content, so that two files can be compared line by line. Errors: those of w.
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
