package standard

import (
	"context"
	"errors"
	"time"

	"janustat/core/commission"
	"janustat/internal/speak/onvif"
)

// Flash implements commission.Flasher.
func (s *session) Flash(ctx context.Context, img commission.Image) (time.Duration, error) {
	down, err := s.Client.Flash(ctx, onvif.Image(img))
	if errors.Is(err, onvif.ErrNoFirmware) {
		return 0, &commission.UnableError{What: "firmware"}
	}
	return down, s.lost(err)
}
