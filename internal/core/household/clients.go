package household

// HidesClients reports whether whoever connects would seem to come from the engine's own
// network, so that strangers could not be told from those at home: where the engine
// forwards connections by itself, or where an IPv6 address is published and the network
// carries none; ipv6 says that the engine's own networks do. It takes a checked household.
func (h *Household) HidesClients(forwards, ipv6 bool) bool {
	bind, _ := h.Server.BindAddr() // checked when the file was read
	if h.Server.Network == "host" || bind.IsLoopback() {
		return false
	}
	carries := ipv6 && h.Server.Network == "own"
	return forwards || bind.Is6() && !bind.Is4In6() && !bind.IsUnspecified() && !carries
}
