package test

import (
	"encoding/json"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// layers from the top; a package may import those of layers below its own, and
// within a layer only what beside lists.
var layers = [][]string{
	{"cmd/jorvex"},
	{"internal/service", "internal/client"},
	{"internal/refresh"},
	{"internal/watch"},
	{"internal/places", "internal/records", "internal/vault", "internal/parts", "internal/deliver", "internal/notice", "internal/standin", "internal/cluster", "internal/events", "internal/demo", "internal/api", "console"},
	{"internal/core/"},
}

var beside = map[string][]string{
	"internal/records": {"internal/places"},
	"internal/notice":  {"internal/records", "internal/events"},
}

// outside is what the core must not import: it takes values and readers, and is
// given the time.
var outside = []string{"net", "net/http", "os", "os/exec", "database/sql", "syscall", "io/ioutil", "log", "log/slog", "math/rand", "math/rand/v2"}

func layerOf(pkg string) int {
	return slices.IndexFunc(layers, func(layer []string) bool {
		return slices.ContainsFunc(layer, func(p string) bool { return pkg == p || strings.HasSuffix(p, "/") && strings.HasPrefix(pkg, p) })
	})
}

func TestImportsPointDownward(t *testing.T) {
	command := exec.Command("go", "list", "-json=ImportPath,Imports", "./...")
	command.Dir = ".."
	out, err := command.Output()
	require.NoError(t, err)
	decoder := json.NewDecoder(strings.NewReader(string(out)))
	seen := 0
	for decoder.More() {
		var p struct {
			ImportPath string
			Imports    []string
		}
		require.NoError(t, decoder.Decode(&p))
		from := strings.TrimPrefix(p.ImportPath, "jorvex/")
		if from == "test" || from == "internal/testkit" || from == "bench" {
			continue
		}
		seen++
		at := layerOf(from)
		require.GreaterOrEqual(t, at, 0, "%s is in no layer", from)
		core := strings.HasPrefix(from, "internal/core/")
		for _, imported := range p.Imports {
			to, own := strings.CutPrefix(imported, "jorvex/")
			if core {
				assert.NotContains(t, outside, imported, from)
			}
			if !own {
				continue
			}
			assert.True(t, layerOf(to) > at || core && strings.HasPrefix(to, "internal/core/") || slices.Contains(beside[from], to), "%s imports %s", from, to)
		}
	}
	assert.Greater(t, seen, 20)
}
