package survey

import (
	"os"
	"testing"

	"janustat/internal/e2e/driver"
)

// TestMain runs some beside each other: a survey waits more than it works. Floods take all of
// a machine, and those of many seeds have their own beside each other: they run by themselves.
func TestMain(m *testing.M) { os.Exit(driver.Run(m, 3)) }
