package text

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestNearest(t *testing.T) {
	commands := []string{"survey", "commission", "prove", "take", "list", "leave", "lease", "restore", "reset", "restart"}
	for typed, want := range map[string]string{
		"surevy": "survey", "comission": "commission", "prov": "prove", "tkae": "take", "LIST": "list", "ls": "",
		"reste": "reset", "nothing-like-it": "", "": "", "comm": "commission", "res": "",
	} {
		assert.Equal(t, want, Nearest(typed, commands), typed)
	}
	assert.Equal(t, "C01", Nearest("C001", []string{"C01", "C12", "R01"}))
	tags := []string{"C01", "C02", "C03", "C08", "C10", "R01"}
	assert.Equal(t, "C01", Nearest("C0l", tags), "a letter for a digit")
	assert.Equal(t, "C08", Nearest("CO8", tags))
	assert.Equal(t, "", Nearest("C09", tags), "several are as near")
	assert.Equal(t, " (did you mean C01?)", Meant("C0l", tags))
	assert.Equal(t, "", Meant("C01", tags))
	assert.Equal(t, "camera", Nearest("camrea", []string{"camera", "recorder"}))
}
