package test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/client"
	"jorvex/internal/demo"
	"jorvex/internal/testkit"
)

// Each command on the demo data, one after the other as somebody would type
// them: how it ends, and what it must say on either stream. Arguments are set
// apart by |.
func TestConversation(t *testing.T) {
	t.Parallel()
	c := &clock{}
	c.offset.Store(int64(time.Until(time.Date(2026, 11, 20, 18, 0, 0, 0, time.UTC))))
	s := testkit.Start(t, testkit.Options{Clock: c.now})
	require.NoError(t, demo.Generate(filepath.Dir(s.Share), demo.Options{Seed: 1, End: time.Date(2026, 11, 20, 0, 0, 0, 0, time.UTC)}))
	s.Must("demo", "-dir", filepath.Dir(s.Share))
	narrow := filepath.Join(t.TempDir(), "narrow.yaml")
	arrival := filepath.Join(t.TempDir(), "loadings 2026-11-23.csv")
	require.NoError(t, os.WriteFile(arrival, []byte("Sailing,Vessel,Bound for,Departed,Passengers,Vehicles,Freight (t)\nSK900,Marl,Fennay,08:10,41,7,3.5\n"), 0o644))
	for _, c := range []struct {
		command string
		code    int
		out     []string
		err     []string
	}{
		{"", client.WrongUse, nil, []string{"jorvex"}},
		{"lok", client.WrongUse, nil, []string{`did you mean "look"?`}},
		{"files", client.WrongUse, nil, []string{"write: jorvex files INPUT"}},
		{"files|daily-loading", client.NotFound, nil, []string{"daily-loading", "jorvex input list"}},
		{"files|daily-loadings|-verdict|maybe", client.Failed, nil, []string{"verdict", "left_out"}},
		{"version", client.Done, []string{"test"}, nil},
		{"place|list", client.Done, []string{"skerry-share", "yes"}, nil},
		{"place|add|skerry-share|" + s.Share, client.Failed, nil, []string{"skerry-share"}},
		{"place|add|roots|/", client.Failed, nil, []string{"allowed"}},
		{"look", client.Done, []string{"skerry-share"}, nil},
		{"input|list", client.Done, []string{"daily-loadings", "tariff-card", "berth-incidents", "quay-inspections"}, nil},

		// Choosing.
		{"files|daily-loadings|-verdict|left_out", client.Done, []string{"loadngs 2026-11-09.csv", "spelling"}, nil},
		{"files|tariff-card", client.Done, []string{"not the latest"}, nil},
		{"why|daily-loadings|Brannhold/2026/loadngs 2026-11-09.csv", client.Done, []string{"left out", `"loadngs" where the pattern has "loadings"`}, nil},
		{"rows|fuel-uplift|fuel/2026-05/Fulmar fuel.xlsx", client.Done, []string{"gas_oil_l", "Aldersund", "rows below the header"}, nil},
		{"rows|fuel-uplift|fuel/2026-05/Fulmar fuel.xlsx|-raw", client.Done, []string{"above the header  Skerry Line, fuel uplift", "left out"}, nil},
		{"rows|tariff-card|tariff card 1 September 2026.xlsx", client.Failed, nil, []string{"not read as tables"}},
		{"input|show|nothing", client.NotFound, nil, []string{"nothing"}},
		{"try|daily-loadings|" + arrival + "|-as|Eskvik/2026/loadings 2026-11-23.csv", client.Done, []string{"picked", "1 row", "day is 2026-11-23"}, nil},
		{"files|-try|" + narrow, client.Done, []string{"lost"}, nil},
		{"input|save|" + narrow, client.Done, []string{"daily-loadings saved as version 2"}, nil},
		{"input|save|" + narrow, client.Done, []string{"daily-loadings saved as version 2"}, nil},
		{"input|diff|daily-loadings", client.Done, []string{"+ window: {span: last 2 weeks, of: day}"}, nil},
		{"input|versions|daily-loadings", client.Done, []string{"local"}, nil},
		{"input|move|daily-loadings|-folder|nowhere", client.Done, []string{"lost: ", "nothing is saved; add -yes to save version 3"}, nil},

		// Holding.
		{"hold|out|daily-loadings|Eskvik/2026/loadings 2026-11-19.csv|-note|the wrong berth", client.Done, []string{"held out"}, nil},
		{"hold|out|daily-loadings|Eskvik/2026/loadings 2026-11-19.csv", client.Failed, nil, []string{"has a hold that binds", "jorvex hold release"}},
		{"hold|list|daily-loadings", client.Done, []string{"the wrong berth", "local"}, nil},
		{"hold|release|daily-loadings|Eskvik/2026/loadings 2026-11-19.csv", client.Done, []string{"released"}, nil},
		{"hold|release|daily-loadings|Eskvik/2026/loadings 2026-11-19.csv", client.NotFound, nil, []string{"hold"}},

		// Refreshing and answering for it.
		{"receipt|1", client.NotFound, nil, []string{"jorvex refreshes"}},
		{"verify", client.Done, []string{"there is no receipt yet"}, nil},
		{"changes|daily-loadings", client.Done, []string{"new"}, nil},
		{"refresh|daily-loadings", client.Done, []string{"receipt 1"}, nil},
		{"refresh|daily-loadings|-set|month=may", client.Failed, nil, []string{`no parameter "month"`}},
		{"changes|daily-loadings", client.Done, []string{"no file differs"}, nil},
		{"changes|daily-loadings|-log", client.Done, []string{"same", "new"}, nil},
		{"receipt|1", client.Done, []string{"definition version 2", "rows"}, nil},
		{"receipt|1|-files", client.Done, []string{"Eskvik/2026/loadings 2026-11-"}, nil},
		{"receipt|one", client.WrongUse, nil, []string{"one"}},
		{"verify", client.Done, []string{"1 receipt"}, nil},
		{"refreshes", client.Done, []string{"delivered", "daily-loadings"}, nil},
		{"coverage|daily-loadings|-from|2026-11-16|-to|2026-11-20", client.Done, []string{"2026-11-16 to 2026-11-20", "Fennay"}, nil},
		{"coverage|tariff-card", client.Failed, nil, []string{"add expect"}},
		{"excuse|daily-loadings|Fennay|2026-11-20|-note|storm", client.Done, []string{"excused"}, nil},
		{"coverage|daily-loadings|-from|2026-11-20|-to|2026-11-20", client.Done, []string{"storm"}, nil},
		{"confirm|daily-loadings", client.Failed, nil, []string{"no file of daily-loadings is in doubt"}},
	} {
		if c.command == "files|-try|"+narrow {
			text := s.Must("input", "show", "daily-loadings")
			require.NoError(t, os.WriteFile(narrow, []byte(strings.Replace(text, "\ncolumns:", "\nwindow: {span: last 2 weeks, of: day}\ncolumns:", 1)), 0o644))
		}
		r := s.Run(strings.Split(c.command, "|")...)
		about := c.command + "\n" + r.Out + "\n" + r.Err
		assert.Equal(t, c.code, r.Code, about)
		for _, part := range c.out {
			assert.Contains(t, r.Out, part, about)
		}
		for _, part := range c.err {
			assert.Contains(t, r.Err, part, about)
		}
		if c.code != client.Done {
			assert.Empty(t, strings.TrimSpace(r.Out), "what went wrong belongs on the error stream: %s", about)
		}
	}
}
