package work

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"janustat/core/advice"
	"janustat/core/checks"
)

// What mends a check is said of the checks that there are, by their names.
func TestEveryCheckHasItsMend(t *testing.T) {
	usual := checks.Mend("", "C01").String()
	own := map[string]advice.Act{
		checks.Answers: advice.Survey, checks.Identity: advice.Restore, checks.Cert: advice.Restore, checks.Alone: advice.Survey,
		checks.Password: advice.KeySet, checks.OldKeys: advice.KeyChange, checks.Closed: advice.KeyChange,
	}
	for check, act := range own {
		assert.True(t, checks.Order(check) < len(checks.All), check)
		assert.Contains(t, checks.Mend(check, "C01").String(), string(act), check)
	}
	for _, c := range checks.All {
		_, has := own[c.Name]
		assert.Equal(t, !has, checks.Mend(c.Name, "C01").String() == usual, c.Name)
		assert.NotEmpty(t, c.Head, c.Name)
		assert.NotEmpty(t, c.Holds, c.Name)
	}
}

// Documents are read by people who have no such program.
func TestFoundTextsHaveNoCommands(t *testing.T) {
	for said, want := range map[string]string{
		"1h0m0s off": "1h0m0s off",
		"not offered: it is not what it was. If it was reset or replaced on purpose: `janustat restore C01`": "not offered: it is not what it was",
		"it has none yet: run `janustat commission`":                                                         "it has none yet",
		"a factory password, known to all, opens it still: run `janustat commission`":                        "a factory password, known to all, opens it still",
		"`odd`": "",
	} {
		assert.Equal(t, want, WithoutCommands(said))
	}
}
