package onvif

import (
	"bytes"
	"context"
	"maps"
	"time"

	"janustat/internal/speak/soap"
)

// What a device has told holds for the conversation, until something is written that it tells of:
// it is read once, and only what was written is read back. A new conversation, as after a restart,
// begins with nothing.

// changes are the questions whose answers a write changes. A write of the device service that is
// not here changes all of them.
var changes = map[string][]string{
	"CreateUsers": {"GetUsers"}, "SetUser": {"GetUsers"}, "DeleteUsers": {"GetUsers"},
	"SetScopes": {"GetScopes"}, "SetDNS": {"GetDNS"}, "SetNTP": {"GetNTP"}, setTime: {},
	"SetNetworkDefaultGateway": {"GetNetworkDefaultGateway"}, "SetNetworkProtocols": {"GetNetworkProtocols", "GetServices"},
	"SetDiscoveryMode": {"GetDiscoveryMode"}, "SetRemoteUser": {}, "SetDynamicDNS": {}, "SetRemoteDiscoveryMode": {},
}

// factoryReset changes everything that a device has told.
const factoryReset = "SetSystemFactoryDefault"

// nothingTold is an answer that says nothing, kept in the place of a refusal of what would be refused again.
const nothingTold = `<e:Envelope xmlns:e="` + soap.EnvelopeNS + `"><e:Body/></e:Envelope>`

// recall asks a question of the device service, unless it was answered before.
func (c *Client) recall(ctx context.Context, operation, inner string, out any) error {
	if answer, ok := c.told[operation]; ok {
		return soap.Decode(bytes.NewReader(answer), out)
	}
	return c.keep(ctx, operation, inner, out)
}

// keep asks a question of the device service, and keeps the answer.
func (c *Client) keep(ctx context.Context, operation, inner string, out any) error {
	delete(c.told, operation)
	if err := c.call(ctx, operation, inner, out); err != nil {
		return err
	}
	c.hold(operation, c.answer)
	return nil
}

// hold keeps an answer.
func (c *Client) hold(operation string, answer []byte) {
	if c.told == nil {
		c.told = map[string][]byte{}
	}
	c.told[operation] = answer
}

// fixed are the questions whose answers no setting changes but what is named in changes: what a device can
// do, and its discovery mode.
var fixed = []string{"GetServices", "GetServiceCapabilities", "GetDiscoveryMode"}

// lasting are the questions whose answers no move and no restart changes, for all that is known.
var lasting = append([]string{"GetDNS", "GetNTP", "GetNetworkProtocols"}, fixed...)

// Lasting gives what the device has told that holds beyond the conversation, and Recall takes it
// into another one with the same device.
func (c *Client) Lasting() map[string][]byte {
	out := map[string][]byte{}
	for _, question := range lasting {
		if answer, ok := c.told[question]; ok {
			out[question] = answer
		}
	}
	return out
}

// Recall takes what Lasting gave.
func (c *Client) Recall(told map[string][]byte) { c.told = maps.Clone(told) }

// forget drops what a write is about to change.
func (c *Client) forget(s service, operation string) {
	c.looked = time.Time{}
	if operation == setTime {
		c.clockKnown = false
	}
	if s.ns != deviceNS {
		return
	}
	of, ok := changes[operation]
	if !ok {
		was := c.told
		c.told = nil
		for _, question := range fixed {
			if answer, has := was[question]; has && operation != factoryReset {
				c.hold(question, answer)
			}
		}
		return
	}
	for _, question := range of {
		delete(c.told, question)
	}
}
