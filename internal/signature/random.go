package signature

// Looks says what bytes without any signature look like.
type Looks int

const (
	// Ordinary bytes have more of some values than of others.
	Ordinary Looks = iota
	// Zeros are all zeros.
	Zeros
	// Random bytes are spread like dice: encrypted, packed, or wiped with random ones. Nobody can tell which.
	Random
)

// LookAt judges the spread of byte values; it wants 64 KiB or more.
func LookAt(b []byte) Looks {
	var counts [256]int
	for _, c := range b {
		counts[c]++
	}
	if counts[0] == len(b) {
		return Zeros
	}
	if len(b) < 64<<10 {
		return Ordinary
	}
	// Pearson's statistic: about 255 for dice, with a spread of 23.
	expected := float64(len(b)) / 256
	sum := 0.0
	for _, n := range counts {
		d := float64(n) - expected
		sum += d * d / expected
	}
	if sum < 400 {
		return Random
	}
	return Ordinary
}
