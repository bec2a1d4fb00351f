package main

import (
	"runtime/debug"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestVersionFromTheBuild(t *testing.T) {
	info := func(version string, settings ...debug.BuildSetting) func() (*debug.BuildInfo, bool) {
		return func() (*debug.BuildInfo, bool) {
			return &debug.BuildInfo{Main: debug.Module{Version: version}, Settings: settings}, true
		}
	}
	none := func() (*debug.BuildInfo, bool) { return nil, false }
	for _, tt := range []struct {
		version, commit string
		read            func() (*debug.BuildInfo, bool)
		want            [2]string
	}{
		{"v1", "abc", none, [2]string{"v1", "abc"}},
		{"", "", none, [2]string{"development", "unknown"}},
		{"", "", info("(devel)"), [2]string{"development", "unknown"}},
		{"", "", info("v0.9.1"), [2]string{"v0.9.1", "unknown"}},
		{"", "", info("v0.9.1", debug.BuildSetting{Key: "vcs.revision", Value: "0123456789abcdef"}, debug.BuildSetting{Key: "vcs.modified", Value: "true"}), [2]string{"v0.9.1", "0123456789ab, with changes"}},
	} {
		version, commit := built(tt.version, tt.commit, tt.read)
		assert.Equal(t, tt.want, [2]string{version, commit})
	}
}
