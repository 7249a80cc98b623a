// Package tongues is the list of the protocols that devices are set up by.
package tongues

import (
	"janustat/core/commission"
	"janustat/internal/tongue"
	"janustat/internal/tongue/hail"
	"janustat/internal/tongue/standard"
)

// All are the protocols that devices are set up by, in the order of preference: what
// the first that a device speaks can do is not asked of the others.
var All = []tongue.Tongue{standard.Tongue{}, hail.Tongue{}}

// For gives the tongue that a plan's device is opened in.
func For(p commission.Plan) tongue.Tongue {
	for _, t := range All {
		if len(p.Tongues) > 0 && t.Name() == p.Tongues[0] {
			return t
		}
	}
	return All[0]
}
