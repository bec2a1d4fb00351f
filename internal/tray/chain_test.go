package tray

import (
	"bytes"
	"crypto/ed25519"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// sealed makes a tray with n entries, whose papers are sealed.
func sealed(t *testing.T, n int) (dir string, all []*Entry) {
	dir = filepath.Join(t.TempDir(), "tray")
	for i := range n {
		e, err := Create(dir, fmt.Sprintf("t%d", i+1), time.Now())
		require.NoError(t, err)
		require.NoError(t, e.Write(PlanFile, []byte("ambertray: 1\n")))
		require.NoError(t, e.WriteReceipt(&Receipt{Entry: e.Name, Verdict: Clear}))
		all = append(all, e)
	}
	return dir, all
}

func changed(t *testing.T, dir string, e *Entry) (broken, changed []string) {
	c, err := ReadChain(dir)
	require.NoError(t, err)
	s, err := c.Sealed(e)
	require.NoError(t, err)
	return c.Broken, s.Changed
}

// Whatever is changed in papers or in the chain is noticed.
func TestChain(t *testing.T) {
	dir, all := sealed(t, 3)
	for _, e := range all {
		broken, changed := changed(t, dir, e)
		assert.Empty(t, broken)
		assert.Empty(t, changed)
	}
	// Rejects are there to be corrected, and logs go on.
	require.NoError(t, os.WriteFile(all[1].Path(RejectsFile), []byte("x"), 0o600))
	require.NoError(t, os.WriteFile(all[1].Path(LogFile), []byte("x"), 0o600))
	_, is := changed(t, dir, all[1])
	assert.Empty(t, is)
	// A receipt that the program itself brings up to date is sealed anew.
	require.NoError(t, all[1].WriteReceipt(&Receipt{Entry: all[1].Name, Verdict: Waiting}))
	_, is = changed(t, dir, all[1])
	assert.Empty(t, is)

	plan, err := os.ReadFile(all[1].Path(PlanFile))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(all[1].Path(PlanFile), append(plan, '#'), 0o600))
	_, is = changed(t, dir, all[1])
	assert.Equal(t, []string{PlanFile}, is)
	require.NoError(t, os.Remove(all[1].Path(PlanFile)))
	_, is = changed(t, dir, all[1])
	assert.Equal(t, []string{PlanFile + " (not there)"}, is)
	require.NoError(t, os.WriteFile(all[1].Path(PlanFile), plan, 0o600))

	file := filepath.Join(dir, ChainFile)
	whole, err := os.ReadFile(file)
	require.NoError(t, err)
	lines := bytes.SplitAfter(whole, []byte("\n"))
	for what, text := range map[string][]byte{
		"a line changed":    bytes.Replace(whole, []byte(`"entry":"t1`), []byte(`"entry":"t7`), 1),
		"a line taken out":  append(bytes.Clone(lines[0]), bytes.Join(lines[2:], nil)...),
		"the first gone":    bytes.Join(lines[1:], nil),
		"two lines swapped": bytes.Join([][]byte{lines[1], lines[0], lines[2], lines[3]}, nil),
		"no line at all":    append([]byte("x\n"), whole...),
	} {
		require.NoError(t, os.WriteFile(file, text, 0o600))
		broken, _ := changed(t, dir, all[2])
		assert.NotEmpty(t, broken, what)
	}
	// Half a line is of a program that was ended; the next one takes its place.
	require.NoError(t, os.WriteFile(file, append(bytes.Clone(whole), `{"number":9`...), 0o600))
	broken, _ := changed(t, dir, all[2])
	assert.Empty(t, broken)
	require.NoError(t, all[2].WriteReceipt(&Receipt{Entry: all[2].Name, Verdict: Clear}))
	broken, is = changed(t, dir, all[2])
	assert.Empty(t, broken)
	assert.Empty(t, is)
	require.NoError(t, os.RemoveAll(all[0].Dir))
	c, err := ReadChain(dir)
	require.NoError(t, err)
	assert.EqualValues(t, 5, c.Links)
	assert.Equal(t, []string{all[0].Name}, c.Gone(dir))
}

// A signature is of all before it, and of nothing that was changed since.
func TestSignatures(t *testing.T) {
	dir, all := sealed(t, 2)
	_, key, err := ed25519.GenerateKey(nil)
	require.NoError(t, err)
	link, err := Sign(dir, key)
	require.NoError(t, err)
	assert.EqualValues(t, 3, link.Number)
	require.NoError(t, all[0].WriteReceipt(&Receipt{Entry: all[0].Name, Verdict: Waiting}))
	c, err := ReadChain(dir)
	require.NoError(t, err)
	require.Len(t, c.Signed, 1)
	assert.EqualValues(t, 2, c.Signed[0].Through)
	s, err := c.Sealed(all[1])
	require.NoError(t, err)
	assert.Equal(t, []string{link.Key}, s.SignedBy)
	s, err = c.Sealed(all[0])
	require.NoError(t, err)
	assert.Empty(t, s.SignedBy, "its last link came after the signature")

	file := filepath.Join(dir, ChainFile)
	whole, err := os.ReadFile(file)
	require.NoError(t, err)
	for what, text := range map[string]string{
		"another signature": strings.Replace(string(whole), link.Signature[:10], "AAAAAAAAAA", 1),
		"what was signed":   strings.Replace(string(whole), `"plan.yaml":"`, `"plan.yaml":"0`, 1),
	} {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		c, err := ReadChain(dir)
		require.NoError(t, err)
		assert.NotEmpty(t, c.Broken, what)
		assert.Empty(t, c.Signed, what)
	}
	_, err = Sign(t.TempDir(), key)
	assert.ErrorContains(t, err, "no chain yet")
}

// Loads that end at once do not spoil it.
func TestChainAtOnce(t *testing.T) {
	dir, all := sealed(t, 8)
	var wg sync.WaitGroup
	for _, e := range all {
		wg.Go(func() {
			for range 10 {
				assert.NoError(t, e.WriteReceipt(&Receipt{Entry: e.Name, Verdict: Clear}))
			}
		})
	}
	wg.Wait()
	c, err := ReadChain(dir)
	require.NoError(t, err)
	assert.Empty(t, c.Broken)
	assert.EqualValues(t, 88, c.Links)
}

// A program that is ended between the seal and the name of the receipt has changed
// nothing: the receipt that it has prepared is the one that was sealed.
func TestEndedBetweenSealAndName(t *testing.T) {
	e, err := Create(t.TempDir(), "tolls", time.Now())
	require.NoError(t, err)
	require.NoError(t, e.Write(ReceiptFile, []byte("{}")))
	require.NoError(t, e.Prepare(ReceiptFile, []byte(`{"verdict": "clear"}`)))
	require.NoError(t, e.seal())
	changed := func() []string {
		c, err := ReadChain(filepath.Dir(e.Dir))
		require.NoError(t, err)
		s, err := c.Sealed(e)
		require.NoError(t, err)
		return s.Changed
	}
	assert.Empty(t, changed())
	require.NoError(t, e.Settle(ReceiptFile))
	assert.Empty(t, changed())
	require.NoError(t, os.WriteFile(e.Path(ReceiptFile), []byte("{ }"), 0o600))
	assert.Equal(t, []string{ReceiptFile}, changed())
}
