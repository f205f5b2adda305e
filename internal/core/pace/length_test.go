package pace

import (
	"encoding/json"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// The console counts ages on while the page stands, in JavaScript, and is tested by the same table.
func TestLength(t *testing.T) {
	raw, err := os.ReadFile("testdata/lengths.json")
	require.NoError(t, err)
	var table []struct {
		MS    float64 `json:"ms"`
		Words string  `json:"words"`
	}
	require.NoError(t, json.Unmarshal(raw, &table))
	require.NotEmpty(t, table)
	for _, c := range table {
		require.Equal(t, c.Words, Length(time.Duration(c.MS*float64(time.Millisecond))), "%v ms", c.MS)
	}
}
