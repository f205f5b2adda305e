package daemon_test

import (
	testify "github.com/stretchr/testify/assert"

	"inkpost.example/inkpost/internal/daemon"
)

type (
	assert  = testify.CollectT
	options = daemon.Options
)
