package disk

import "context"

// until is a Device that ends with a context.
type until struct {
	Device
	ctx context.Context
}

// Until is the same Device, whose reads fail once the context is done: whatever computes from its bytes ends there.
func Until(ctx context.Context, d Device) Device { return until{d, ctx} }

func (u until) ReadAt(p []byte, off int64) (int, error) {
	if err := u.ctx.Err(); err != nil {
		return 0, err
	}
	return u.Device.ReadAt(p, off)
}
