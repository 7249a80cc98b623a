package work

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"

	"janustat/core/advice"
	"janustat/core/open"
	"janustat/internal/field"
)

// What mends a check is said of the checks that there are, by their names.
func TestEveryCheckHasItsMend(t *testing.T) {
	usual := open.Mend("", "C01").String()
	own := map[string]advice.Act{
		field.CheckAnswers: advice.Survey, field.CheckIdentity: advice.Restore, field.CheckCert: advice.Restore, field.CheckAlone: advice.Survey,
		field.CheckPassword: advice.KeySet, field.CheckOldKeys: advice.KeyChange, field.CheckClosed: advice.KeyChange,
	}
	for check, act := range own {
		assert.True(t, slices.Contains(field.Checks, check), check)
		assert.Contains(t, open.Mend(check, "C01").String(), string(act), check)
	}
	for _, check := range field.Checks {
		_, has := own[check]
		assert.Equal(t, !has, open.Mend(check, "C01").String() == usual, check)
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
