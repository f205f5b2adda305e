package main

import (
	"bytes"
	"os"
	"testing"

	"github.com/stretchr/testify/require"
)

// What is handed on with the programs names all that is in them, as it is now: make notices.
func TestTheNoticesNameAllThatIsInThePrograms(t *testing.T) {
	t.Chdir("../..")
	parts, err := Modules()
	require.NoError(t, err)
	require.Greater(t, len(parts), 30)
	scripts, err := Scripts("web")
	require.NoError(t, err)
	require.Greater(t, len(scripts), 30)
	var want bytes.Buffer
	require.NoError(t, Write(&want, append(parts, scripts...)))
	have, err := os.ReadFile("docs/third-party.md")
	require.NoError(t, err)
	require.Equal(t, want.String(), string(have), "make notices")
}

func TestAPartWithoutALicenceIsToldOf(t *testing.T) {
	t.Parallel()
	var out bytes.Buffer
	require.ErrorContains(t, Write(&out, []Part{{Name: "driftwood.example/plank", Version: "v1.0.0"}}), "driftwood.example/plank v1.0.0")
	require.Empty(t, out.String(), "nothing is half written")
	for text, name := range map[string]string{
		"Apache License\n   Version 2.0, January 2004":             "Apache-2.0",
		"Permission is hereby granted, free of\n charge, to any":   "MIT",
		"Redistribution and use in source and binary forms ... ":   "BSD-2-Clause",
		"Redistribution and use ... Neither the name of the owner": "BSD-3-Clause",
		"All rights reserved": "see its text",
	} {
		require.Equal(t, name, named(text), text)
	}
}
