package cli_test

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/cli"
	"ambertray/internal/testdb"
)

// What differs from one run to the next: names of entries, and times.
var varies = regexp.MustCompile(`\d{8}-\d{6}(-\d+)?|of \d{4}-\d\d-\d\d \d\d:\d\d|in \d+m?s,|in \d+\.\d+s,`)

// A block of a page is what a person types behind "$ ", with lines that go on behind "> ", and
// what comes back. A line of nothing but … stands for any lines.
var shellBlock = regexp.MustCompile("(?s)\n```\n(\\$ .*?)\n```\n")

// played runs the commands of a block, and returns the block as it came out. What has come
// back is as the page has it, where that fits.
func (b *bench) played(block string, status *int) string {
	bin := b.t.TempDir()
	require.NoError(b.t, os.Symlink(program, filepath.Join(bin, "ambertray")))
	var out []string
	parts := regexp.MustCompile(`(?m)^\$ `).Split(block, -1)[1:]
	for i, part := range parts {
		lines := strings.Split(strings.TrimRight(part, "\n"), "\n")
		n := 1
		for n < len(lines) && strings.HasPrefix(lines[n], "> ") {
			n++
		}
		typed := []string{lines[0]}
		for _, l := range lines[1:n] {
			typed = append(typed, strings.TrimPrefix(l, "> "))
		}
		out = append(out, "$ "+lines[0])
		out = append(out, lines[1:n]...)
		if typed[0] == "echo $?" {
			out = append(out, fmt.Sprint(*status))
			continue
		}
		if strings.Contains(typed[0], "psql") && os.Getenv("AMBERTRAY_TEST_POSTGRES") == "" {
			out = append(out, lines[n:]...) // it is run where there is one
			continue
		}
		cmd := exec.Command("sh", "-c", strings.Join(typed, "\n"))
		cmd.Dir = b.dir
		cmd.Env = append(append(os.Environ(), b.env...), "COLUMNS=110", "PATH="+bin+":"+os.Getenv("PATH"))
		both, err := cmd.CombinedOutput()
		*status = cmd.ProcessState.ExitCode()
		var ended *exec.ExitError
		if err != nil && !errors.As(err, &ended) {
			require.NoError(b.t, err)
		}
		said := *status == 0 || i+1 < len(parts) && strings.HasPrefix(parts[i+1], "echo $?")
		said = said || os.Getenv("AMBERTRAY_WRITE_GOLDEN") != "" // it is read by whoever wrote it
		require.True(b.t, said, "%s ends with %d, and the page does not say so\n%s", typed[0], *status, both)
		got := strings.TrimRight(string(both), "\n")
		want := strings.Join(lines[n:], "\n")
		if like(want, got) {
			got = want
		}
		if got != "" {
			out = append(out, strings.Split(got, "\n")...)
		}
	}
	return strings.Join(out, "\n")
}

// like reports whether what came back is what a page shows.
func like(want, got string) bool {
	pattern := regexp.QuoteMeta(varies.ReplaceAllString(want, "\x00"))
	pattern = strings.ReplaceAll(pattern, "\x00", varies.String())
	lines := strings.Split(pattern, "\n")
	for i, l := range lines {
		if strings.TrimSpace(l) == "…" {
			lines[i] = `(?s:.*?)`
		}
	}
	return regexp.MustCompile(`^` + strings.Join(lines, "\n") + `\n?$`).MatchString(strings.TrimRight(got, "\n"))
}

// What the pages about a job show comes back, command by command, in the folder of the sample
// data. With AMBERTRAY_WRITE_GOLDEN the pages get what came back.
func TestJobPages(t *testing.T) {
	pages, err := filepath.Glob("../../docs/jobs/*.md")
	require.NoError(t, err)
	require.Len(t, pages, 4)
	for _, page := range pages {
		t.Run(filepath.Base(page), func(t *testing.T) {
			b := newBench(t)
			b.run(0, "demo", ".", "--files-only")
			b.postgresFor()
			text, status := doc(t, "docs/jobs/"+filepath.Base(page)), 0
			blocks := 0
			now := shellBlock.ReplaceAllStringFunc(text, func(s string) string {
				blocks++
				block := shellBlock.FindStringSubmatch(s)[1]
				return strings.Replace(s, block, b.played(block, &status), 1)
			})
			assert.Greater(t, blocks, 2)
			if os.Getenv("AMBERTRAY_WRITE_GOLDEN") != "" {
				require.NoError(t, os.WriteFile(page, []byte(now), 0o666))
				return
			}
			assert.Equal(t, text, now)
		})
	}
}

// postgresFor gives the commands of a page a database of PostgreSQL, if there is one.
func (b *bench) postgresFor() {
	if os.Getenv("AMBERTRAY_TEST_POSTGRES") != "" {
		url, _ := testdb.Postgres(b.t)
		b.env = append(b.env, "CANAL="+url)
	}
}

// Whatever command and option the pages speak of there is.
func TestPagesNameWhatThereIs(t *testing.T) {
	root := cli.Tree("test", "")
	options := map[string]bool{"help": true, "version": true}
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		c.Flags().VisitAll(func(f *pflag.Flag) { options[f.Name] = true })
		c.PersistentFlags().VisitAll(func(f *pflag.Flag) { options[f.Name] = true })
		for _, x := range c.Commands() {
			walk(x)
		}
	}
	walk(root)
	command := regexp.MustCompile("(?:^|[`$|] ?|    )ambertray ([a-z]+)([^`|>\n]*)")
	option := regexp.MustCompile(`(?:^|\s)--([a-z][a-z-]*)`)
	others := []string{"no-install-recommends", "set", "local-infile", "default-character-set"} // of other programs
	commands := 0
	for _, page := range pages(t) {
		text := doc(t, page)
		for _, m := range command.FindAllStringSubmatch(text, -1) {
			c, _, err := root.Find([]string{m[1]})
			if !assert.NoError(t, err, "%s: %s", page, m[0]) {
				continue
			}
			commands++
			for _, o := range option.FindAllStringSubmatch(m[2], -1) {
				known := c.Flags().Lookup(o[1]) != nil || root.PersistentFlags().Lookup(o[1]) != nil
				assert.True(t, known || o[1] == "help", "%s: %s has no option --%s", page, m[1], o[1])
			}
		}
		for _, m := range regexp.MustCompile("`[^`\n]*`").FindAllString(text, -1) {
			if strings.Contains(m, "make ") || strings.Contains(m, "scripts/") || filepath.Base(page) == "CONTRIBUTING.md" {
				continue
			}
			for _, o := range option.FindAllStringSubmatch(strings.Trim(m, "`"), -1) {
				assert.True(t, options[o[1]] || slices.Contains(others, o[1]), "%s: there is no option --%s", page, o[1])
			}
		}
	}
	assert.Greater(t, commands, 60)
}
