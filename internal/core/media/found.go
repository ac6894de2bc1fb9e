package media

import (
	"errors"
	"math"
	"regexp"
	"strconv"
)

// Chapter is a part of a film, as the file names it.
type Chapter struct {
	At      float64 `json:"at"` // in seconds
	Name    string  `json:"name,omitempty"`
	Picture string  `json:"picture,omitempty"` // a name in the state folder; empty for none
}

// Loud is how loud a file is, by EBU R 128 and ITU-R BS.1770.
type Loud struct {
	Integrated float64 `json:"integrated"` // LUFS
	Range      float64 `json:"range"`      // LU
	Peak       float64 `json:"peak"`       // dBTP
}

var loudness = regexp.MustCompile(`(?s)Summary:.*\bI:\s+(-?[0-9.]+|-?inf|nan) LUFS.*\bLRA:\s+(-?[0-9.]+|-?inf|na` +
	`n) LU\b.*\bPeak:\s+(-?[0-9.]+|-?inf|nan) dBFS`)

// ReadLoud reads the summary that ffmpeg's ebur128 filter ends with.
func ReadLoud(text string) (Loud, error) {
	m := loudness.FindStringSubmatch(text)
	if m == nil {
		return Loud{}, errors.New("there is no summary of its loudness")
	}
	var out Loud
	for i, v := range []*float64{&out.Integrated, &out.Range, &out.Peak} {
		n, err := strconv.ParseFloat(m[i+1], 64)
		if err != nil || math.IsNaN(n) || math.IsInf(n, 0) {
			n = -120 // silence
		}
		*v = n
	}
	return out, nil
}

// FrameAt says where a picture of a film is taken: past its beginning, which is often
// dark, and well before its end.
func FrameAt(duration float64) float64 {
	return max(0, min(duration*0.2, 20*60))
}
