// Package house holds the rules about the code as a whole, as tests.
package house

import (
	"fmt"
	"go/ast"
	"go/constant"
	"go/token"
	"go/types"
	"slices"
	"strings"
	"testing"

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
