package client

import (
	"encoding/json"
	"fmt"
	"io"
)

// readLines reads a reply line by line until take says that the last has come. Error: a reply that ends before, that of take.
func readLines[T any](reply io.Reader, take func(T) (last bool, err error)) error {
	lines := json.NewDecoder(reply)
	for {
		var news T
		if err := lines.Decode(&news); err != nil {
			return fmt.Errorf("the reply ended before its result: %w", err)
		}
		if last, err := take(news); last || err != nil {
			return err
		}
	}
}
