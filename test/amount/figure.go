package amount

import (
	"fmt"
	"os"
	"testing"
	"time"
)

// Figure prints a time beside that of its baseline, taken in turns with it, and beside
// the limit for their ratio. make bench STRICT=1 fails above it; no test does.
func Figure(b *testing.B, what string, took, baseline time.Duration, limit float64) {
	b.Helper()
	ratio := float64(took) / float64(baseline)
	Over(b, fmt.Sprintf("%s: %v, baseline %v", what, took.Round(10*time.Microsecond), baseline.Round(10*time.Microsecond)), ratio, limit)
}

// Over prints a figure beside its limit.
func Over(b *testing.B, what string, figure, limit float64) {
	b.Helper()
	fmt.Printf("%s: %.2f (limit %.2f)\n", what, figure, limit)
	b.ReportMetric(figure, "of-baseline")
	if os.Getenv("STRICT") != "" && figure > limit {
		b.Errorf("%s: %.2f, limit %.2f", what, figure, limit)
	}
}
