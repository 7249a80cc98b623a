package wire

import (
	"encoding/binary"

	"golang.org/x/net/bpf"

	"janustat/core/device"
)

// heardPorts are the UDP ports of what is listened for: DHCP, DNS and mDNS, SSDP,
// WS-Discovery, Hail, and the answers to our own questions.
var heardPorts = []uint32{67, 68, 53, 5353, 1900, 3702, 1021, answersPort}

// answersPort is the port that our questions come from.
const answersPort = 41702

// keepOut makes the filter of a packet socket (bpf(4), packet(7)): our own frames, and
// datagrams that nobody here reads, such as the video of a whole site by multicast, are
// not handed up. What carries a VLAN tag is, since it is to be told.
func keepOut(own device.MAC) ([]bpf.RawInstruction, error) {
	const (
		srcMAC, etherType = 6, 12
		v4Flags, v4Proto  = 20, 23
		v6Next            = 20
		v4Header          = 14
		v6Ports           = 54
	)
	p := program{labels: map[string]int{}}
	p.add(bpf.LoadExtension{Num: bpf.ExtVLANTagPresent})
	p.jump(bpf.JumpNotEqual, 0, "accept")
	p.add(bpf.LoadAbsolute{Off: srcMAC, Size: 4})
	p.jump(bpf.JumpNotEqual, binary.BigEndian.Uint32(own[:4]), "others")
	p.add(bpf.LoadAbsolute{Off: srcMAC + 4, Size: 2})
	p.jump(bpf.JumpEqual, uint32(binary.BigEndian.Uint16(own[4:])), "drop")
	p.label("others")
	p.add(bpf.LoadAbsolute{Off: etherType, Size: 2})
	for _, t := range []uint32{0x0806, 0x8100, 0x88a8} {
		p.jump(bpf.JumpEqual, t, "accept")
	}
	p.jump(bpf.JumpEqual, 0x86dd, "v6")
	p.jump(bpf.JumpNotEqual, 0x0800, "drop")
	p.add(bpf.LoadAbsolute{Off: v4Proto, Size: 1})
	p.jump(bpf.JumpNotEqual, 17, "accept")
	p.add(bpf.LoadAbsolute{Off: v4Flags, Size: 2})
	p.jump(bpf.JumpBitsSet, 0x3fff, "accept") // a fragment: put together first
	p.add(bpf.LoadMemShift{Off: v4Header})
	p.add(bpf.LoadIndirect{Off: v4Header, Size: 2})
	p.ports()
	p.add(bpf.LoadIndirect{Off: v4Header + 2, Size: 2})
	p.ports()
	p.always("drop")
	p.label("v6")
	p.add(bpf.LoadAbsolute{Off: v6Next, Size: 1})
	p.jump(bpf.JumpNotEqual, 17, "accept")
	p.add(bpf.LoadAbsolute{Off: v6Ports, Size: 2})
	p.ports()
	p.add(bpf.LoadAbsolute{Off: v6Ports + 2, Size: 2})
	p.ports()
	p.label("drop")
	p.add(bpf.RetConstant{Val: 0})
	p.label("accept")
	p.add(bpf.RetConstant{Val: maxFrame})
	return p.assemble()
}

// program is a filter with named places to jump to, which are always further on.
type program struct {
	code   []bpf.Instruction
	jumps  []namedJump
	labels map[string]int
}

type namedJump struct {
	at int
	to string
}

func (p *program) add(i bpf.Instruction) { p.code = append(p.code, i) }

func (p *program) label(name string) { p.labels[name] = len(p.code) }

func (p *program) jump(cond bpf.JumpTest, val uint32, to string) {
	p.jumps = append(p.jumps, namedJump{len(p.code), to})
	p.add(bpf.JumpIf{Cond: cond, Val: val})
}

func (p *program) always(to string) {
	p.jumps = append(p.jumps, namedJump{len(p.code), to})
	p.add(bpf.Jump{})
}

func (p *program) ports() {
	for _, port := range heardPorts {
		p.jump(bpf.JumpEqual, port, "accept")
	}
}

func (p *program) assemble() ([]bpf.RawInstruction, error) {
	for _, j := range p.jumps {
		skip := p.labels[j.to] - j.at - 1
		switch i := p.code[j.at].(type) {
		case bpf.JumpIf:
			i.SkipTrue = uint8(skip)
			p.code[j.at] = i
		case bpf.Jump:
			p.code[j.at] = bpf.Jump{Skip: uint32(skip)}
		}
	}
	return bpf.Assemble(p.code)
}
