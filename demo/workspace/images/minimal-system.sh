#!/bin/sh
# Makes a minimal system in a directory: this machine's shell, awk and a few tools, with the
# libraries that they load. A real image would be based on a release's root archive.
set -eu
to=$1
mkdir -p "$to/usr/bin" "$to/etc" "$to/tmp" "$to/var"
chmod 1777 "$to/tmp"
ln -sfn usr/bin "$to/bin"
add() {
	[ -e "$to$2" ] || { mkdir -p "$to${2%/*}"; cp -L "$1" "$to$2"; }
}
for name in sh awk date cat; do
	program=$(command -v "$name")
	add "$program" "/usr/bin/$name"
	for library in $(ldd "$program" | grep -o '/[^ ]*'); do
		add "$library" "$library"
	done
done
printf 'root:x:0:0:root:/root:/bin/sh\n' >"$to/etc/passwd"
printf 'root:x:0:\n' >"$to/etc/group"
