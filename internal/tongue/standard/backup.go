package standard

import (
	"context"
	"errors"

	"janustat/core/commission"
	"janustat/internal/speak/onvif"
)

// Backup implements commission.Backer.
func (s *session) Backup(ctx context.Context) (out []commission.File, err error) {
	files, err := s.Client.Backup(ctx)
	if errors.Is(err, onvif.ErrNoBackup) {
		return nil, commission.ErrNoBackup
	}
	for _, f := range files {
		out = append(out, commission.File(f))
	}
	return out, s.lost(err)
}
