package ground

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func site() Ground {
	return Ground{Subnet: prefix("10.61.8.0/23"), Gateway: addr("10.61.8.1")}
}

func span(from, to string) Range { return Range{addr(from), addr(to)} }

func cameras(from, to string) []Block { return []Block{{"camera", span(from, to)}} }

func TestAllot(t *testing.T) {
	fresh := func(key string) Request { return Request{Key: key, Block: "camera", Current: addr("192.168.77.20")} }
	for _, c := range []struct {
		name     string
		blocks   []Block
		reserved []Reserved
		requests []Request
		want     []string // address per request
		why      string   // part of the last row's reason
		fails    string
	}{
		{name: "in sequence", blocks: cameras("10.61.8.41", "10.61.8.60"), requests: []Request{fresh("C01"), fresh("C02")}, want: []string{"10.61.8.41", "10.61.8.42"}, why: "next free in block camera"},
		{
			name: "around what is in use", blocks: cameras("10.61.8.41", "10.61.8.60"),
			reserved: []Reserved{{Range: One(addr("10.61.8.41")), Why: "in use by a printer"}, {Range: span("10.61.8.42", "10.61.8.50"), Why: "in a DHCP pool"}},
			requests: []Request{fresh("C01")}, want: []string{"10.61.8.51"}, why: "10.61.8.42–10.61.8.50 is in a DHCP pool",
		},
		{name: "never the gateway", blocks: cameras("10.61.8.1", "10.61.8.9"), requests: []Request{fresh("C01")}, want: []string{"10.61.8.2"}, why: "10.61.8.1 is the gateway"},
		{
			name: "stays inside its block", blocks: cameras("10.61.8.41", "10.61.8.60"),
			requests: []Request{fresh("C01"), {Key: "C02", Block: "camera", Current: addr("10.61.8.41"), Alone: true}},
			want:     []string{"10.61.8.42", "10.61.8.41"}, why: "already inside its block",
		},
		{
			name: "moves when it clashes", blocks: cameras("10.61.8.41", "10.61.8.60"),
			requests: []Request{{Key: "C01", Block: "camera", Current: addr("10.61.8.45"), Alone: false}}, want: []string{"10.61.8.41"}, why: "next free",
		},
		{
			name: "moves out of a reserved place", blocks: cameras("10.61.8.41", "10.61.8.60"), reserved: []Reserved{{Range: span("10.61.8.44", "10.61.8.46"), Why: "kept clear"}},
			requests: []Request{{Key: "C01", Block: "camera", Current: addr("10.61.8.45"), Alone: true}}, want: []string{"10.61.8.41"}, why: "next free",
		},
		{
			name: "two on one address: the first keeps it", blocks: cameras("10.61.8.41", "10.61.8.60"),
			requests: []Request{{Key: "C01", Block: "camera", Current: addr("10.61.8.45"), Alone: true}, {Key: "C02", Block: "camera", Current: addr("10.61.8.45"), Alone: true}},
			want:     []string{"10.61.8.45", "10.61.8.41"}, why: "next free",
		},
		{
			name: "earlier allotments stay put", blocks: cameras("10.61.8.41", "10.61.8.60"),
			requests: []Request{fresh("C01"), {Key: "C02", Block: "camera", Earlier: addr("10.61.8.41")}}, want: []string{"10.61.8.42", "10.61.8.41"}, why: "allotted earlier",
		},
		{
			name: "the recorder keeps its own outside every block", blocks: append(cameras("10.61.8.41", "10.61.8.60"), Block{"recorder", span("10.61.8.11", "10.61.8.20")}),
			requests: []Request{{Key: "R01", Block: "recorder", Current: addr("10.61.9.200"), Keep: true}}, want: []string{"10.61.9.200"}, why: "keeps its address",
		},
		{
			name: "the recorder that is outside the subnet is numbered", blocks: append(cameras("10.61.8.41", "10.61.8.60"), Block{"recorder", span("10.61.8.11", "10.61.8.20")}),
			requests: []Request{{Key: "R01", Block: "recorder", Current: addr("192.168.100.2"), Keep: true}}, want: []string{"10.61.8.11"}, why: "next free",
		},
		{
			name: "an earlier allotment now taken", blocks: cameras("10.61.8.41", "10.61.8.60"), reserved: []Reserved{{Range: One(addr("10.61.8.41")), Why: "in use by a printer"}},
			requests: []Request{{Key: "C01", Block: "camera", Earlier: addr("10.61.8.41"), Begun: true}}, fails: "which is now in use by a printer",
		},
		{
			name: "an earlier allotment now taken, and never sent", blocks: cameras("10.61.8.41", "10.61.8.60"), reserved: []Reserved{{Range: One(addr("10.61.8.41")), Why: "in use by a printer"}},
			requests: []Request{{Key: "C01", Block: "camera", Earlier: addr("10.61.8.41")}}, want: []string{"10.61.8.42"}, why: "next free",
		},
		{
			name: "what somebody has set stays outside its block", blocks: cameras("10.61.8.41", "10.61.8.60"),
			requests: []Request{{Key: "C01", Block: "camera", Current: addr("10.61.9.7"), Alone: true, Static: true, Earlier: addr("10.61.8.44")}}, want: []string{"10.61.9.7"}, why: "right where it is",
		},
		{
			name: "unless it was sent another", blocks: cameras("10.61.8.41", "10.61.8.60"),
			requests: []Request{{Key: "C01", Block: "camera", Current: addr("10.61.9.7"), Alone: true, Static: true, Earlier: addr("10.61.8.44"), Begun: true}}, want: []string{"10.61.8.44"}, why: "allotted earlier",
		},
		{
			name: "or it is the network's own address", blocks: cameras("10.61.8.41", "10.61.8.60"),
			requests: []Request{{Key: "C01", Block: "camera", Current: addr("10.61.8.1"), Alone: true, Static: true}}, want: []string{"10.61.8.41"}, why: "next free",
		},
		{
			name: "what is named goes before all", blocks: cameras("10.61.8.41", "10.61.8.60"),
			requests: []Request{{Key: "C01", Block: "camera", Current: addr("10.61.8.50"), Alone: true, Static: true}, {Key: "C02", Block: "camera", Current: addr("10.61.8.51"), Static: true, Alone: true, Named: addr("10.61.8.50")}},
			want:     []string{"10.61.8.41", "10.61.8.50"}, why: "named in the job sheet",
		},
		{
			name: "a named address in use", blocks: cameras("10.61.8.41", "10.61.8.60"), reserved: []Reserved{{Range: One(addr("10.61.8.41")), Why: "in use by a printer"}},
			requests: []Request{{Key: "C01", Block: "camera", Named: addr("10.61.8.41")}}, fails: "the job sheet gives C01 the address 10.61.8.41, which is in use by a printer",
		},
		{
			name: "one address named twice", blocks: cameras("10.61.8.41", "10.61.8.60"),
			requests: []Request{{Key: "C01", Block: "camera", Named: addr("10.61.8.41")}, {Key: "C02", Block: "camera", Named: addr("10.61.8.41")}}, fails: "C01 and C02 are both to have 10.61.8.41",
		},
		{
			name: "a named address outside the subnet", blocks: cameras("10.61.8.41", "10.61.8.60"),
			requests: []Request{{Key: "C01", Block: "camera", Named: addr("10.62.8.41")}}, fails: "C01: ",
		},
		{name: "full", blocks: cameras("10.61.8.41", "10.61.8.42"), requests: []Request{fresh("C01"), fresh("C02"), fresh("C03")}, fails: "lacks 1 address, for C03"},
		{name: "no block", blocks: cameras("10.61.8.41", "10.61.8.42"), requests: []Request{{Key: "P01", Block: "panel"}}, fails: "no block for panel"},
		{
			name: "overlap", blocks: append(cameras("10.61.8.41", "10.61.8.60"), Block{"panel", span("10.61.8.60", "10.61.8.70")}),
			requests: []Request{fresh("C01")}, fails: "overlap",
		},
		{name: "block outside", blocks: cameras("10.61.8.41", "10.61.10.60"), requests: []Request{fresh("C01")}, fails: "outside the subnet"},
		{name: "block with the broadcast address", blocks: cameras("10.61.8.41", "10.61.9.255"), requests: []Request{fresh("C01")}, fails: "broadcast"},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, err := Allot(site(), c.blocks, c.reserved, c.requests)
			if c.fails != "" {
				require.ErrorContains(t, err, c.fails)
				assert.Nil(t, got)
				return
			}
			require.NoError(t, err)
			for i, a := range got {
				assert.Equal(t, c.requests[i].Key, a.Key)
				assert.Equal(t, c.want[i], a.Address.String(), a.Key)
			}
			assert.Contains(t, got[len(got)-1].Why, c.why)
		})
	}
}

// Whatever the input, an allotment never gives a reserved, doubled or stranding address.
func TestAllotHoldsItsPromises(t *testing.T) {
	chance := rand.New(rand.NewPCG(3, 4))
	for range 300 {
		bits := 20 + chance.IntN(9)
		g := Ground{Subnet: prefix(fmt.Sprintf("10.61.0.0/%d", bits)), Gateway: addr("10.61.0.1")}
		hosts := uint32(1)<<(32-bits) - 2
		any := func() uint32 { return ToUint(g.Subnet.Addr()) + 1 + chance.Uint32N(hosts) }
		var reserved []Reserved
		for range chance.IntN(10) {
			from := any()
			reserved = append(reserved, Reserved{Range: Range{FromUint(from), FromUint(min(from+chance.Uint32N(5), ToUint(Broadcast(g.Subnet))-1))}, Why: "r"})
		}
		blocks := []Block{{"camera", Range{FromUint(ToUint(g.Subnet.Addr()) + 1), FromUint(ToUint(g.Subnet.Addr()) + hosts)}}}
		var requests []Request
		for i := range chance.IntN(12) {
			requests = append(requests, Request{Key: fmt.Sprint(i), Block: "camera", Current: FromUint(any()), Alone: chance.IntN(2) == 0})
		}
		got, err := Allot(g, blocks, reserved, requests)
		if err != nil {
			require.ErrorIs(t, err, ErrFull)
			continue
		}
		seen := map[string]bool{}
		for _, a := range got {
			require.NoError(t, Check(g.Subnet, a.Address, g.Gateway))
			require.False(t, seen[a.Address.String()], "doubled")
			seen[a.Address.String()] = true
			for _, r := range reserved {
				require.False(t, r.Range.Contains(a.Address), "%s is reserved by %s", a.Address, r.Range)
			}
		}
		again, err := Allot(g, blocks, reserved, requests)
		require.NoError(t, err)
		require.Equal(t, got, again)
	}
}

func TestDefaultBlocksFitEveryMask(t *testing.T) {
	for bits := MinPrefix; bits <= MaxPrefix; bits++ {
		g := Ground{Subnet: prefix(fmt.Sprintf("10.0.0.0/%d", bits))}
		require.NoError(t, CheckBlocks(g, DefaultBlocks(g.Subnet)), "/%d", bits)
	}
}

// BenchmarkAllot gives 10,000 devices addresses in a /8 with 1,000 reserved ranges.
func BenchmarkAllot(b *testing.B) {
	g := Ground{Subnet: prefix("10.0.0.0/8"), Gateway: addr("10.0.0.1")}
	blocks := []Block{{"camera", span("10.0.0.2", "10.255.255.250")}}
	var reserved []Reserved
	for i := range uint32(1000) {
		reserved = append(reserved, Reserved{Range: One(FromUint(ToUint(addr("10.0.0.5")) + i*7)), Why: "in use"})
	}
	requests := make([]Request, 10_000)
	for i := range requests {
		requests[i] = Request{Key: fmt.Sprint(i), Block: "camera", Current: addr("192.168.77.20")}
	}
	for b.Loop() {
		if _, err := Allot(g, blocks, reserved, requests); err != nil {
			b.Fatal(err)
		}
	}
}

// A device that has yet to move may still be there when its address is wanted.
func TestAllotPassesOverWhereOthersStillSit(t *testing.T) {
	g := Ground{Subnet: netip.MustParsePrefix("10.61.8.0/24")}
	at := netip.MustParseAddr
	blocks := []Block{{"camera", Range{at("10.61.8.41"), at("10.61.8.43")}}}
	clash := []Request{{Key: "C01", Block: "camera"}, {Key: "C02", Block: "camera", Current: at("10.61.8.42")}, {Key: "C03", Block: "camera", Current: at("10.61.8.42")}}
	got, err := Allot(g, blocks, nil, clash[:2])
	require.NoError(t, err)
	require.Equal(t, at("10.61.8.41"), got[0].Address)
	require.Equal(t, Allotment{"C02", at("10.61.8.43"), "next free in block camera; 10.61.8.42 is still used by C02"}, got[1])
	got, err = Allot(g, blocks, nil, clash)
	require.NoError(t, err, "nothing else is left, so it is given after all")
	require.Equal(t, at("10.61.8.42"), got[2].Address)
	_, err = Allot(g, blocks, nil, append(clash, Request{Key: "C04", Block: "camera"}))
	require.ErrorIs(t, err, ErrFull)
}

// A block that is full says by how many, and for whom.
func TestAFullBlockSaysByHowMany(t *testing.T) {
	g := Ground{Subnet: netip.MustParsePrefix("10.61.8.0/24")}
	blocks := []Block{{"camera", Range{netip.MustParseAddr("10.61.8.41"), netip.MustParseAddr("10.61.8.42")}}, {"panel", Range{netip.MustParseAddr("10.61.8.21"), netip.MustParseAddr("10.61.8.21")}}}
	var requests []Request
	for _, key := range []string{"C01", "C02", "C03", "C04", "P01", "P02"} {
		requests = append(requests, Request{Key: key, Block: map[byte]string{'C': "camera", 'P': "panel"}[key[0]]})
	}
	_, err := Allot(g, blocks, nil, requests)
	require.ErrorIs(t, err, ErrFull)
	assert.ErrorContains(t, err, "camera 10.61.8.41–10.61.8.42 lacks 2 addresses, for C03 C04: widen it")
	assert.ErrorContains(t, err, "panel 10.61.8.21 lacks 1 address, for P02: widen it")
}
