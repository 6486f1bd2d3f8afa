package fsys

// Shrinker is a Volume that can become smaller: Placer's Place then takes a size below its own. Contents that lie
// behind the new end are moved, as far as that is possible.
type Shrinker interface {
	// Least is the smallest size that its part can have, in bytes, and in words why it can't be smaller.
	Least() (size int64, why string, err error)
}
