package cli_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"reflect"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ambertray/internal/desk"
	"ambertray/internal/plan"
	"ambertray/internal/profile"
	"ambertray/internal/report"
	"ambertray/internal/source"
	"ambertray/internal/tray"
)

func doc(t *testing.T, name string) string {
	b, err := os.ReadFile(filepath.Join("..", "..", name))
	require.NoError(t, err)
	return string(b)
}

// keys are the names of a type's fields in its files, those of fields within too.
func keys(typ reflect.Type, tag string) (out []string) {
	switch typ.Kind() {
	case reflect.Slice, reflect.Pointer:
		return keys(typ.Elem(), tag)
	case reflect.Struct:
	default:
		return nil
	}
	for i := range typ.NumField() {
		f := typ.Field(i)
		if f.Anonymous {
			out = append(out, keys(f.Type, tag)...)
			continue
		}
		name, _, _ := strings.Cut(f.Tag.Get(tag), ",")
		if name == "" || name == "-" {
			continue
		}
		out = append(out, name)
		out = append(out, keys(f.Type, tag)...)
	}
	return out
}

// The documents name every key, finding and command that there is.
func TestDocumentsAreComplete(t *testing.T) {
	planDoc, jsonDoc, readme := doc(t, "docs/plan.md"), doc(t, "docs/json.md"), doc(t, "README.md")
	for _, k := range keys(reflect.TypeFor[plan.Plan](), "yaml") {
		assert.True(t, strings.Contains(planDoc, "`"+k), "docs/plan.md: key %s", k)
	}
	for _, k := range keys(reflect.TypeFor[tray.Receipt](), "json") {
		assert.True(t, strings.Contains(jsonDoc, "`"+k+"`"), "docs/json.md: key %s", k)
	}
	for _, code := range profile.Codes {
		assert.True(t, strings.Contains(jsonDoc, "`"+string(code)+"`"), "docs/json.md: finding %s", code)
	}
	trayDoc := doc(t, "docs/tray.md")
	for _, code := range tray.Codes() {
		assert.True(t, strings.Contains(trayDoc, "`"+string(code)+"`"), "docs/tray.md: code %s", code)
	}
	for _, set := range source.Settings {
		assert.True(t, strings.Contains(planDoc, "`"+set.Key+"`"), "docs/plan.md: setting %s", set.Key)
	}
	for _, typ := range []reflect.Type{reflect.TypeFor[desk.LookAnswer](), reflect.TypeFor[desk.DryRunAnswer](), reflect.TypeFor[desk.MappingAnswer](),
		reflect.TypeFor[desk.ChangesAnswer](), reflect.TypeFor[desk.MendAnswer](), reflect.TypeFor[desk.WaiveAnswer](), reflect.TypeFor[desk.VerifyAnswer](),
		reflect.TypeFor[desk.RejectsAnswer](), reflect.TypeFor[desk.TrayAnswer](), reflect.TypeFor[desk.TablesAnswer](), reflect.TypeFor[desk.TableAnswer](),
		reflect.TypeFor[desk.ScriptAnswer](), reflect.TypeFor[desk.ExportAnswer](), reflect.TypeFor[desk.DefineAnswer](), reflect.TypeFor[report.Dictionary](), reflect.TypeFor[report.Load]()} {
		for _, k := range keys(typ, "json") {
			assert.True(t, strings.Contains(jsonDoc, "`"+k+"`"), "docs/json.md: key %s of %s", k, typ)
		}
	}
	b := newBench(t)
	help := b.run(0, "--help").out
	for _, m := range regexp.MustCompile(`(?m)^  ([a-z]+) +[A-Z]`).FindAllStringSubmatch(help, -1) {
		if m[1] != "help" {
			assert.True(t, strings.Contains(readme, "| `"+m[1]+" ") || strings.Contains(readme, "| `"+m[1]+"`"), "README: command %s", m[1])
		}
	}
	// Every picture and page that is linked is there.
	for _, name := range pages(t) {
		for _, m := range regexp.MustCompile(`\]\(([^)#:]+)\)`).FindAllStringSubmatch(doc(t, name), -1) {
			_, err := os.Stat(filepath.Join("..", "..", filepath.Dir(name), m[1]))
			assert.NoError(t, err, name)
		}
	}
}

// pages are all of the documents, from the root of the project.
func pages(t *testing.T) (out []string) {
	for _, pattern := range []string{"*.md", "docs/*.md", "docs/*/*.md"} {
		some, err := filepath.Glob(filepath.Join("..", "..", pattern))
		require.NoError(t, err)
		for _, p := range some {
			rel, err := filepath.Rel(filepath.Join("..", ".."), p)
			require.NoError(t, err)
			out = append(out, rel)
		}
	}
	require.Greater(t, len(out), 20)
	return out
}

// What README shows is what comes back, word for word, in the folder of the sample data; but
// for times, and for what a person is asked there and answers.
func TestREADME(t *testing.T) {
	b := newBench(t)
	b.run(0, "demo", ".", "--files-only")
	readme := doc(t, "README.md")
	_, rest, ok := strings.Cut(readme, "## Quick start\n")
	require.True(t, ok)
	rest, _, _ = strings.Cut(rest, "\n## Commands\n")
	varies := regexp.MustCompile(`\d{8}-\d{6}|in \d+m?s,|in \d\.\d+s,`)
	prompt := regexp.MustCompile(`(?s)\nLoad it in spite of .*?\n1 to 3: 1\n`)
	commands := 0
	for _, block := range regexp.MustCompile("(?s)\n```\n(.*?)\n```\n").FindAllStringSubmatch(rest, -1) {
		for _, part := range regexp.MustCompile(`(?m)^(?:\$ )?ambertray `).Split(block[1], -1)[1:] {
			line, shown, _ := strings.Cut(part, "\n")
			cmd := exec.Command("sh", "-c", `exec "$0" `+line, program)
			cmd.Dir, cmd.Env = b.dir, append(os.Environ(), "COLUMNS=110")
			if strings.Contains(shown, "Load it in spite") {
				cmd.Args[2] += " --yes" // as the person answers
			}
			var out, errs strings.Builder
			cmd.Stdout, cmd.Stderr = &out, &errs
			if err := cmd.Run(); err != nil {
				require.Equal(t, 3, cmd.ProcessState.ExitCode(), "%s\n%s", line, errs.String())
			}
			commands++
			if strings.TrimSpace(shown) == "" {
				continue
			}
			got := errs.String() + out.String()
			for _, x := range []*string{&shown, &got} {
				*x = strings.TrimSpace(varies.ReplaceAllString(prompt.ReplaceAllString(*x, "\n"), "…"))
			}
			assert.Equal(t, shown, got, line)
		}
	}
	assert.Equal(t, 10, commands)
}

// The pieces of YAML that the pages show are what the program writes, or reads.
func TestDocBlocks(t *testing.T) {
	blocks := func(page string) (out []string) {
		for _, m := range regexp.MustCompile("(?s)\n```yaml\n(.*?)```\n").FindAllStringSubmatch(doc(t, page), -1) {
			out = append(out, m[1])
		}
		return out
	}
	b := newBench(t)
	b.run(0, "demo", ".", "--files-only")
	written := b.run(0, "plan", "gauge-readings.tsv", "--key", "gauge,read_at").out
	shownPlans := blocks("docs/plan.md")
	require.Len(t, shownPlans, 2)
	at := 0
	for _, line := range strings.Split(strings.TrimSpace(shownPlans[0]), "\n") {
		i := strings.Index(written[at:], line+"\n")
		require.GreaterOrEqual(t, i, 0, "docs/plan.md: %s", line)
		at += i
	}
	const around = "ambertray: 1\nsources: [{file: a.csv, header: 1, delimiter: comma, quote: double}]\ntable: {name: boats, key: [permit]}\n" +
		"columns:\n  - {name: permit, from: permit, type: char(4)}\n  - {name: toll, from: toll, type: 'decimal(9,2)'}\n" +
		"  - {name: length, from: length, type: 'decimal(9,2)'}\n"
	for _, block := range append(blocks("docs/keeping.md"), shownPlans[1]) {
		_, err := plan.Parse([]byte(around + block))
		assert.NoError(t, err, block)
	}
	shown := blocks("docs/config.md")
	require.Len(t, shown, 1)
	b.write("own.yaml", shown[0])
	b.env = []string{"AMBERTRAY_CONFIG=own.yaml"}
	assert.Contains(t, b.run(0, "connections").out, "harbour")
}
