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
	assert.Equal(t, "camera", Nearest("camrea", []string{"camera", "recorder"}))
}
