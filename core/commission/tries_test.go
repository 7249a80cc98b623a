package commission

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"janustat/core/secret"
)

// spentBudget has no try left; what else there is of it is asked for nothing.
type spentBudget struct{ Attempts }

func (spentBudget) Remaining(context.Context, Plan) (int, error) { return 0, nil }

func (spentBudget) Spend(context.Context, Plan, Credential) (Try, time.Duration, error) {
	var none Try
	return none, 20 * time.Minute, nil
}

// Where the budget is spent nothing is offered, whatever is known of the key.
func TestNothingIsOfferedBeyondTheBudget(t *testing.T) {
	enter := func(context.Context, string, secret.Password) (bool, error) {
		t.Error("it was offered")
		return true, nil
	}
	for name, offer := range map[string]func(context.Context, Attempts, Plan, Credential, func(context.Context, string, secret.Password) (bool, error)) (bool, time.Duration, error){
		"a guess": Offer, "one that has opened it": OfferKnown,
	} {
		fits, wait, err := offer(t.Context(), spentBudget{}, Plan{}, Credential{User: "admin", Password: secret.New("Quay-1")}, enter)
		require.NoError(t, err, name)
		assert.False(t, fits, name)
		assert.Equal(t, 20*time.Minute, wait, name)
	}
}
