package connect

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// A path of Windows is one in a URL of either form, and one of another system stays.
func TestFilePath(t *testing.T) {
	for in, want := range map[string]string{`C:\canal\x.db`: `C:\canal\x.db`, "C:/x.db": "C:/x.db", "/C:/x.db": "C:/x.db",
		"x.db": "x.db", "/srv/x.db": "/srv/x.db", "": ""} {
		assert.Equal(t, want, filePath(in, true), in)
		assert.Equal(t, in, filePath(in, false), in)
	}
}
