package config_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/config"
)

// files writes a person's own file and a folder's, and goes into the folder.
func files(t *testing.T, own, folder string) {
	dir := t.TempDir()
	t.Setenv("XDG_CONFIG_HOME", filepath.Join(dir, "own"))
	t.Setenv("HOME", filepath.Join(dir, "home"))
	t.Setenv("AMBERTRAY_CONFIG", "")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "own", "ambertray"), 0o700))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "work"), 0o700))
	t.Chdir(filepath.Join(dir, "work"))
	if own != "" {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "own", "ambertray", config.File), []byte(own), 0o600))
	}
	if folder != "" {
		require.NoError(t, os.WriteFile(config.File, []byte(folder), 0o600))
	}
}

// The folder's file counts before the person's own, and each where the other says nothing.
func TestFiles(t *testing.T) {
	files(t, "", "")
	c, err := config.Load()
	require.NoError(t, err)
	assert.Empty(t, c.Files)

	files(t, "connections:\n  a: {url: 'sqlite:own.db', password_command: [pass, show, a], tray: ~/trays/a}\n  b: {url: 'sqlite:b.db'}\noptions: {lock-wait: 5, quiet: true}\n",
		"connections:\n  a: {url: 'sqlite:folder.db', tray: papers}\noptions: {lock-wait: 7}\n")
	c, err = config.Load()
	require.NoError(t, err)
	assert.Equal(t, []string{"a", "b"}, c.Names())
	assert.Equal(t, "sqlite:folder.db", c.Connections["a"].URL)
	assert.Empty(t, c.Connections["a"].PasswordCommand)
	assert.Equal(t, "papers", c.Connections["a"].Tray)
	assert.Equal(t, map[string]string{"lock-wait": "7", "quiet": "true"}, c.Options)
	assert.Len(t, c.Files, 2)

	other := filepath.Join(t.TempDir(), "c.yaml")
	require.NoError(t, os.WriteFile(other, []byte("connections:\n  c: {url: 'sqlite:c.db', password_file: pw, tray: ~/t}\n"), 0o600))
	t.Setenv("AMBERTRAY_CONFIG", other)
	c, err = config.Load()
	require.NoError(t, err)
	assert.Equal(t, []string{"c"}, c.Names(), "alone")
	assert.Equal(t, filepath.Join(filepath.Dir(other), "pw"), c.Connections["c"].PasswordFile, "from the folder of the file")
	assert.Equal(t, filepath.Join(os.Getenv("HOME"), "t"), c.Connections["c"].Tray)
}

// What is wrong, or would give somebody else a hand, is refused.
func TestRefused(t *testing.T) {
	for text, say := range map[string]string{
		"conections: {}": "conections", "connections: {a: {}}": "no url",
		"connections: {a: {url: 'postgres://x:secret@h/d'}}":              "has a password",
		"connections: {a: {url: 'mysql://x@h/d?Password=secret'}}":        "has a password",
		"connections: {'a:b': {url: 'sqlite:x'}}":                         "no colon",
		"connections: {a: {url: 'sqlite:x', passwordfile: x}}":            "passwordfile",
		"connections: {a: {url: 'sqlite:x', password_command: [id]}}":     "came with the folder",
		"connections: {a: {url: 'sqlite:x', password_command: [rm, -r]}}": "came with the folder",
	} {
		files(t, "", text)
		_, err := config.Load()
		require.ErrorContains(t, err, say, text)
	}
	files(t, "connections: {a: {url: 'sqlite:x', password_file: p, password_command: [id]}}", "")
	_, err := config.Load()
	require.ErrorContains(t, err, "not both")
	files(t, "connections: {a: {url: 'sqlite:x', password_command: [id]}}", "")
	require.NoError(t, os.Chmod(filepath.Join(os.Getenv("XDG_CONFIG_HOME"), "ambertray", config.File), 0o666))
	_, err = config.Load()
	require.ErrorContains(t, err, "others can write")
	t.Setenv("AMBERTRAY_CONFIG", "none.yaml")
	_, err = config.Load()
	require.ErrorContains(t, err, "none.yaml cannot be read")
}
