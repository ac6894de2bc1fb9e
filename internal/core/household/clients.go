package household

// HidesClients reports whether whoever connects would seem to come from the engine's own
// network, so that strangers could not be told from those at home: where the engine
// forwards connections by itself, or, since its networks have no IPv6, from an IPv6 address
// that is published. It takes a checked household.
func (h *Household) HidesClients(forwards bool) bool {
	bind, _ := h.Server.BindAddr() // checked when the file was read
	if h.Server.Network == "host" || bind.IsLoopback() {
		return false
	}
	return forwards || bind.Is6() && !bind.Is4In6() && !bind.IsUnspecified()
}
