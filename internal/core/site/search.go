package site

import "strings"

// Words returns what is searched for, word by word, in small letters.
func Words(search string) []string { return strings.Fields(strings.ToLower(search)) }

// Has reports whether a text in small letters has all of some words.
func Has(words []string, text string) bool {
	for _, w := range words {
		if !strings.Contains(text, w) {
			return false
		}
	}
	return true
}
