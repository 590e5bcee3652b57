package traffic

import (
	"net/netip"
	"testing"
)

func TestWhereModelServersMayBe(t *testing.T) {
	for address, may := range map[string]bool{
		"127.0.0.1": true, "10.0.0.7": true, "192.0.2.7": true, "::1": true, "2001:db8::7": true, "fd00::7": true,
		"169.254.169.254": false, "169.254.0.1": false, "::ffff:169.254.169.254": false, "fe80::1": false,
		"fe80::1%eth0": false, "fd00:ec2::254": false, "0.0.0.0": false, "::": false, "224.0.0.1": false,
		"ff02::1": false,
	} {
		if got := MayServe(netip.MustParseAddr(address)); got != may {
			t.Errorf("%s: %v", address, got)
		}
	}
}
