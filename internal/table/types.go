package table

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Role is what a part is for, as far as its type tells.
type Role string

const (
	RoleStartup  Role = "start-up"
	RoleSystem   Role = "system"
	RoleData     Role = "data"
	RoleRecovery Role = "recovery"
	RoleSwap     Role = "swap"
	RoleReserved Role = "reserved"
	RoleUnknown  Role = "unknown"
)

// Type GUIDs of the UEFI specification (table 5-7), of the Discoverable
// Partitions Specification, and of the systems that own the rest.
const (
	TypeESP           = "C12A7328-F81F-11D2-BA4B-00A0C93EC93B"
	TypeBIOSBoot      = "21686148-6449-6E6F-744E-656564454649"
	TypeMSReserved    = "E3C9E316-0B5C-4DB8-817D-F92DF00215AE"
	TypeMSBasicData   = "EBD0A0A2-B9E5-4433-87C0-68B6B72699C7"
	TypeMSRecovery    = "DE94BBA4-06D1-4D40-A16A-BFD50179D6AC"
	TypeLinuxData     = "0FC63DAF-8483-4772-8E79-3D69D8477DE4"
	TypeLinuxSwap     = "0657FD6D-A4AB-43C4-84E5-0933C84B4F4F"
	TypeLinuxRootX64  = "4F68BCE3-E8CD-4DB1-96E7-FBCAF984B709"
	TypeLinuxHome     = "933AC7E1-2EB4-4F13-B844-0E14E2AEF915"
	TypeLinuxLVM      = "E6D6D379-F507-44C2-A23C-238F2A3DF928"
	TypeLinuxRAID     = "A19D880F-05FC-4D3B-A006-743F0F84911E"
	TypeLinuxExtBoot  = "BC13C2FF-59E6-4262-A352-B275FD6F7172"
	typeUnused        = "00000000-0000-0000-0000-000000000000"
	mbrProtective     = 0xEE
	mbrTypeEmpty      = 0x00
	mbrTypeNTFSExFAT  = 0x07
	mbrTypeLinux      = 0x83
	mbrTypeLinuxSwap  = 0x82
	mbrTypeMSRecovery = 0x27
)

type typeInfo struct {
	name string
	role Role
}

var gptTypes = map[string]typeInfo{
	TypeESP:          {"EFI system part", RoleStartup},
	TypeBIOSBoot:     {"BIOS start-up code", RoleStartup},
	TypeLinuxExtBoot: {"Linux start-up files", RoleStartup},
	TypeMSReserved:   {"reserved by Windows", RoleReserved},
	TypeMSBasicData:  {"Windows data", RoleData},
	TypeMSRecovery:   {"Windows recovery", RoleRecovery},
	TypeLinuxData:    {"Linux data", RoleData},
	TypeLinuxSwap:    {"Linux swap", RoleSwap},
	TypeLinuxRootX64: {"Linux system", RoleSystem},
	TypeLinuxHome:    {"Linux home folders", RoleData},
	TypeLinuxLVM:     {"Linux volume group", RoleUnknown},
	TypeLinuxRAID:    {"Linux RAID member", RoleUnknown},
}

var mbrTypes = map[string]typeInfo{
	"0x01": {"FAT12", RoleData}, "0x04": {"FAT16", RoleData}, "0x06": {"FAT16", RoleData}, "0x0e": {"FAT16", RoleData},
	"0x0b": {"FAT32", RoleData}, "0x0c": {"FAT32", RoleData},
	"0x07": {"NTFS or exFAT", RoleData},
	"0x27": {"Windows recovery", RoleRecovery},
	"0x82": {"Linux swap", RoleSwap},
	"0x83": {"Linux data", RoleData},
	"0x8e": {"Linux volume group", RoleUnknown},
	"0xef": {"EFI system part", RoleStartup},
	"0xfd": {"Linux RAID member", RoleUnknown},
}

func lookup(partType string) (typeInfo, bool) {
	if strings.HasPrefix(partType, "0x") {
		t, ok := mbrTypes[partType]
		return t, ok
	}
	t, ok := gptTypes[partType]
	return t, ok
}

// TypeName gives the plain name of a part type; the type itself when unknown.
func TypeName(partType string) string {
	if t, ok := lookup(partType); ok {
		return t.name
	}
	return "type " + partType
}

// RoleOf gives the role that the type alone tells.
func RoleOf(partType string) Role {
	if t, ok := lookup(partType); ok {
		return t.role
	}
	return RoleUnknown
}

// TypeChoice is a part type that can be chosen by its plain name.
type TypeChoice struct {
	Type string // GUID or "0x83"
	Name string
	Role Role
}

// Types lists the types that a table of some kind knows, by name.
func Types(k Kind) []TypeChoice {
	all := gptTypes
	if k == MBR {
		all = mbrTypes
	}
	var out []TypeChoice
	for t, info := range all {
		out = append(out, TypeChoice{t, info.name, info.role})
	}
	slices.SortFunc(out, func(a, b TypeChoice) int {
		return cmp.Or(strings.Compare(a.Name, b.Name), strings.Compare(a.Type, b.Type))
	})
	return out
}

// TypeNamed finds a type by its plain name, or takes a GUID or MBR number as it is.
func TypeNamed(k Kind, name string) (string, error) {
	if k == GPT {
		if up := strings.ToUpper(name); len(up) == 36 {
			if _, err := GUIDBytes(up); err == nil {
				return up, nil
			}
		}
	} else if n, err := strconv.ParseUint(strings.TrimPrefix(name, "0x"), 16, 8); err == nil && n != 0 && strings.HasPrefix(name, "0x") {
		return fmt.Sprintf("0x%02x", n), nil
	}
	var names []string
	for _, t := range Types(k) {
		if strings.EqualFold(t.Name, name) {
			return t.Type, nil
		}
		names = append(names, t.Name)
	}
	return "", fmt.Errorf("%q is no type of part that is known; possible are %s, or a number from the specification", name, strings.Join(slices.Compact(names), ", "))
}
