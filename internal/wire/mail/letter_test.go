package mail_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/notice"
	"inkpost.example/inkpost/internal/wire/mail"
)

func TestALetterSaysTheNextStepFirst(t *testing.T) {
	c := notice.Content{What: notice.Opened, At: time.Now(), Subject: "KET-07: recorder is off", Summary: "recorder is off",
		Next: "Switch it on.",
		Site: "KET-07", FaultID: 42, Cause: "device-off", Lines: []notice.Line{{Name: "Site", Text: "KET-07 <Museum>"}, {Name: "",
			Text: "and more"}}}
	l, err := mail.Write(c, "https://ink.saltmarsh.example/")
	require.NoError(t, err)
	require.Equal(t,
		"Switch it on.\n\nrecorder is off.\n\nSite: KET-07 <Museum>\n      and more\n\nhttps://ink.saltmarsh.example/faults/42\n", l.Text)
	require.Contains(t, l.HTML, "KET-07 &lt;Museum&gt;", "what is on record is no markup")
	require.Contains(t, l.HTML, `href="https://ink.saltmarsh.example/causes/device-off"`)
	require.NotContains(t, l.HTML, "<script")
	require.NotContains(t, l.HTML, "http-equiv")

	l, err = mail.Write(notice.Together([]notice.Content{c, c}, time.Now()), "")
	require.NoError(t, err)
	require.Contains(t, l.Text, "- KET-07: recorder is off\n  Switch it on.\n")
	require.NotContains(t, l.Text+l.HTML, "https:", "nobody has said where the console is")
}
