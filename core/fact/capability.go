package fact

import "slices"

// Capabilities are the names of capabilities(7) without CAP_, by number.
var Capabilities = []string{
	"chown", "dac_override", "dac_read_search", "fowner", "fsetid", "kill", "setgid", "setuid", "setpcap", "linux_immutable",
	"net_bind_service", "net_broadcast", "net_admin", "net_raw", "ipc_lock", "ipc_owner", "sys_module", "sys_rawio", "sys_chroot", "sys_ptrace",
	"sys_pacct", "sys_admin", "sys_boot", "sys_nice", "sys_resource", "sys_time", "sys_tty_config", "mknod", "lease", "audit_write",
	"audit_control", "setfcap", "mac_override", "mac_admin", "syslog", "wake_alarm", "block_suspend", "audit_read", "perfmon", "bpf",
	"checkpoint_restore",
}

// CapabilitySet is a set of Capabilities, a bit for each by its number. Unknown
// names are ignored.
func CapabilitySet(names []string) uint64 {
	var set uint64
	for _, name := range names {
		if i := slices.Index(Capabilities, name); i >= 0 {
			set |= 1 << i
		}
	}
	return set
}

// CapabilityNames names the capabilities of a set, by number.
func CapabilityNames(set uint64) []string {
	var names []string
	for i, name := range Capabilities {
		if set&(1<<i) != 0 {
			names = append(names, name)
		}
	}
	return names
}
