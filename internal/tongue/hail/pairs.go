package hail

import (
	"context"
	"errors"
	"slices"

	"janustat/core/commission"
	speak "janustat/internal/speak/hail"
)

// maxPairs bounds the others that a station is asked for, and maxParts the messages.
const (
	maxPairs = 256
	maxParts = 64
)

// pairs reads all that a station knows of others, in as many parts as that takes.
func (s *session) pairs(ctx context.Context) ([]speak.Pair, error) {
	if s.version() == speak.Version1 {
		st, err := s.state(ctx)
		return st.Pairs, err
	}
	var all []speak.Pair
	for from, parts := 0, 0; ; parts++ {
		a, err := s.call(ctx, speak.Request{Do: speak.DoPairs, From: from})
		if err != nil {
			return nil, err
		}
		all = append(all, a.Pairs...)
		switch {
		case a.Next == 0:
			return all, nil
		case a.Next <= from || len(all) > maxPairs || parts == maxParts:
			return nil, errors.New("it reports pairs without end")
		}
		from = a.Next
	}
}

// does reports whether the device takes a call, by its own word.
func (s *session) does(call string) bool {
	about, _ := s.About()
	return slices.Contains(about.Does, call)
}

// Pairs implements commission.PairKeeper.
func (s *session) Pairs(ctx context.Context, links []commission.Link) ([]commission.Tie, error) {
	if !s.does(speak.DoPair) {
		return nil, &commission.UnableError{What: "pairs"}
	}
	known, err := s.pairs(ctx)
	if err != nil {
		return nil, err
	}
	out := make([]commission.Tie, len(links))
	for i, l := range links {
		out[i] = s.paired(l, known)
	}
	return out, nil
}

// Others implements commission.Acquainted.
func (s *session) Others(ctx context.Context, links []commission.Link) (out []string, err error) {
	if !s.does(speak.DoPair) {
		return nil, nil
	}
	known, err := s.pairs(ctx)
	for _, p := range known {
		if !slices.ContainsFunc(links, func(l commission.Link) bool { return l.Peer.Serial == p.Serial }) {
			out = append(out, s.said(p.Serial))
		}
	}
	return out, err
}

// paired tells how one pair fares.
func (s *session) paired(l commission.Link, all []speak.Pair) commission.Tie {
	t := commission.Tie{Link: l, State: commission.Waiting, Why: "it does not know the other"}
	for _, p := range all {
		if p.Serial != l.Peer.Serial {
			continue
		}
		known := p.Mark == speak.SecretMark(l.Secret)
		t.Set = p.Address == l.Peer.Address && p.Door == l.Peer.Door && p.Floor == l.Floor && p.Flat == l.Flat && known
		switch t.Why = s.said(p.Why); {
		case p.Registered && known:
			t.State, t.Why = commission.Registered, ""
		case !known:
			t.State = commission.WrongPassword
		}
	}
	return t
}

// SetPair implements commission.PairKeeper.
func (s *session) SetPair(ctx context.Context, l commission.Link) error {
	_, err := s.call(ctx, speak.Request{Do: speak.DoPair, Pair: &speak.Pair{
		Serial: l.Peer.Serial, Address: l.Peer.Address, Door: l.Peer.Door, Floor: l.Floor, Flat: l.Flat, Secret: l.Secret.Reveal(),
	}})
	return err
}

// Parts implements commission.Parter.
func (s *session) Parts() bool { return s.does(speak.DoUnpair) }

// Unpair implements commission.Parter.
func (s *session) Unpair(ctx context.Context, serial string) error {
	_, err := s.call(ctx, speak.Request{Do: speak.DoUnpair, Serial: serial})
	return err
}

// Reporting implements commission.Reporter.
func (s *session) Reporting(ctx context.Context, links []commission.Link) ([]commission.Tie, error) {
	if !s.does(speak.DoServer) {
		return nil, &commission.UnableError{What: "server"}
	}
	st, err := s.state(ctx)
	if err != nil {
		return nil, err
	}
	out := make([]commission.Tie, len(links))
	for i, l := range links {
		out[i] = commission.Tie{Link: l, State: commission.Waiting}
		v := st.Server
		if v == nil {
			continue
		}
		out[i].Set = v.Address == l.Peer.Address && v.Port == l.Peer.Port && v.Auto
		if out[i].Why = s.said(v.Why); v.Connected && out[i].Set {
			out[i].State, out[i].Why = commission.Connected, ""
		}
	}
	return out, nil
}

// SetReporting implements commission.Reporter.
func (s *session) SetReporting(ctx context.Context, l commission.Link) error {
	_, err := s.call(ctx, speak.Request{Do: speak.DoServer, Server: &speak.Server{Address: l.Peer.Address, Port: l.Peer.Port, Auto: true}})
	return err
}
