package traffic

import "net/netip"

// metadata is where one cloud tells machines their credentials beside the link-local addresses.
var metadata = netip.MustParseAddr("fd00:ec2::254")

// MayServe reports whether a model server may be at an address of the network. Link-local
// addresses are not of model servers: machines are told their own credentials there, and those
// who may place must not be able to have them asked for.
func MayServe(a netip.Addr) bool {
	a = a.Unmap().WithZone("")
	return a.IsValid() && !a.IsLinkLocalUnicast() && !a.IsMulticast() && !a.IsUnspecified() && a != metadata
}
