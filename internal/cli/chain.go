package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ambertray/internal/desk"
)

// chainFlags are the options that check or sign the tray's chain.
type chainFlags struct {
	check               bool
	publicKey, signWith string
}

func (f *chainFlags) add(cmd *cobra.Command) {
	p := cmd.Flags()
	p.BoolVar(&f.check, "check", false, "whether all papers are as they were sealed")
	p.StringVar(&f.publicKey, "public-key", "", "with --check: file (PEM) of the key that has to have signed the chain")
	p.StringVar(&f.signWith, "sign-key", "", "sign the chain with this Ed25519 key (file, PEM)")
}

func (f *chainFlags) given() bool { return f.check || f.publicKey != "" || f.signWith != "" }

func (a *app) chain(dir string, f *chainFlags) error {
	a.desk.Tray = dir
	if f.signWith != "" {
		link, err := a.desk.SignChain(f.signWith)
		if err != nil {
			return err
		}
		if a.json {
			return a.printJSON(link)
		}
		fmt.Fprintf(a.out, "%s  %s: link %d signs all before it\n", a.style(a.out).head("Chain"), dir, link.Number)
		return nil
	}
	x, err := a.desk.CheckChain(f.publicKey)
	if err != nil {
		return err
	}
	if a.json {
		if err := a.printJSON(x); err != nil {
			return err
		}
	} else {
		a.printChain(x)
	}
	if !x.Sound() {
		return ends(desk.Differs)
	}
	return nil
}

func (a *app) printChain(x *desk.ChainAnswer) {
	st := a.style(a.out)
	fmt.Fprintf(a.out, "%s  %s: %s, %s\n\n", st.head("Chain"), x.Tray, plural(x.Links, "link"),
		entries(int64(len(x.Entries))))
	g := newGrid(st, "", "", "")
	if x.Links == 0 {
		g.row("links", st.warn("none"), "no load has sealed its papers here")
	} else if len(x.Broken) == 0 {
		g.row("links", st.good("agree"), "each has the hash of the one before")
	}
	for _, b := range x.Broken {
		g.row("links", st.bad("broken"), b)
	}
	same := 0
	for _, s := range x.Entries {
		if len(s.Changed) > 0 {
			g.row("papers", st.bad("differ"), s.Entry+": "+strings.Join(s.Changed, ", "))
		} else {
			same++
		}
	}
	if same > 0 {
		g.row("papers", st.good("agree"), "of "+entries(int64(same))+", as they were sealed")
	}
	if len(x.Unsealed) > 0 {
		g.row("papers", st.warn("not sealed"), few(x.Unsealed, 5))
	}
	if len(x.Gone) > 0 {
		g.row("entries", st.warn("gone"), few(x.Gone, 5))
	}
	for _, s := range x.Signed {
		g.row("signed", st.good("agrees"), fmt.Sprintf("links 1 to %s, %s, by %s", grouped(s.Through),
			s.At.Format("2006-01-02 15:04 MST"), s.Key))
	}
	if x.Trusted != nil && !*x.Trusted {
		g.row("signed", st.bad("not"), "by the key that was given")
	}
	g.render(a.out)
}

func entries(n int64) string {
	if n == 1 {
		return "1 entry"
	}
	return grouped(n) + " entries"
}
