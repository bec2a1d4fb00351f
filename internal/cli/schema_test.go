package cli_test

import (
	"bytes"
	"encoding/json"
	"path/filepath"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v4"

	"ambertray/internal/desk"
)

// schemaOf compiles a schema, by a validator of another hand.
func (b *bench) schemaOf(name string) *jsonschema.Schema {
	b.t.Helper()
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(b.run(0, "schema", name).out))
	require.NoError(b.t, err)
	c := jsonschema.NewCompiler()
	require.NoError(b.t, c.AddResource(name+".json", doc))
	s, err := c.Compile(name + ".json")
	require.NoError(b.t, err)
	return s
}

// What commands print is as its schema says, and so is every plan that the program writes or
// the pages show; what is none is told.
func TestSchemas(t *testing.T) {
	b := newBench(t)
	for _, name := range desk.Schemas() {
		b.schemaOf(name)
	}
	b.run(0, "demo", "h", "--files-only")
	db := "sqlite:" + filepath.Join(b.dir, "c.db")
	valid := func(text string) {
		t.Helper()
		v, err := jsonschema.UnmarshalJSON(strings.NewReader(text))
		require.NoError(t, err, text)
		kind := "receipt"
		if d, is := v.(map[string]any)["document"].(string); is {
			kind, _, _ = strings.Cut(d, " ")
		}
		assert.NoError(t, b.schemaOf(kind).Validate(v), kind)
	}
	for _, args := range [][]string{{"look", "h/lock-passages.csv"}, {"look", "h/toll-book-2025.xlsx", "--sheet", "all"},
		{"load", "h/lock-passages.csv", "--into", db, "--tolerate", "0.1%"}, {"load", "h/boat-register.txt", "--into", db, "--dry-run"},
		{"load", "h/lock-passages.csv", "--into", db}, {"rejects", "latest"}, {"tray"}, {"tray", "--check"}, {"verify", "latest", "--deep"},
		{"peek", db}, {"peek", db, "lock_passages"}, {"export", db, "lock_passages", "-o", "x.csv"}, {"ddl", db, "lock_passages"},
		{"dictionary", "h/boat-register.txt"}, {"mend", "latest", "--waive", "1", "--because", "torn"}, {"load", "none.csv", "--into", db},
		{"script", "h/boat-register.txt", "--for", "oracle", "-o", "x.sql"}, {"connections"},
		{"load", "h/lock-passages.csv", "--into", db, "--mode", "refill", "--dry-run"}} {
		r := b.try(append(args, "--json")...)
		valid(r.out)
	}
	receipts, err := filepath.Glob(filepath.Join(b.dir, "tray", "*", "receipt.json"))
	require.NoError(t, err)
	require.NotEmpty(t, receipts)
	for _, f := range receipts {
		rel, err := filepath.Rel(b.dir, f)
		require.NoError(t, err)
		valid(b.read(rel))
	}

	s := b.schemaOf("plan")
	plain := func(text string) error {
		var v any
		require.NoError(t, yaml.Unmarshal([]byte(text), &v))
		j, err := json.Marshal(v)
		require.NoError(t, err)
		v, err = jsonschema.UnmarshalJSON(bytes.NewReader(j))
		require.NoError(t, err)
		return s.Validate(v)
	}
	b.run(0, "plan", "h/gauge-readings.tsv", "--key", "gauge,read_at", "-o", "g.yaml")
	b.run(0, "plan", "h/boat-register.txt", "--provenance", "--row-number", "n", "-o", "b.yaml")
	for _, name := range []string{"g.yaml", "b.yaml", "h/tolls.yaml"} {
		assert.NoError(t, plain(b.read(name)), name)
	}
	assert.Error(t, plain(strings.Replace(b.read("g.yaml"), "    type:", "    typ:", 1)))
	assert.Error(t, plain(strings.Replace(b.read("g.yaml"), "ambertray: 1", "amber: 1", 1)))
	assert.Contains(t, b.run(2, "schema", "plna").err, "did you mean plan?")
}
