// Package house holds the rules about the code as a whole, as tests.
package house

import (
	"fmt"
	"go/ast"
	"go/constant"
	"go/token"
	"go/types"
	"os"
	"os/exec"
	"regexp"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/go/packages"
)

const module = "ambertray/"

// load loads all packages of the program, with their types.
func load(t *testing.T) []*packages.Package {
	t.Helper()
	all, err := packages.Load(&packages.Config{Dir: "../..", Mode: packages.NeedName | packages.NeedFiles | packages.NeedSyntax | packages.NeedTypes |
		packages.NeedTypesInfo | packages.NeedImports}, "./...")
	require.NoError(t, err)
	for _, p := range all {
		require.Empty(t, p.Errors)
	}
	return all
}

// sets are the closed sets, by the names of their types: the constants of types of
// ours that have at least three, sentinels aside.
func sets(all []*packages.Package) map[string][]*types.Const {
	out := map[string][]*types.Const{}
	for _, p := range all {
		for _, name := range p.Types.Scope().Names() {
			c, ok := p.Types.Scope().Lookup(name).(*types.Const)
			if !ok {
				continue
			}
			n, ok := c.Type().(*types.Named)
			if !ok || n.Obj().Pkg() != p.Types || strings.EqualFold(c.Name(), "kinds") || c.Name() == "orders" {
				continue
			}
			out[n.String()] = append(out[n.String()], c)
		}
	}
	for n, list := range out {
		if len(list) < 3 {
			delete(out, n)
		}
	}
	return out
}

// A switch over a closed set names each of its members, or says in a comment that
// begins with "others:" what the others are. So whoever adds a member is told
// each place that has to know it.
func TestSwitchesAreClosed(t *testing.T) {
	all := load(t)
	closed := sets(all)
	require.Contains(t, closed, module+"internal/sqltype.Kind")
	switches := 0
	for _, p := range all {
		for _, f := range p.Syntax {
			ast.Inspect(f, func(n ast.Node) bool {
				s, ok := n.(*ast.SwitchStmt)
				if !ok || s.Tag == nil {
					return true
				}
				named, ok := p.TypesInfo.TypeOf(s.Tag).(*types.Named)
				if !ok || closed[named.String()] == nil {
					return true
				}
				switches++
				if missing := missingCases(p, s, closed[named.String()]); len(missing) > 0 && !says(f, s, "others:") {
					t.Errorf("%s: the switch over %s says nothing of %s", where(p, s), named.Obj().Name(), strings.Join(missing, ", "))
				}
				return true
			})
		}
	}
	assert.Greater(t, switches, 30, "they are found")
}

// says reports whether a comment within a node begins with a word.
func says(f *ast.File, n ast.Node, word string) bool {
	for _, g := range f.Comments {
		if g.Pos() >= n.Pos() && g.End() <= n.End() && strings.HasPrefix(strings.TrimSpace(g.Text()), word) {
			return true
		}
	}
	return false
}

func where(p *packages.Package, n ast.Node) string {
	at := p.Fset.Position(n.Pos())
	_, file, _ := strings.Cut(at.Filename, "internal/")
	return fmt.Sprintf("%s:%d", file, at.Line)
}

func missingCases(p *packages.Package, s *ast.SwitchStmt, set []*types.Const) (missing []string) {
	var have []constant.Value
	for _, c := range s.Body.List {
		for _, x := range c.(*ast.CaseClause).List {
			if v := p.TypesInfo.Types[x].Value; v != nil {
				have = append(have, v)
			}
		}
	}
	for _, c := range set {
		if !slices.ContainsFunc(have, func(v constant.Value) bool { return constant.Compare(v, token.EQL, c.Val()) }) {
			missing = append(missing, c.Name())
		}
	}
	return missing
}

// Limits of a function. What is above either says why in its comment, with the
// words "It is long because".
const (
	mostLines    = 80
	mostBranches = 30
)

func TestFunctionsAreShort(t *testing.T) {
	for _, p := range load(t) {
		for _, f := range p.Syntax {
			for _, d := range f.Decls {
				fn, ok := d.(*ast.FuncDecl)
				if !ok || fn.Body == nil {
					continue
				}
				lines := p.Fset.Position(fn.End()).Line - p.Fset.Position(fn.Pos()).Line + 1
				if n := branches(fn); (lines > mostLines || n > mostBranches) && !strings.Contains(strings.Join(strings.Fields(fn.Doc.Text()), " "), "It is long because") {
					t.Errorf("%s: %s has %d lines and %d branches, and does not say why", where(p, fn), fn.Name.Name, lines, n)
				}
			}
		}
	}
}

// branches counts the ways through a function, as cyclomatic complexity does.
func branches(fn *ast.FuncDecl) int {
	n := 1
	ast.Inspect(fn, func(x ast.Node) bool {
		switch x := x.(type) {
		case *ast.IfStmt, *ast.ForStmt, *ast.RangeStmt, *ast.CaseClause, *ast.CommClause:
			n++
		case *ast.BinaryExpr:
			if x.Op == token.LAND || x.Op == token.LOR {
				n++
			}
		}
		return true
	})
	return n
}

// What is below says nothing of what is above: imports run down the list of
// folders in docs/architecture.md, which has every folder once.
func TestImportsRunDown(t *testing.T) {
	b, err := os.ReadFile("../../docs/architecture.md")
	require.NoError(t, err)
	_, rest, ok := strings.Cut(string(b), "```folders\n")
	require.True(t, ok, "the list of folders")
	list, _, _ := strings.Cut(rest, "```")
	level := map[string]int{}
	for i, line := range strings.Split(strings.TrimSpace(list), "\n") {
		names, _, _ := strings.Cut(line, "   ") // names stand two blanks apart
		for _, name := range strings.Fields(names) {
			require.NotContains(t, level, name, "it stands twice")
			level[name] = i + 1
		}
	}
	for _, p := range load(t) {
		name := strings.TrimPrefix(strings.TrimPrefix(p.PkgPath, module), "internal/")
		require.Contains(t, level, name, "docs/architecture.md does not name the folder %s", name)
		for path := range p.Imports {
			if below, ours := strings.CutPrefix(path, module+"internal/"); ours {
				assert.Greater(t, level[below], level[name], "%s imports %s, which stands above it", name, below)
			}
		}
		level[name] += 0
	}
	assert.Len(t, level, len(load(t)), "each folder is there")
}

// SQLite's library is C translated to Go against one release of this package:
// with another, memory is handed over wrongly. Whoever updates one updates both.
func TestLibraryFitsSQLite(t *testing.T) {
	version := func(args ...string) string {
		cmd := exec.Command("go", append([]string{"list", "-m", "-f"}, args...)...)
		out, err := cmd.Output()
		require.NoError(t, err)
		return strings.TrimSpace(string(out))
	}
	mod, err := os.ReadFile(version("{{.GoMod}}", "modernc.org/sqlite"))
	require.NoError(t, err)
	assert.Regexp(t, `modernc.org/libc `+regexp.QuoteMeta(version("{{.Version}}", "modernc.org/libc"))+`(\s|$)`, string(mod))
}

// CONTRIBUTING names files that are there.
func TestContributingIsTrue(t *testing.T) {
	b, err := os.ReadFile("../../CONTRIBUTING.md")
	require.NoError(t, err)
	named := regexp.MustCompile("`((?:internal|docs|scripts)/[^`]+|[A-Z]+\\.md)`").FindAllStringSubmatch(string(b), -1)
	assert.Greater(t, len(named), 30)
	for _, m := range named {
		_, err := os.Stat("../../" + m[1])
		assert.NoError(t, err)
	}
	for _, head := range []string{"database", "format", "command", "finding", "type"} {
		assert.Contains(t, string(b), "\n## Add a "+head+"\n")
	}
}

// Every module that is linked into the program is in the notices, in the version
// that is linked. scripts/notices writes them.
func TestNoticesAreComplete(t *testing.T) {
	b, err := os.ReadFile("../../THIRD-PARTY-NOTICES.txt")
	require.NoError(t, err)
	cmd := exec.Command("go", "list", "-deps", "-f", "{{with .Module}}{{if not .Main}}{{.Path}} {{.Version}}{{end}}{{end}}", "../../cmd/ambertray")
	out, err := cmd.Output()
	require.NoError(t, err)
	modules := slices.Compact(slices.Sorted(strings.Lines(string(out))))
	assert.Greater(t, len(modules), 10)
	for _, m := range modules {
		if m = strings.TrimSpace(m); m != "" {
			assert.True(t, strings.Contains(string(b), "\n"+m+"\n"), "%s: scripts/notices", m)
		}
	}
}

// longest is how many columns a line of code may take, a tab counting four.
const longest = 120

// Lines end where a screen does, but for texts that are written as they are.
func TestLinesAreShort(t *testing.T) {
	for _, p := range load(t) {
		for _, f := range p.Syntax {
			raw := map[int]bool{} // lines that hold part of such a text
			ast.Inspect(f, func(n ast.Node) bool {
				if l, ok := n.(*ast.BasicLit); ok && l.Kind == token.STRING && l.Value[0] == '`' {
					for k := p.Fset.Position(l.Pos()).Line; k <= p.Fset.Position(l.End()).Line; k++ {
						raw[k] = true
					}
				}
				return true
			})
			name := p.Fset.Position(f.Pos()).Filename
			text, err := os.ReadFile(name)
			require.NoError(t, err)
			for i, line := range strings.Split(string(text), "\n") {
				wide := utf8.RuneCountInString(line) + 3*strings.Count(line, "\t")
				if wide > longest && !raw[i+1] {
					t.Errorf("%s:%d: the line takes %d columns", name, i+1, wide)
				}
			}
		}
	}
}
