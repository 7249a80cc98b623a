package advice

import (
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestAdviceIsToldInTheWordsOfWhoeverShowsIt(t *testing.T) {
	put := func(s Step) string { return "<" + string(s.Act) + "|" + s.On + "|" + s.User + ">" }
	for _, c := range []struct {
		advice         Advice
		neutral, shown string
	}{
		{Say("100 % of it"), "100 % of it", "100 % of it"},
		{Say("run %s again", Commission), "run commission again", "run <commission||> again"},
		{Say("wait %s, then %s", "5m", KeySet.On("C01")), "wait 5m, then key set C01", "wait 5m, then <key set|C01|>"},
		{Say("%s", KeyChange.On("C01").OfUser("viewer")), "key change C01 viewer", "<key change|C01|viewer>"},
		{Advice{}, "", ""},
	} {
		assert.Equal(t, c.neutral, c.advice.String())
		assert.Equal(t, c.shown, c.advice.Text(put))
		assert.Equal(t, c.neutral == "", c.advice.IsZero())
	}
}

func TestAnErrorKeepsItsAdviceThroughWrapping(t *testing.T) {
	none := errors.New("no such device")
	err := fmt.Errorf("names: %w", Wrap(none, "%s shows them", ListAll))
	assert.ErrorIs(t, err, none)
	assert.Equal(t, "names: no such device: list all shows them", err.Error())
	assert.Equal(t, "names: no such device: LIST shows them", TextOf(err, func(Step) string { return "LIST" }))
	assert.Equal(t, "plain", TextOf(errors.New("plain"), nil))
}
