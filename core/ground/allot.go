package ground

import (
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"slices"

	"janustat/core/advice"
	"janustat/core/text"
)

// ErrFull is wrapped when a block has no free address left.
var ErrFull = errors.New("block is full")

// Block is the range that devices of some kinds are numbered from.
type Block struct {
	Name  string // the kind it is for
	Range Range
}

// Reserved is a range never allotted, with the reason shown to the person.
type Reserved struct {
	Range Range
	Why   string
	// Passing is what is so for now only, and no part of the site's plan.
	Passing bool
	// Doubtful is what is claimed by somebody whose word does not count for much: it is
	// given only where a block has nothing else left.
	Doubtful bool
}

// Request asks for an address for one device.
type Request struct {
	Key     string     // what the answer is matched by; unique
	Block   string     // name of the block it is numbered from
	Named   netip.Addr // what a person has named for it, if anything
	Current netip.Addr // the address it has, if any
	Earlier netip.Addr // what an earlier run allotted, if any
	Alone   bool       // nothing else answers for its current address
	Keep    bool       // keeps its address whatever its block, where it is right for the ground: the recorder the others are matched to
	Static  bool       // somebody has set its current address: where that is right for the ground, it stays
	Begun   bool       // Earlier was sent to it, or may have been
	Fixed   bool       // was set up with Earlier: it stays there, whatever the subnet and the blocks are now
}

// Allotment is the answer to a Request.
type Allotment struct {
	Key     string
	Address netip.Addr
	Why     string
}

// RightThere is why a device keeps an address that somebody has set.
const RightThere = "right where it is"

// Allot decides an address for every request, in their order, which the caller
// makes independent of the order of answers from the wire. What a person has named
// goes before all; what was sent stays; a device that is alone on an address which
// somebody has set in the subnet keeps it, and so does one inside its block; what was
// allotted and never sent stays while nothing speaks against it; the others are numbered
// in sequence. Nothing reserved is given, nor the network and broadcast addresses, nor
// the gateway.
//
// A full block, blocks that overlap or lie outside the subnet, a named address that
// cannot be given, and one that was sent and is now reserved are errors; then nothing is
// allotted.
func Allot(g Ground, blocks []Block, reserved []Reserved, requests []Request) ([]Allotment, error) {
	if err := CheckBlocks(g, blocks); err != nil {
		return nil, err
	}
	a := allotter{ground: g, taken: map[netip.Addr]string{}, reserved: mergeReserved(g, firmly(reserved, true)), doubtful: mergeReserved(Ground{}, firmly(reserved, false)), next: map[Range]uint32{}, now: map[netip.Addr]string{}}
	for _, r := range requests {
		if _, known := a.now[r.Current]; !known {
			a.now[r.Current] = r.Key
		}
	}
	out := make([]Allotment, len(requests))
	full := map[string][]string{} // those who found none, by block
	var errs []error
	// First those that stay where they are, so that no newcomer is numbered onto them; the
	// firmest first.
	for _, firm := range []bool{true, false} {
		for i, r := range requests {
			if firm == (r.Fixed || r.Named.IsValid() || r.Keep || r.Begun) {
				errs = append(errs, a.stay(&out[i], r, blocks))
			}
		}
	}
	for i, r := range requests {
		if out[i].Address.IsValid() {
			continue
		}
		switch err := a.number(&out[i], r, blocks); {
		case errors.Is(err, ErrFull):
			full[r.Block] = append(full[r.Block], r.Key)
		case err != nil:
			return nil, errors.Join(append(errs, err)...)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(full)) {
		block, _ := blockFor(blocks, name)
		lacks := text.Plural(len(full[name]), "address")
		if len(full[name]) > 1 {
			lacks = fmt.Sprintf("%d addresses", len(full[name]))
		}
		errs = append(errs, fmt.Errorf("%w: %s %s lacks %s, for %s: widen it in the job sheet under blocks", ErrFull, name, block.Range, lacks, text.List(full[name])))
	}
	if err := errors.Join(errs...); err != nil {
		return nil, err
	}
	return out, nil
}

// CheckBlocks refuses blocks outside the subnet and blocks that overlap. Kinds
// may share one and the same range.
func CheckBlocks(g Ground, blocks []Block) error {
	if err := CheckSubnet(g.Subnet); err != nil {
		return err
	}
	for i, b := range blocks {
		for _, end := range []netip.Addr{b.Range.From, b.Range.To} {
			if err := checkHost(g.Subnet, end, "block address"); err != nil {
				return fmt.Errorf("block %s %s: %w", b.Name, b.Range, err)
			}
		}
		if b.Range.To.Less(b.Range.From) {
			return fmt.Errorf("block %s %s runs backwards", b.Name, b.Range)
		}
		for _, o := range blocks[:i] {
			if b.Range != o.Range && b.Range.Overlaps(o.Range) {
				return fmt.Errorf("blocks %s %s and %s %s overlap: change one in the job sheet under blocks", o.Name, o.Range, b.Name, b.Range)
			}
		}
	}
	return nil
}

type allotter struct {
	ground   Ground
	taken    map[netip.Addr]string // by key of the request that has it
	reserved []Reserved            // sorted by From, not overlapping
	doubtful []Reserved            // likewise, of what may be given if need be
	next     map[Range]uint32      // where numbering goes on in each range
	now      map[netip.Addr]string // where devices of the job are before they move, by key
}

// mergeReserved sorts the reserved ranges and cuts overlaps, keeping the first reason given.
func mergeReserved(g Ground, in []Reserved) []Reserved {
	all := slices.Clone(in)
	if g.Gateway.IsValid() {
		all = append(all, Reserved{Range: One(g.Gateway), Why: "the gateway"})
	}
	slices.SortStableFunc(all, func(a, b Reserved) int { return a.Range.From.Compare(b.Range.From) })
	var out []Reserved
	for _, r := range all {
		if n := len(out); n > 0 && r.Range.From.Compare(out[n-1].Range.To) <= 0 {
			last := out[n-1].Range.To
			if r.Range.To.Compare(last) <= 0 {
				continue
			}
			r.Range.From = last.Next()
		}
		out = append(out, r)
	}
	return out
}

// firmly gives those that are never allotted, or the others.
func firmly(in []Reserved, firm bool) (out []Reserved) {
	for _, r := range in {
		if r.Doubtful != firm {
			out = append(out, r)
		}
	}
	return out
}

func (a *allotter) reservedFor(addr netip.Addr) (Reserved, bool) { return within(a.reserved, addr) }

func within(reserved []Reserved, addr netip.Addr) (Reserved, bool) {
	at, exact := slices.BinarySearchFunc(reserved, addr, func(r Reserved, x netip.Addr) int { return r.Range.From.Compare(x) })
	if !exact {
		at--
	}
	if at >= 0 && reserved[at].Range.Contains(addr) {
		return reserved[at], true
	}
	return Reserved{}, false
}

// stay keeps an earlier allotment, the recorder's own address, or a good current one.
func (a *allotter) stay(out *Allotment, r Request, blocks []Block) error {
	out.Key = r.Key
	block, hasBlock := blockFor(blocks, r.Block)
	if r.Fixed && r.Earlier.IsValid() {
		out.Why, out.Address = "set up there", r.Earlier
		if other, dup := a.taken[out.Address]; dup {
			return fmt.Errorf("%s and %s are both to have %s", other, r.Key, out.Address)
		}
		a.taken[out.Address] = r.Key
		return nil
	}
	reserved := func(x netip.Addr) bool { _, bad := a.reservedFor(x); return bad }
	switch {
	case r.Named.IsValid():
		if why, bad := a.reservedFor(r.Named); bad && r.Named != r.Current {
			return fmt.Errorf("the job sheet gives %s the address %s, which is %s: name another under addresses", r.Key, r.Named, why.Why)
		}
		out.Why, out.Address = "named in the job sheet", r.Named
	case r.Keep && Check(a.ground.Subnet, r.Current, a.ground.Gateway) == nil:
		out.Why, out.Address = "keeps its address (the site subnet comes from this recorder)", r.Current
	case r.Begun && r.Earlier.IsValid() && a.ground.Subnet.Contains(r.Earlier):
		if why, bad := a.reservedFor(r.Earlier); bad {
			return advice.Wrap(fmt.Errorf("%s was allotted %s earlier, which is now %s", r.Key, r.Earlier, why.Why), "free it, or give the device another by %s", advice.AllotAgain.On(r.Key))
		}
		out.Why, out.Address = "allotted earlier", r.Earlier
	case r.Static && r.Alone && Check(a.ground.Subnet, r.Current, a.ground.Gateway) == nil && !reserved(r.Current):
		out.Why, out.Address = RightThere, r.Current
	case r.Earlier.IsValid() && Check(a.ground.Subnet, r.Earlier, a.ground.Gateway) == nil && !reserved(r.Earlier):
		out.Why, out.Address = "allotted earlier", r.Earlier
	case hasBlock && r.Alone && r.Current.IsValid() && block.Range.Contains(r.Current) && !reserved(r.Current):
		out.Why, out.Address = "already inside its block", r.Current
	default:
		return nil
	}
	if err := Check(a.ground.Subnet, out.Address, a.ground.Gateway); err != nil {
		return fmt.Errorf("%s: %w", r.Key, err)
	}
	if other, dup := a.taken[out.Address]; dup {
		if r.Begun && r.Earlier == out.Address || r.Keep || r.Named.IsValid() {
			return fmt.Errorf("%s and %s are both to have %s", other, r.Key, out.Address)
		}
		out.Address, out.Why = netip.Addr{}, ""
		return nil
	}
	a.taken[out.Address] = r.Key
	return nil
}

func blockFor(blocks []Block, name string) (Block, bool) {
	at := slices.IndexFunc(blocks, func(b Block) bool { return b.Name == name })
	if at < 0 {
		return Block{}, false
	}
	return blocks[at], true
}

// number gives the next free address of the block. Where another device of the
// job still sits is passed over, since that one might not have moved yet, unless
// the block has nothing else left.
func (a *allotter) number(out *Allotment, r Request, blocks []Block) error {
	block, ok := blockFor(blocks, r.Block)
	if !ok {
		return fmt.Errorf("%s: no block for %s in the job sheet", r.Key, r.Block)
	}
	first := ToUint(block.Range.From)
	if next, begun := a.next[block.Range]; begun {
		first = next
	}
	n, skipped, ok := a.search(block.Range, first, false)
	if ok {
		a.next[block.Range] = n + 1
	} else if n, skipped, ok = a.search(block.Range, ToUint(block.Range.From), true); !ok {
		return ErrFull
	}
	out.Address = FromUint(n)
	a.taken[out.Address] = r.Key
	out.Why = fmt.Sprintf("next free in block %s", block.Name)
	if skipped != "" {
		out.Why += "; " + skipped
	}
	return nil
}

// search gives the first address from a number on that may be given, and why
// the last one before it was passed over. pressed admits those where devices of the
// job sit that are to move, and those that are claimed in doubt.
func (a *allotter) search(in Range, from uint32, pressed bool) (found uint32, skipped string, ok bool) {
	for n := uint64(from); n <= uint64(ToUint(in.To)); n++ {
		addr := FromUint(uint32(n))
		if hold, bad := a.reservedFor(addr); bad {
			skipped = fmt.Sprintf("%s is %s", hold.Range, hold.Why)
			n = uint64(ToUint(hold.Range.To))
			continue
		}
		if _, dup := a.taken[addr]; dup {
			continue
		}
		hold, doubt := within(a.doubtful, addr)
		if doubt && !pressed {
			skipped = fmt.Sprintf("%s is %s", hold.Range, hold.Why)
			continue
		}
		if who, sits := a.now[addr]; sits && !pressed {
			skipped = fmt.Sprintf("%s is still used by %s", addr, who)
			continue
		}
		if doubt {
			skipped = "though it is " + hold.Why
		}
		return uint32(n), skipped, true
	}
	return 0, skipped, false
}

// DefaultBlocks numbers recorders from host 11, panels from 21, intercoms from
// 31 and cameras from 41 of the subnet; in subnets narrower than /24 all kinds
// share the whole of it. Host numbers count from the network address.
func DefaultBlocks(subnet netip.Prefix) []Block {
	base := ToUint(Network(subnet))
	at := func(from, to uint32) Range { return Range{FromUint(base + from), FromUint(base + to)} }
	if subnet.Bits() > 24 {
		whole := at(1, hostMask(subnet)-1)
		return []Block{{"recorder", whole}, {"panel", whole}, {"intercom", whole}, {"camera", whole}}
	}
	return []Block{
		{"recorder", at(11, 20)},
		{"panel", at(21, 30)},
		{"intercom", at(31, 40)},
		{"camera", at(41, min(hostMask(subnet)-1, 239))},
	}
}
