package probe

import (
	"strings"
	"sync"
)

// everywhere are commands that every system has: the shell and its own, the utilities of
// POSIX.1-2017 that small systems have too, and what has long come along with them.
const everywhere = `: . [ alias ar arch awk b2sum base64 basename bash break cat cd chgrp chmod chown cksum cmp comm command continue cp csplit cut dash date dc dd df diff dirname
	du echo egrep env eval exec exit expand export expr false fgrep find fmt fold getconf getopts grep groups gunzip gzip head hostname id install join kill ln local locale
	logger ls mawk md5sum mkdir mkfifo mknod mktemp more mv nice nl nohup nproc od paste pathchk pr printenv printf pwd read readlink readonly realpath return rev rm rmdir
	sed seq set sh sha1sum sha224sum sha256sum sha384sum sha512sum shift shuf sleep sort source split stat strip stty sum sync tac tail tar tee test time timeout times touch tput tr
	trap true truncate tsort tty type ulimit umask unalias uname unexpand uniq unlink unset users wait wc which who whoami xargs yes zcat`

var everywhereSet = sync.OnceValue(func() map[string]bool {
	out := map[string]bool{}
	for _, w := range strings.Fields(everywhere) {
		out[w] = true
	}
	return out
})

// Everywhere reports whether a command is on every system, so that nothing has to
// declare a need for it.
func Everywhere(command string) bool { return everywhereSet()[command] }
