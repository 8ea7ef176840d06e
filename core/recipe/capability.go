package recipe

import "slices"

// capabilities are Linux's, by their number, as in capabilities(7) without
// CAP_.
var capabilities = []string{
	"chown", "dac_override", "dac_read_search", "fowner", "fsetid", "kill", "setgid", "setuid", "setpcap", "linux_immutable",
	"net_bind_service", "net_broadcast", "net_admin", "net_raw", "ipc_lock", "ipc_owner", "sys_module", "sys_rawio", "sys_chroot", "sys_ptrace",
	"sys_pacct", "sys_admin", "sys_boot", "sys_nice", "sys_resource", "sys_time", "sys_tty_config", "mknod", "lease", "audit_write",
	"audit_control", "setfcap", "mac_override", "mac_admin", "syslog", "wake_alarm", "block_suspend", "audit_read", "perfmon", "bpf",
	"checkpoint_restore",
}

// CapabilitySet is a set of capabilities, a bit for each by its number. The
// names are those that the recipe's check has passed.
func CapabilitySet(names []string) uint64 {
	var set uint64
	for _, name := range names {
		if i := slices.Index(capabilities, name); i >= 0 {
			set |= 1 << i
		}
	}
	return set
}

// CapabilityNames is the other way round.
func CapabilityNames(set uint64) []string {
	var names []string
	for i, name := range capabilities {
		if set&(1<<i) != 0 {
			names = append(names, name)
		}
	}
	return names
}
