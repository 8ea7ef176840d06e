package staging

import (
	"encoding/binary"

	"ellwand.example/core/fact"
)

// Capability is the extended attribute that holds a file's capabilities
// (capabilities(7)).
const Capability = "security.capability"

// The versions of a capability attribute, in its first word.
const (
	capabilityEffective = 1
	capability2         = 0x02000000
	capability3         = 0x03000000
	capabilityVersion   = 0xFF000000
)

// CapabilityValue writes a set as the attribute, in version 2: permitted, and
// effective from the program's start.
func CapabilityValue(set uint64) []byte {
	b := binary.LittleEndian.AppendUint32(nil, capability2|capabilityEffective)
	b = binary.LittleEndian.AppendUint32(b, uint32(set))
	b = binary.LittleEndian.AppendUint32(b, 0) // inheritable
	b = binary.LittleEndian.AppendUint32(b, uint32(set>>32))
	return binary.LittleEndian.AppendUint32(b, 0)
}

// Capabilities names what a capability attribute permits.
func Capabilities(value []byte) []string {
	if len(value) < 20 {
		return nil
	}
	return fact.CapabilityNames(uint64(binary.LittleEndian.Uint32(value[4:])) | uint64(binary.LittleEndian.Uint32(value[12:]))<<32)
}

// plainCapability makes capabilities that were set inside a user namespace,
// which name its root (version 3), those of any machine (version 2).
func plainCapability(value []byte) []byte {
	if len(value) != 24 || binary.LittleEndian.Uint32(value)&capabilityVersion != capability3 {
		return value
	}
	value = value[:20]
	binary.LittleEndian.PutUint32(value, binary.LittleEndian.Uint32(value)&^capabilityVersion|capability2)
	return value
}
