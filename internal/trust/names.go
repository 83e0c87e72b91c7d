package trust

import (
	"net"
	"os"
	"slices"
)

// LocalNames are the names and addresses by which this machine may be dialled, and further ones: what a certificate has
// to hold that is made for whoever dials it.
func LocalNames(further ...string) []string {
	out := []string{"localhost", "127.0.0.1", "::1"}
	add := func(name string) {
		if name != "" && !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	if host, err := os.Hostname(); err == nil {
		add(host)
	}
	if all, err := net.InterfaceAddrs(); err == nil {
		for _, a := range all {
			if n, is := a.(*net.IPNet); is {
				add(n.IP.String())
			}
		}
	}
	for _, name := range further {
		add(name)
	}
	return out
}
