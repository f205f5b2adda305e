package names

import (
	"fmt"
	"strings"
	"unicode"
)

// Placeholders of a name template: the site's code, the site's name as labels allow it, and a number that makes the name a
// free one.
const (
	PlaceCode   = "{code}"
	PlaceName   = "{name}"
	PlaceNumber = "{n}"
)

// CheckTemplate says what is wrong with a template for the names of a zone; "" is none. The error says what it may have.
func CheckTemplate(template string, apex Name) error {
	if template == "" {
		return nil
	}
	if !strings.Contains(template, PlaceCode) && !strings.Contains(template, PlaceName) && !strings.Contains(template, PlaceNumber) {
		return fmt.Errorf("template %q makes the same name for every site; put %s, %s or %s into it", template, PlaceCode, PlaceName,
			PlaceNumber)
	}
	name, err := Parse(Fill(template, "X-1", "x", 1))
	if err != nil {
		return fmt.Errorf("template %q: %w; it may have %s, %s and %s", template, err, PlaceCode, PlaceName, PlaceNumber)
	}
	if !name.Within(apex) || name == apex {
		return fmt.Errorf("template %q makes names such as %s, which are not below %s", template, name, apex)
	}
	return nil
}

// Fill puts a site's code and name and a number into a template. Letters of any script stay, to be encoded with the whole
// label (RFC 5891); what a label does not allow becomes a hyphen.
func Fill(template, code, name string, n int) string {
	return strings.NewReplacer(PlaceCode, label(code), PlaceName, label(name), PlaceNumber, fmt.Sprint(n)).Replace(template)
}

// label brings words into the form of one label.
func label(words string) string {
	var out strings.Builder
	for _, r := range strings.ToLower(words) {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			out.WriteRune(r)
		} else if out.Len() > 0 && !strings.HasSuffix(out.String(), "-") {
			out.WriteByte('-')
		}
	}
	text := strings.Trim(out.String(), "-")
	if runes := []rune(text); len(runes) > MaxLabel/2 { // room for a number, and for the encoding of some letters
		text = strings.TrimRight(string(runes[:MaxLabel/2]), "-")
	}
	if text == "" {
		return "site"
	}
	return text
}
