package sqlite

import "time"

func stamp(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format(stampForm)
}

// stampForm is RFC 3339 with every digit, so that times compare as their texts do.
const stampForm = "2006-01-02T15:04:05.000000000Z"

func unstamp(s string) time.Time {
	t, err := time.Parse(time.RFC3339Nano, s)
	if err != nil {
		return time.Time{}
	}
	return t
}
