package phrase

import (
	"math"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestGrouped(t *testing.T) {
	for n, want := range map[int64]string{0: "0", 7: "7", 999: "999", 1000: "1,000", -999: "-999", -1000: "-1,000", 1234567: "1,234,567", -1234567: "-1,234,567",
		math.MaxInt64: "9,223,372,036,854,775,807", math.MinInt64: "-9,223,372,036,854,775,808"} {
		assert.Equal(t, want, Grouped(n))
	}
}

func TestCount(t *testing.T) {
	assert.Equal(t, "0 records", Count(0, "record"))
	assert.Equal(t, "1 record", Count(1, "record"))
	assert.Equal(t, "2,000 records", Count(2000, "record"))
}

func TestSize(t *testing.T) {
	for n, want := range map[int64]string{0: "0 bytes", 1: "1 byte", 999: "999 bytes", 1000: "1 kB", 1540: "1.54 kB", 144_077_181: "144 MB", 10_000_000_000: "10 GB", 1_500_000_000_000: "1.5 TB", 2_000_000_000_000_000: "2e+03 TB"} {
		assert.Equal(t, want, Size(n))
	}
}

func TestShare(t *testing.T) {
	for share, want := range map[float64]string{0: "0.01%", 0.0001: "0.01%", 1.0 / 5000: "0.1%", 0.003: "0.5%", 0.011: "2%", 0.1: "10%", 0.3: "50%", 0.5: "50%"} {
		assert.Equal(t, want, Share(share), share)
	}
}
