package paper_test

import (
	"bytes"
	"encoding/csv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"inkpost.example/inkpost/internal/core/sheet"
	"inkpost.example/inkpost/internal/core/site"
	"inkpost.example/inkpost/internal/paper"
)

func printed(t *testing.T, f paper.Format, services int) []byte {
	s := sheet.Sheet{Code: "KET-07", Name: `Lighthouse <Museum> | "Kettle" & Żabinka`, Note: "Key *under* the _mat_",
		URL: "https://noc.saltmarsh.example/sites/KET-07",
		At:  time.Date(2026, 11, 30, 9, 0, 0, 0, time.UTC), Contacts: []sheet.Contact{{Role: "customer", Name: "Keeper",
			Phone: "01632 960007"}}}
	for range services {
		s.Services = append(s.Services, sheet.Service{Name: "view", Fingerprint: "key SHA256:" + strings.Repeat("A", 43),
			Cards: []site.Card{{Title: "Port forward", Where: "the router", Fields: []site.Field{{Label: "External port",
				Value: "8443"}}}}})
	}
	var b bytes.Buffer
	require.NoError(t, paper.Print(&b, f, s, paper.Head{Version: 3, By: "owner", Reason: "hand-over",
		Changes: []string{"service view is new"},
		Banner:  []string{"view works."}, Good: true}))
	return b.Bytes()
}

func TestWhatPeopleEnteredIsTextAndNothingElse(t *testing.T) {
	html := string(printed(t, paper.HTML, 1))
	require.Contains(t, html, "Lighthouse &lt;Museum&gt; | &#34;Kettle&#34; &amp; Żabinka")
	require.Contains(t, html, "data:image/png;base64,")
	require.NotContains(t, html, "http://", "it asks nothing of the network")
	require.Contains(t, html, "version 3, kept 2026-11-30 09:00 UTC by owner: hand-over")
	md := string(printed(t, paper.Markdown, 1))
	require.Contains(t, md, `# KET-07 Lighthouse &lt;Museum> \| "Kettle" & Żabinka`)
	require.Contains(t, md, `Key \*under\* the \_mat\_`)
	rows, err := csv.NewReader(bytes.NewReader(printed(t, paper.CSV, 1))).ReadAll()
	require.NoError(t, err)
	require.Equal(t, []string{"section", "line", "field", "value"}, rows[0])
	require.Contains(t, rows, []string{"Contacts", "1", "Phone", "01632 960007"})
	require.Error(t, paper.Print(&bytes.Buffer{}, "docx", sheet.Sheet{}, paper.Head{}))
}

func TestAPDFHasAsManyPagesAsItNeeds(t *testing.T) {
	for services, pages := range map[int]string{2: "/Count 1\n", 20: "/Count 2\n", 60: "/Count 4\n"} {
		doc := printed(t, paper.PDF, services)
		require.True(t, bytes.HasPrefix(doc, []byte("%PDF-")))
		require.Contains(t, string(doc), pages, "%d services", services)
		require.Equal(t, doc, printed(t, paper.PDF, services), "the same sheet is the same file")
	}
}
