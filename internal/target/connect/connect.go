// Package connect opens a target by its database URL.
package connect

import (
	"context"
	"fmt"
	"strings"

	"ambertray/internal/target"
	"ambertray/internal/target/sqlite"
)

// Open connects. A SQLite database is created if there is none.
func Open(ctx context.Context, url string) (target.Target, error) {
	scheme, rest, ok := strings.Cut(url, ":")
	if !ok {
		return nil, fmt.Errorf("--into %q is not a database URL\n  write sqlite:path/to.db", url)
	}
	switch strings.ToLower(scheme) {
	case "sqlite", "sqlite3":
		if rest = strings.TrimPrefix(rest, "//"); rest == "" {
			return nil, fmt.Errorf("--into %q names no file\n  write sqlite:path/to.db", url)
		}
		return sqlite.Open(ctx, rest)
	}
	return nil, fmt.Errorf("--into: databases of the kind %q are not known\n  write sqlite:path/to.db", scheme)
}
