package cli

import (
	"os"
	"strconv"
	"strings"
	"sync"
	"testing"

	"janustat/internal/bench"
)

func TestZZ(t *testing.T) {
	names := strings.Split(os.Getenv("ZZ"), ";")
	if os.Getenv("ZZ") == "" {
		names = nil
		for _, x := range bench.Traits()[91:] {
			names = append(names, x.Name)
		}
	}
	var mu sync.Mutex
	var wait sync.WaitGroup
	places := make(chan struct{}, 8)
	from, _ := strconv.Atoi(os.Getenv("ZZFROM"))
	for i, name := range names {
		if i < from {
			continue
		}
		wait.Go(func() {
			places <- struct{}{}
			defer func() { <-places }()
			auth := []string{"token", "md5", "sha256", "any"}[i%4]
			set := strings.Split(name, "+")
			for _, x := range bench.Traits() {
				if x.Name == set[0] && strings.Contains("oddrealm opaque both qops basic first challenges in a line odd realm bare faults no qop no algorithm quoted algorithm", x.Name) {
					auth = "md5"
				}
			}
			if a := os.Getenv("ZZAUTH"); a != "" {
				auth = a
			}
			s, err := bench.WithTraits(uint64(i), auth, set)
			if err != nil {
				t.Log(name, err)
				return
			}
			got := playDrawn(t, s, uint64(i), map[string][]string{"drawn-1": set})
			mu.Lock()
			defer mu.Unlock()
			t.Log("RESULT", name, auth, got[0].wrong)
		})
	}
	wait.Wait()
}
