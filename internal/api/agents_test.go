package api

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/contract"
)

func TestARoutersWordIsBounded(t *testing.T) {
	good := contract.ListedPort{Service: "page", To: "192.168.7.30:8443"}
	for name, c := range map[string]struct {
		word contract.GatewayWord
		says string
	}{
		"as it should be": {contract.GatewayWord{Line: "Connected", Ports: []contract.ListedPort{good, {Service: "shell"}}}, ""},
		"too many ports":  {contract.GatewayWord{Ports: make([]contract.ListedPort, maxDevices+1)}, "more than 1000 ports"},
		"a long line":     {contract.GatewayWord{Line: strings.Repeat("x", maxWords+1)}, "a text has more than"},
		"a long description": {contract.GatewayWord{Ports: []contract.ListedPort{{Description: strings.Repeat("x", maxWords+1)}}},
			"about a port"},
		"no address and port": {contract.GatewayWord{Ports: []contract.ListedPort{{Service: "page", To: "the recorder"}}},
			"192.168.7.30:8443"},
	} {
		err := checkWord(c.word)
		if c.says == "" {
			require.NoError(t, err, name)
			continue
		}
		require.ErrorContains(t, err, c.says, name)
	}
}
