package cli_test

import (
	"crypto/ed25519"
	"crypto/x509"
	"encoding/pem"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Papers that were changed behind a load are noticed by who checks it.
func TestPapersAreSealed(t *testing.T) {
	b := newBench(t)
	b.write("a.csv", "id,toll\n1,2.50\n2,later\n")
	b.write("b.csv", "id,toll\n1,2.50\n")
	rec := b.loaded(3, "a.csv", "--into", "sqlite:c.db", "--key", "id", "--type", "toll=decimal(6,2)", "--max-rejects", "none")
	b.run(0, "load", "b.csv", "--into", "sqlite:c.db")
	b.write("tray/"+rec.Entry+"/rejects.csv", strings.ReplaceAll(b.read("tray/"+rec.Entry+"/rejects.csv"), "later", "4.50"))
	b.run(0, "mend", rec.Entry)
	assert.Contains(t, b.run(0, "tray", "--check").out, "of 2 entries, as they were sealed")

	public, key, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	der, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	b.write("tray.key", string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der})))
	der, err = x509.MarshalPKIXPublicKey(public)
	require.NoError(t, err)
	b.write("tray.pub", string(pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der})))
	b.run(4, "tray", "--check", "--public-key", "tray.pub")
	b.run(1, "tray", "--sign-key", "tray.pub")
	b.run(0, "tray", "--sign-key", "tray.key")
	b.run(0, "tray", "--check", "--public-key", "tray.pub")
	assert.Contains(t, b.run(0, "verify", rec.Entry).out, "which is signed")

	receipt := filepath.Join("tray", rec.Entry, "receipt.json")
	text := b.read(receipt)
	b.write(receipt, strings.Replace(text, `"mended": 1`, `"mended": 1 `, 1))
	r := b.run(4, "tray", "--check")
	assert.Contains(t, r.out, rec.Entry+": receipt.json")
	assert.Contains(t, b.run(4, "verify", rec.Entry).out, "changed since they were sealed: receipt.json")
	b.write(receipt, text)
	b.run(0, "verify", rec.Entry)

	// A tray of before has no chain, which is said and blames nobody.
	require.NoError(t, os.Remove(filepath.Join(b.dir, "tray", "chain.jsonl")))
	assert.Contains(t, b.run(0, "verify", rec.Entry).out, "they were never sealed")
	assert.Contains(t, b.run(0, "tray", "--check").out, "not sealed")
}
