package household

// Convert is [convert]: making anew what a device does not play.
type Convert struct {
	When   string `toml:"when"`    // auto, needed or never
	AtOnce int    `toml:"at_once"` // pictures made at once; 0 for half the processors
}

// When something is converted.
const (
	ConvertAuto   = "auto" // where an ffmpeg is there anyway
	ConvertNeeded = "needed"
	ConvertNever  = "never"
)

// WantsFFmpeg reports whether the server is to have an ffmpeg.
func (h *Household) WantsFFmpeg() bool {
	return len(h.Quiet.Work) > 0 || h.Convert.When == ConvertNeeded
}

// mostAtOnce bounds how many pictures are made at once.
const mostAtOnce = 64

func (h *Household) judgeConvert(c *complaints, given func(key string) bool) {
	if n := h.Convert.AtOnce; n < 0 || n > mostAtOnce || n == 0 && given("convert.at_once") {
		c.bad("convert.at_once", "leave it out, or write a number from 1 to 64", "%d pictures cannot be made at once", n)
	}
}
