package statefile

import "crypto/rand"

// claim is what a program that enrols tells the server beside its one-time code, so that it may ask again.
type claim struct {
	Code  string `json:"code"`
	Claim string `json:"claim"`
}

// Claim returns the claim that belongs to a one-time code: the one that the file has, or a new one, which it has before anybody is asked.
// Whoever is stopped before the answer came asks with the same one. Error: that of the disk.
func Claim(path, code string) (string, error) {
	c, err := ReadState[claim](path)
	if err == nil && c.Code == code && c.Claim != "" {
		return c.Claim, nil
	}
	c = claim{Code: code, Claim: rand.Text() + rand.Text()} // 256 bits
	return c.Claim, WriteState(path, c)
}
