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
	// of is what larger thing a part of this type belongs to; empty for one that stands by itself.
	of string
}

// Larger things that parts belong to.
const (
	ofDynamic = "a dynamic disk"
	ofRAID    = "a RAID"
	ofGroup   = "a volume group"
	ofPool    = "a storage pool"
)

var gptTypes = map[string]typeInfo{
	TypeESP:          {name: "EFI system part", role: RoleStartup},
	TypeBIOSBoot:     {name: "BIOS start-up code", role: RoleStartup},
	TypeLinuxExtBoot: {name: "Linux start-up files", role: RoleStartup},
	TypeMSReserved:   {name: "reserved by Windows", role: RoleReserved},
	TypeMSBasicData:  {name: "Windows data", role: RoleData},
	TypeMSRecovery:   {name: "Windows recovery", role: RoleRecovery},
	TypeLinuxData:    {name: "Linux data", role: RoleData},
	TypeLinuxSwap:    {name: "Linux swap", role: RoleSwap},
	TypeLinuxRootX64: {name: "Linux system", role: RoleSystem},
	TypeLinuxHome:    {name: "Linux home folders", role: RoleData},
	TypeLinuxLVM:     {name: "Linux volume group", role: RoleUnknown, of: ofGroup},
	TypeLinuxRAID:    {name: "Linux RAID member", role: RoleUnknown, of: ofRAID},

	"5808C8AA-7E8F-42E0-85D2-E1E90434CFB3": {name: "dynamic disk database", role: RoleReserved, of: ofDynamic},
	"AF9B60A0-1431-4F62-BC68-3311714A69AD": {name: "dynamic disk data", role: RoleUnknown, of: ofDynamic},
	"E75CAF8F-F680-4CEE-AFA3-B001E56EFC2D": {name: "Storage Spaces member", role: RoleUnknown, of: ofPool},
	"558D43C5-A1AC-43C0-AAC8-D1472B2923D1": {name: "Storage Replica log", role: RoleUnknown, of: ofPool},
	"37AFFC90-EF7D-4E96-91C3-2D7AE055B174": {name: "IBM GPFS", role: RoleUnknown, of: ofPool},
	"44479540-F297-41B2-9AF7-D131D5F0458A": {name: "Linux system (32 bit)", role: RoleSystem},
	"B921B045-1DF0-41C3-AF44-4C6F280D3FAE": {name: "Linux system (ARM 64)", role: RoleSystem},
	"69DAD710-2CE4-4E3C-B16C-21A1D49ABED3": {name: "Linux system (ARM)", role: RoleSystem},
	"2C7357ED-EBD2-46D9-AEC1-23D437EC2BF5": {name: "Linux verity data", role: RoleUnknown},
	"8484680C-9521-48C6-9C11-B0720656F69E": {name: "Linux programs (/usr)", role: RoleSystem},
	"4D21B016-B534-45C2-A9FB-5C16E091FD2D": {name: "Linux variable data (/var)", role: RoleData},
	"7EC6F557-3BC5-4ACA-B293-16EF5DF639D1": {name: "Linux temporary data", role: RoleData},
	"3B8F8425-20E0-4F3B-907F-1A25A76F98E8": {name: "Linux server data (/srv)", role: RoleData},
	"8DA63339-0007-60C0-C436-083AC8230908": {name: "Linux reserved", role: RoleReserved},
	"CA7D7CCB-63ED-4C53-861C-1742536059CC": {name: "Linux encrypted (LUKS)", role: RoleUnknown},
	"7FFEC5C9-2D00-49B7-8941-3EA10A5586B7": {name: "Linux encrypted (dm-crypt)", role: RoleUnknown},
	"48465300-0000-11AA-AA11-00306543ECAC": {name: "Mac HFS+", role: RoleData},
	"7C3457EF-0000-11AA-AA11-00306543ECAC": {name: "Mac APFS", role: RoleData},
	"53746F72-6167-11AA-AA11-00306543ECAC": {name: "Mac CoreStorage", role: RoleUnknown, of: ofPool},
	"426F6F74-0000-11AA-AA11-00306543ECAC": {name: "Mac recovery", role: RoleRecovery},
	"52637672-7900-11AA-AA11-00306543ECAC": {name: "Mac APFS recovery", role: RoleRecovery},
	"69646961-6700-11AA-AA11-00306543ECAC": {name: "Mac APFS start-up", role: RoleStartup},
	"52414944-0000-11AA-AA11-00306543ECAC": {name: "Mac RAID member", role: RoleUnknown, of: ofRAID},
	"52414944-5F4F-11AA-AA11-00306543ECAC": {name: "Mac RAID member, offline", role: RoleUnknown, of: ofRAID},
	"4C616265-6C00-11AA-AA11-00306543ECAC": {name: "Mac label", role: RoleReserved},
	"55465300-0000-11AA-AA11-00306543ECAC": {name: "UFS", role: RoleData},
	"6A898CC3-1DD2-11B2-99A6-080020736631": {name: "ZFS", role: RoleUnknown, of: ofPool},
	"6A945A3B-1DD2-11B2-99A6-080020736631": {name: "Solaris reserved", role: RoleReserved},
	"83BD6B9D-7F41-11DC-BE0B-001560B84F0F": {name: "FreeBSD start-up code", role: RoleStartup},
	"516E7CB4-6ECF-11D6-8FF8-00022D09712B": {name: "FreeBSD slices", role: RoleUnknown},
	"516E7CB5-6ECF-11D6-8FF8-00022D09712B": {name: "FreeBSD swap", role: RoleSwap},
	"516E7CB6-6ECF-11D6-8FF8-00022D09712B": {name: "FreeBSD UFS", role: RoleData},
	"516E7CB8-6ECF-11D6-8FF8-00022D09712B": {name: "FreeBSD volume manager", role: RoleUnknown, of: ofGroup},
	"516E7CBA-6ECF-11D6-8FF8-00022D09712B": {name: "FreeBSD ZFS", role: RoleUnknown, of: ofPool},
	"824CC7A0-36A8-11E3-890A-952519AD3F61": {name: "OpenBSD data", role: RoleData},
	"49F48D32-B10E-11DC-B99B-0019D1879648": {name: "NetBSD swap", role: RoleSwap},
	"49F48D5A-B10E-11DC-B99B-0019D1879648": {name: "NetBSD FFS", role: RoleData},
	"49F48DAA-B10E-11DC-B99B-0019D1879648": {name: "NetBSD RAID member", role: RoleUnknown, of: ofRAID},
	"AA31E02A-400F-11DB-9590-000C2911D1B8": {name: "VMFS", role: RoleUnknown, of: ofPool},
	"9D275380-40AD-11DB-BF97-000C2911D1B8": {name: "VMware diagnostics", role: RoleReserved},
	"9198EFFC-31C0-11DB-8F78-000C2911D1B8": {name: "VMware reserved", role: RoleReserved},
	"FE3A2A5D-4F32-41A7-B725-ACCC3285A309": {name: "ChromeOS kernel", role: RoleStartup},
	"3CB8E202-3B7E-47DD-8A3C-7FF2A13CFCEC": {name: "ChromeOS system", role: RoleSystem},
	"2E0A753D-9E48-43B0-8337-B15192CB1B5E": {name: "ChromeOS reserved", role: RoleReserved},
	"D3BFE2DE-3DAF-11DF-BA40-E3A556D89593": {name: "Intel fast start", role: RoleReserved},
	"BFBFAFE7-A34F-448A-9A5B-6213EB736C22": {name: "Lenovo start-up", role: RoleReserved},
	"9E1A2D38-C612-4316-AA26-8B49521E5A8B": {name: "PowerPC start-up", role: RoleStartup},
	"4FBD7E29-9D25-41B8-AFD0-062C0CEFF05D": {name: "Ceph storage", role: RoleUnknown, of: ofPool},
}

var mbrTypes = map[string]typeInfo{
	"0x01": {name: "FAT12", role: RoleData}, "0x04": {name: "FAT16", role: RoleData},
	"0x06": {name: "FAT16", role: RoleData}, "0x0e": {name: "FAT16", role: RoleData},
	"0x0b": {name: "FAT32", role: RoleData}, "0x0c": {name: "FAT32", role: RoleData},
	"0x07": {name: "NTFS or exFAT", role: RoleData},
	"0x11": {name: "hidden FAT12", role: RoleUnknown}, "0x14": {name: "hidden FAT16", role: RoleUnknown},
	"0x16": {name: "hidden FAT16", role: RoleUnknown}, "0x1e": {name: "hidden FAT16", role: RoleUnknown},
	"0x12": {name: "maker's service part", role: RoleRecovery},
	"0x17": {name: "hidden NTFS", role: RoleUnknown}, "0x1b": {name: "hidden FAT32", role: RoleUnknown},
	"0x1c": {name: "hidden FAT32", role: RoleUnknown},
	"0x27": {name: "Windows recovery", role: RoleRecovery},
	"0x39": {name: "Plan 9", role: RoleData},
	"0x41": {name: "PowerPC start-up", role: RoleStartup},
	"0x42": {name: "dynamic disk", role: RoleUnknown, of: ofDynamic},
	"0x4d": {name: "QNX4", role: RoleData}, "0x4e": {name: "QNX4", role: RoleData},
	"0x4f": {name: "QNX4", role: RoleData},
	"0x63": {name: "Unix System V", role: RoleData},
	"0x81": {name: "Minix", role: RoleData},
	"0x82": {name: "Linux swap", role: RoleSwap},
	"0x83": {name: "Linux data", role: RoleData},
	"0x84": {name: "hibernation", role: RoleReserved},
	"0x86": {name: "Windows volume set", role: RoleUnknown, of: ofDynamic},
	"0x87": {name: "Windows volume set", role: RoleUnknown, of: ofDynamic},
	"0x88": {name: "Linux plain text", role: RoleUnknown},
	"0x8e": {name: "Linux volume group", role: RoleUnknown, of: ofGroup},
	"0xa0": {name: "hibernation", role: RoleReserved},
	"0xa5": {name: "FreeBSD slices", role: RoleUnknown}, "0xa6": {name: "OpenBSD slices", role: RoleUnknown},
	"0xa9": {name: "NetBSD slices", role: RoleUnknown},
	"0xa8": {name: "Mac UFS", role: RoleData}, "0xab": {name: "Mac start-up", role: RoleStartup},
	"0xaf": {name: "Mac HFS+", role: RoleData},
	"0xbe": {name: "Solaris start-up", role: RoleStartup}, "0xbf": {name: "Solaris", role: RoleUnknown},
	"0xda": {name: "data without a file system", role: RoleUnknown},
	"0xde": {name: "maker's service part", role: RoleRecovery},
	"0xe8": {name: "Linux encrypted (LUKS)", role: RoleUnknown},
	"0xeb": {name: "BeFS", role: RoleData},
	"0xef": {name: "EFI system part", role: RoleStartup},
	"0xfb": {name: "VMFS", role: RoleUnknown, of: ofPool}, "0xfc": {name: "VMware swap", role: RoleSwap},
	"0xfd": {name: "Linux RAID member", role: RoleUnknown, of: ofRAID},
}

// PartOf is what larger thing a part of a type belongs to, in words; empty for one that stands by itself.
func PartOf(partType string) string {
	t, _ := lookup(partType)
	return t.of
}

// Dynamic says whether parts of the table belong to a dynamic disk, whose database names places of the disk.
func (t *Table) Dynamic() bool {
	return slices.ContainsFunc(t.Parts, func(p Part) bool { return PartOf(p.Type) == ofDynamic })
}

func lookup(partType string) (typeInfo, bool) {
	if strings.HasPrefix(partType, "0x") {
		t, ok := mbrTypes[partType]
		return t, ok
	}
	if t, ok := appleType(partType); ok {
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
	if k != GPT {
		all = map[Kind]map[string]typeInfo{MBR: mbrTypes}[k]
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
	} else if n, err := strconv.ParseUint(strings.TrimPrefix(name, "0x"), 16, 8); err == nil && n != 0 &&
		strings.HasPrefix(name, "0x") {
		return fmt.Sprintf("0x%02x", n), nil
	}
	var names []string
	for _, t := range Types(k) {
		if strings.EqualFold(t.Name, name) {
			return t.Type, nil
		}
		names = append(names, t.Name)
	}
	return "", fmt.Errorf("%q is no type of part that is known; choose %s, or a number from the specification", name,
		strings.Join(slices.Compact(names), ", "))
}
