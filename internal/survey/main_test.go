package survey

import (
	"os"
	"testing"

	"janustat/internal/e2e/driver"
)

// TestMain runs some beside each other: a survey waits more than it works.
func TestMain(m *testing.M) { os.Exit(driver.Run(m, 5)) }
