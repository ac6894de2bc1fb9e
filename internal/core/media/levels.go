package media

import "math"

// AVCLevel gives the least level of H.264, times ten, that a picture of so many pixels and pictures a
// second needs.
func AVCLevel(width, height int, rate float64) int { return levelFor(avcLevels, width, height, rate) }

// HEVCLevel gives the least level of HEVC, times thirty.
func HEVCLevel(width, height int, rate float64) int { return levelFor(hevcLevels, width, height, rate) }

// AV1Level gives the least level of AV1, as its seq_level_idx.
func AV1Level(width, height int, rate float64) int { return levelFor(av1Levels, width, height, rate) }

// VP9Level gives the least level of VP9, times ten.
func VP9Level(width, height int, rate float64) int { return levelFor(vp9Levels, width, height, rate) }

// level is the least that a picture needs: pixels of a picture, and pixels a second, at most.
type level struct {
	number int
	size   float64
	rate   float64
}

// Levels as the standards have them: ITU-T H.264 Table A-1 (by macroblocks of 256 pixels), ITU-T H.265
// Table A.8, the AV1 specification A.3, and the levels of VP9.
var (
	avcLevels = []level{{10, 99 * 256, 1485 * 256}, {11, 396 * 256, 3000 * 256}, {12, 396 * 256, 6000 * 256},
		{13, 396 * 256, 11880 * 256}, {21, 792 * 256, 19800 * 256}, {22, 1620 * 256, 20250 * 256},
		{30, 1620 * 256, 40500 * 256}, {31, 3600 * 256, 108000 * 256}, {32, 5120 * 256, 216000 * 256},
		{40, 8192 * 256, 245760 * 256}, {42, 8704 * 256, 522240 * 256}, {50, 22080 * 256, 589824 * 256},
		{51, 36864 * 256, 983040 * 256}, {52, 36864 * 256, 2073600 * 256}, {62, 139264 * 256, 16711680 * 256}}
	hevcLevels = []level{{30, 36864, 552960}, {60, 122880, 3686400}, {63, 245760, 7372800}, {90, 552960, 16588800},
		{93, 983040, 33177600}, {120, 2228224, 66846720}, {123, 2228224, 133693440}, {150, 8912896, 267386880},
		{153, 8912896, 534773760}, {156, 8912896, 1069547520}, {186, 35651584, 4278190080}}
	av1Levels = []level{{0, 147456, 4423680}, {1, 278784, 8363520}, {4, 665856, 19975680}, {5, 1065024, 31950720},
		{8, 2359296, 70778880}, {9, 2359296, 141557760}, {12, 8912896, 267386880}, {13, 8912896, 534773760},
		{16, 35651584, 1069547520}, {18, 35651584, 4278190080}}
	vp9Levels = []level{{10, 36864, 829440}, {11, 73728, 2764800}, {20, 122880, 4608000}, {21, 245760, 9216000},
		{30, 552960, 20736000}, {31, 983040, 36864000}, {40, 2228224, 83558400}, {41, 2228224, 160432128},
		{50, 8912896, 311951360}, {51, 8912896, 588251136}, {52, 8912896, 1176502272}, {60, 35651584, 1176502272},
		{62, 35651584, 4706009088}}
)

// levelFor gives the least level of a picture.
func levelFor(levels []level, w, h int, rate float64) int {
	if rate <= 0 {
		rate = 25
	}
	size := math.Ceil(float64(w)/16) * 16 * math.Ceil(float64(h)/16) * 16
	if levels[0].number == 0 || levels[0].size == 36864 {
		size = float64(w * h) // only H.264 counts whole macroblocks
	}
	for _, l := range levels {
		if size <= l.size && size*rate <= l.rate*1.001 {
			return l.number
		}
	}
	return levels[len(levels)-1].number
}
