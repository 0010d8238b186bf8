package finding_test

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"jorvex/internal/core/finding"
)

// Every code has its line in docs/findings.md, with its grade and title.
func TestCatalogueIsDocumented(t *testing.T) {
	page, err := os.ReadFile("../../../docs/findings.md")
	require.NoError(t, err)
	for _, code := range finding.Codes() {
		kind, ok := finding.Describe(code)
		require.True(t, ok)
		assert.NotEmpty(t, kind.Suggest, code)
		assert.True(t, strings.Contains(string(page), "| `"+string(code)+"` | "+string(kind.Grade)+" | "+kind.Title+" |"), "%s is not in the page", code)
	}
	assert.Equal(t, len(finding.Codes()), strings.Count(string(page), "\n| `"))
}
