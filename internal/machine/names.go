package machine

import (
	"os"
	"strings"
	"syscall"
)

// Device is the number of the file system that a file lies on.
func Device(st os.FileInfo) uint64 { return uint64(st.Sys().(*syscall.Stat_t).Dev) }

// Names are the names by which this machine is known on its own network: its own, and
// that with the endings of names at home (RFC 6762: local; RFC 8375: home.arpa).
func Names() []string {
	name, err := os.Hostname()
	if err != nil || name == "" || name == "localhost" {
		return nil
	}
	name = strings.ToLower(name)
	out := []string{name}
	if first, _, dotted := strings.Cut(name, "."); dotted {
		out = append(out, first)
		name = first
	}
	return append(out, name+".local", name+".home.arpa")
}
