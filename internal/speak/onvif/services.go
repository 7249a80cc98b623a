package onvif

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"strings"

	"janustat/internal/speak/soap"
)

// service is where operations of one namespace are called.
type service struct{ ns, prefix, url string }

// deviceService is the one that every device has.
func (c *Client) deviceService() service { return service{deviceNS, "tds", c.url} }

// serviceXML is a service as GetServices lists it.
type serviceXML struct{ Namespace, XAddr string }

// at gives the place of a service. Of the address that the device names, port and path
// count: what is said goes to the device that is spoken with, and in the same manner,
// whatever host a misconfigured one names.
func (c *Client) at(xaddr string) (string, error) {
	here, err := url.Parse(c.url)
	if err != nil {
		return "", err
	}
	there, err := url.Parse(strings.TrimSpace(xaddr))
	if err != nil || there.Path == "" {
		return "", fmt.Errorf("%q is not a service's address", c.said(xaddr))
	}
	if port := there.Port(); port != "" && there.Scheme == here.Scheme {
		here.Host = strings.TrimSuffix(here.Host, ":"+here.Port()) + ":" + port
	}
	here.Path, here.RawQuery = there.Path, there.RawQuery
	return here.String(), nil
}

// Services reads the namespaces of the services offered (GetServices, or
// GetCapabilities on devices that lack it).
func (c *Client) Services(ctx context.Context) (namespaces []string, err error) {
	list, err := c.services(ctx)
	for _, s := range list {
		namespaces = append(namespaces, strings.TrimSpace(s.Namespace))
	}
	return namespaces, err
}

// services reads them once in a conversation.
func (c *Client) services(ctx context.Context) ([]serviceXML, error) {
	if c.offered != nil {
		return c.offered, nil
	}
	list, err := c.readServices(ctx)
	if err == nil && c.proven {
		c.offered = list
	}
	return list, err
}

// serviceIn finds a service among those offered.
func (c *Client) serviceIn(list []serviceXML, ns, prefix string) (service, bool) {
	for _, s := range list {
		if strings.TrimSpace(s.Namespace) == ns {
			at, err := c.at(s.XAddr)
			return service{ns, prefix, at}, err == nil
		}
	}
	return service{}, false
}

// withoutCapabilities asks GetServices for the list alone.
const withoutCapabilities = "<tds:IncludeCapability>false</tds:IncludeCapability>"

func (c *Client) readServices(ctx context.Context) ([]serviceXML, error) {
	var a struct{ Service []serviceXML }
	err := c.recall(ctx, "GetServices", withoutCapabilities, &a)
	var fault *soap.Fault
	if errors.As(err, &fault) && !errors.Is(err, ErrRefused) {
		return c.capabilities(ctx)
	}
	return a.Service, err
}

func (c *Client) capabilities(ctx context.Context) ([]serviceXML, error) {
	type place struct{ XAddr string }
	var a struct {
		Capabilities struct {
			Media     *place
			Extension struct{ Recording, Receiver, Replay *place }
		}
	}
	err := c.call(ctx, "GetCapabilities", "<tds:Category>All</tds:Category>", &a)
	var out []serviceXML
	for _, have := range []struct {
		it *place
		ns string
	}{{a.Capabilities.Media, mediaNS}, {a.Capabilities.Extension.Recording, recordingNS}, {a.Capabilities.Extension.Receiver, receiverNS}} {
		if have.it != nil {
			out = append(out, serviceXML{have.ns, have.it.XAddr})
		}
	}
	return out, err
}
