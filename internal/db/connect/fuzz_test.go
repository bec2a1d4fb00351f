package connect

import (
	"strings"
	"testing"
)

// No password of a URL is shown, wherever it stands in it.
func FuzzRedact(f *testing.F) {
	f.Add("postgres", "ann", "host:5432", "db", "sslmode=require", uint8(0))
	f.Add("mysql", "ann", "host", "db", "x=1", uint8(1))
	f.Add("db2", "a b", "h", "", "", uint8(2))
	f.Fuzz(func(t *testing.T, scheme, user, host, name, query string, form uint8) {
		const word = "Geheim1777"
		if strings.Contains(scheme+user+host+name+query, word) || strings.Contains(strings.ToLower(scheme), "sqlite") {
			return
		}
		var raw string
		switch form % 4 {
		case 0:
			raw = scheme + "://" + user + ":" + word + "@" + host + "/" + name + "?" + query
		case 1:
			raw = scheme + "://" + user + "@" + host + "/" + name + "?password=" + word + "&" + query
		case 2:
			raw = "host=" + host + " user=" + user + " password=" + word + " dbname=" + name
		case 3:
			raw = "Server=" + host + ";Uid=" + user + ";Pwd=" + word + ";Database=" + name
		}
		Of(raw)
		Same(raw, raw)
		for _, shown := range []string{Redact(raw), Canonical(raw)} {
			if strings.Contains(shown, word) {
				t.Fatalf("%q is shown as %q", raw, shown)
			}
		}
	})
}
