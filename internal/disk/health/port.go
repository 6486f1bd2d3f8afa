package health

import (
	"errors"
	"fmt"
	"os"
	"runtime"
	"strings"
	"time"
	"unsafe"

	"golang.org/x/sys/unix"

	"twinshelf/internal/units"
)

// port carries commands to a drive.
type port interface {
	// scsi sends a command block and reads into data; n is how many bytes came, sense what the drive says of the
	// command, empty where it says nothing.
	scsi(cdb, data []byte) (n int, sense []byte, err error)
	// admin sends a command to an NVMe controller and reads into data.
	admin(c adminCommand, data []byte) error
}

// errRefused means that the drive, or what it hangs on, doesn't answer such a command.
var errRefused = errors.New("it doesn't answer")

// commandTime is how long the kernel waits for the answer to one command.
const commandTime = 4 * time.Second

// kernelPort sends commands through the kernel.
type kernelPort struct{ f *os.File }

// sgHeader is struct sg_io_hdr of the kernel (include/scsi/sg.h).
type sgHeader struct {
	interfaceID  int32
	direction    int32
	commandLen   uint8
	senseLen     uint8
	_            uint16
	dataLen      uint32
	data         unsafe.Pointer
	command      unsafe.Pointer
	sense        unsafe.Pointer
	timeout      uint32 // ms
	_            uint32 // flags
	_            int32
	_            unsafe.Pointer
	status       uint8
	_, _         uint8
	senseWritten uint8
	hostStatus   uint16
	driverStatus uint16
	residual     int32
	_            uint32
	_            uint32
}

const (
	sgIO             = 0x2285 // SG_IO
	sgNone, sgFrom   = -1, -3 // direction of data
	senseLen         = 64
	checkCondition   = 2
	nvmeAdminCommand = 0xC0484E41 // NVME_IOCTL_ADMIN_CMD
)

func (k kernelPort) scsi(cdb, data []byte) (int, []byte, error) {
	sense := make([]byte, senseLen)
	h := &sgHeader{interfaceID: 'S', direction: sgNone, commandLen: uint8(len(cdb)), senseLen: senseLen,
		dataLen: uint32(len(data)), command: unsafe.Pointer(&cdb[0]), sense: unsafe.Pointer(&sense[0]),
		timeout: uint32(commandTime.Milliseconds())}
	if len(data) > 0 {
		h.direction, h.data = sgFrom, unsafe.Pointer(&data[0])
	}
	err := k.control(sgIO, unsafe.Pointer(h))
	runtime.KeepAlive(h)
	if err != nil {
		return 0, nil, err
	}
	sense = sense[:min(int(h.senseWritten), len(sense))]
	if h.hostStatus != 0 {
		return 0, sense, fmt.Errorf("%w: the host says %d", errRefused, h.hostStatus)
	}
	if h.status != 0 && !recovered(sense) {
		return 0, sense, fmt.Errorf("%w: status %d", errRefused, h.status)
	}
	return len(data) - int(h.residual), sense, nil
}

// recovered says whether a command went well although the drive had something to say.
func recovered(sense []byte) bool {
	const descriptor, fixed, recoveredError = 0x72, 0x70, 1
	switch {
	case len(sense) > 1 && sense[0]&0x7F == descriptor:
		return sense[1]&0xF <= recoveredError
	case len(sense) > 2 && sense[0]&0x7F == fixed:
		return sense[2]&0xF <= recoveredError
	}
	return false
}

// nvmePassthrough is struct nvme_passthru_cmd of the kernel (include/uapi/linux/nvme_ioctl.h).
type nvmePassthrough struct {
	opcode    uint8
	_         uint8
	_         uint16
	namespace uint32
	_, _      uint32
	_         uint64
	address   uint64
	_         uint32
	dataLen   uint32
	cdw10     uint32
	_         [5]uint32
	timeout   uint32 // ms
	_         uint32
}

func (k kernelPort) admin(c adminCommand, data []byte) error {
	var pin runtime.Pinner
	pin.Pin(&data[0])
	defer pin.Unpin()
	return k.control(nvmeAdminCommand, unsafe.Pointer(&nvmePassthrough{opcode: c.opcode, namespace: c.namespace,
		address: uint64(uintptr(unsafe.Pointer(&data[0]))), dataLen: uint32(len(data)), cdw10: c.cdw10,
		timeout: uint32(commandTime.Milliseconds())}))
}

func (k kernelPort) control(request uintptr, arg unsafe.Pointer) error {
	status, _, errno := unix.Syscall(unix.SYS_IOCTL, k.f.Fd(), request, uintptr(arg))
	if errno != 0 {
		return fmt.Errorf("the kernel says: %w", errno)
	}
	if status != 0 && request == nvmeAdminCommand {
		return fmt.Errorf("%w: status %d", errRefused, status)
	}
	return nil
}

// text is what a drive says in a field of fixed length.
func text(b []byte) string {
	return units.Visible(strings.TrimSpace(strings.TrimRight(string(b), "\x00")))
}
