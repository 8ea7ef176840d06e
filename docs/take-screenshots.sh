#!/usr/bin/env bash
# Takes every picture in docs/screenshots anew, from the demo's made-up data:
# each command runs in an xterm of its own on a virtual display of 1280x800.
#
#   docs/take-screenshots.sh [NAME...]
#
# needs Xvfb, xterm, ImageMagick, Chromium, a C compiler and make.
set -euo pipefail
top=$(cd "$(dirname "$0")/.." && pwd)
for tool in Xvfb xterm import convert chromium cc make; do
	command -v "$tool" >/dev/null || { echo "there is no $tool on this machine" >&2; exit 5; }
done
work=/tmp/harbour # it shows in some of the pictures
mkdir "$work"
display=:$((90 + RANDOM % 400))
trap 'kill $server 2>/dev/null || true; rm -rf "$work"' EXIT
Xvfb $display -screen 0 1280x800x24 >/dev/null 2>&1 &
server=$!
OLDHOME=$HOME
export DISPLAY=$display PATH=$work/bin:$PATH HOME=$work/home XDG_CACHE_HOME=$work/cache TERM=xterm-256color
unset NO_COLOR
mkdir -p "$work/bin" "$work/home"
(cd "$top" && HOME=$OLDHOME XDG_CACHE_HOME= CGO_ENABLED=0 go build -o "$work/bin/ellwand" ./cmd/ellwand)
cd "$work"
ellwand demo saltmarsh >/dev/null

wanted=("$@")
# shot NAME FOLDER COMMAND...: each command is shown before it runs.
shot() {
	local name=$1 directory=$2
	shift 2
	if [ ${#wanted[@]} -gt 0 ] && [[ ! " ${wanted[*]} " = *" $name "* ]]; then return; fi
	{
		echo "cd '$work/$directory'; clear"
		for c in "$@"; do
			printf 'printf "\\033[1m$ %%s\\033[0m\\n" %q\n%s\n' "$c" "$c"
		done
		echo "touch '$work/$name.done'; sleep 60"
	} >"$work/$name.sh"
	xterm -geometry 1280x800+0+0 -maximized -fullscreen -b 12 -fa 'DejaVu Sans Mono' -fs 10 -bg '#14181c' -fg '#d8dee4' -cr '#14181c' \
		-xrm 'XTerm*color0: #14181c' -xrm 'XTerm*color1: #f07178' -xrm 'XTerm*color2: #9ece6a' -xrm 'XTerm*color3: #e6b450' -xrm 'XTerm*color6: #6cb6ff' -xrm 'XTerm*color9: #f07178' -xrm 'XTerm*color8: #7d8790' \
		-xrm 'XTerm*scrollBar: false' -e bash "$work/$name.sh" &
	local terminal=$!
	if [ -n "${after:-}" ]; then
		sleep "$after" # in the middle of it
	else
		for _ in $(seq ${limit:-600}); do [ -e "$work/$name.done" ] && break; sleep 0.1; done
		sleep 0.5
	fi
	import -window root -depth 8 -colors 64 "$top/docs/screenshots/$name.png"
	kill $terminal
	wait $terminal 2>/dev/null || true
	echo "docs/screenshots/$name.png"
}

shot demo . 'ellwand demo'

# The demo builds in no time: here its steps take some, and usually did.
cp -r saltmarsh slow
rm -f slow/.ellwand/history*
sed -i 's|^make |for i in 1 2 3 4 5 6 7 8 9; do echo "cc -O2 -c part$i.c"; sleep 0.25; done; make |' slow/recipes/{libharmonic,tidegauge}/recipe.toml
sed -i 's|^echo |sleep 2; echo |' slow/recipes/buoy-codec/recipe.toml
sed -i "s|^test *= '''|&\nsleep 3|" slow/recipes/tide-almanac/recipe.toml
if [ ${#wanted[@]} -eq 0 ] || [[ " ${wanted[*]} " = *" live "* ]]; then (cd slow && ellwand build -q --all --again >/dev/null); fi
after=3 shot live slow 'ellwand build --all --again'
shot log saltmarsh 'ellwand log' 'ellwand log tidegauge'
shot draft saltmarsh 'ellwand draft upstream/tidegauge-2.4.1.tar.gz --name gauge --build'
shot show saltmarsh 'ellwand show tidegauge'
cp -r saltmarsh changed
sed -i -e 's|^release    = 4|release    = 5|' -e 's|mode = "0640"|mode = "0644"|' -e 's|"/usr/bin/tidegauge" *= {}|"/usr/bin/tidegauge" = { mode = "4755" }|' \
	-e 's|^install -D.*|&\nsed -i "s/^mean = .*/mean = 2.35/" "$DESTDIR/etc/tidegauge/tidegauge.conf"|' changed/recipes/tidegauge/recipe.toml
(cd changed && ellwand build -q tidegauge >/dev/null)
sed -i "s|^build = '''|prepare = \"sed -i s/next_high/next_peak/ src/* include/* tests/*\"\n&|" changed/recipes/libharmonic/recipe.toml
(cd changed && ellwand build -q libharmonic >/dev/null)
shot compare changed 'ellwand compare libharmonic@1.4.2-1' 'ellwand compare tidegauge@2.4.1-3 | head -7'
# Two releases, and another architecture if the machine has the compiler.
cp -r saltmarsh releases
printf '\n[target.saltmarsh-7-x86_64]\n[target.saltmarsh-8-x86_64]\ncflags = "-O3"\n' >>releases/ellwand.toml
if command -v aarch64-linux-gnu-gcc >/dev/null; then
	printf '[target.saltmarsh-8-aarch64]\narch      = "aarch64"\ntoolchain = "aarch64-linux-gnu"\n' >>releases/ellwand.toml
fi
shot targets releases 'ellwand build -q --every-target --no-lint libharmonic saltmarsh-stations tidegauge tide-almanac' 'ellwand build -q --every-target --no-lint libharmonic saltmarsh-stations tidegauge tide-almanac' 'ellwand needs tidegauge --target saltmarsh-7-x86_64,saltmarsh-8-aarch64'

# A root, whose configuration was edited in two ways before an upgrade.
cp -r saltmarsh rooted
(
	cd rooted
	sed -i -e 's|^release    = 4|release    = 5|' -e 's|see the list in|see|' -e "s|^install -D.*|&\nsed -i 's/0.48 /0.47 /' \"\$DESTDIR/etc/tidegauge/tidegauge.conf\"\nprintf 'hours = 6\\nfeet = no\\n' >\"\$DESTDIR/etc/tidegauge/radio.conf\"|" recipes/tidegauge/recipe.toml
	ellwand build -q tidegauge >/dev/null
	sed -i -e 's|^release    = 5|release    = 6|' -e 's|hours = 6|hours = 12|' -e 's|0.47 |0.46 |' recipes/tidegauge/recipe.toml
	rm -rf station
	ellwand root create station >/dev/null
	ellwand root install station tidegauge >/dev/null
	sed -i 's/^mean = .*/mean = 2.35/' station/etc/tidegauge/tidegauge.conf
	sed -i 's/hours = 6/hours = 3/' station/etc/tidegauge/radio.conf
	ellwand build -q tidegauge >/dev/null
)
shot root rooted 'ellwand root upgrade station --dry-run' 'ellwand root upgrade station' 'ellwand root config station' 'ellwand root config station /etc/tidegauge/radio.conf' 'ellwand root verify station'

cp -a saltmarsh pictured
cp -a pictured/images/made/harbour.oci pictured/before.oci
sed -i 's/release    = 2/release    = 3/; s|cat /tmp/table|&|' pictured/recipes/tide-almanac/recipe.toml
sed -i 's/in meters/in metres/' pictured/recipes/tide-almanac/tide-almanac
(cd pictured && ellwand build -q tide-almanac >/dev/null)
shot image pictured 'ellwand image harbour --update' 'ellwand image harbour --run' 'ellwand compare before.oci harbour' 'ellwand show harbour | tail -14'
# A disk boots only with a system that has a kernel, which is not in this repository: SYSTEM is
# the archive of one.
if [ -n "${SYSTEM:-}" ]; then
	cp -a saltmarsh booted
	sed -i -e "s|^system .*|system = \"$SYSTEM\"\nforms = [\"disk\"]|" -e 's|^path = "/etc/motd"|path = "/etc/issue"|' -e 's|^text = .*|text = "Saltmarsh Harbour Authority\\n"|' booted/images/harbour.toml
	printf '\n[boot]\ncommand = "quiet"\n' >>booted/images/harbour.toml
	(cd booted && ellwand image harbour --update -q >/dev/null)
	limit=3000 shot boot booted 'ellwand image harbour' 'ellwand trial --image harbour -v'
fi
shot trial saltmarsh 'ellwand trial libharmonic tidegauge' 'ellwand trial foghorn'

# A library with a new soname, channels, and pages.
cp -r saltmarsh soname
(cd soname && ellwand bump libharmonic 2.0.0 -m 'A soname of its own' >/dev/null && ellwand build -q libharmonic >/dev/null)
shot gate soname 'ellwand publish packages/*/libharmonic*@2.0.0-1* --to local' 'ellwand bump tidegauge --release -m "Built with libharmonic 2"' 'ellwand build -q tidegauge' \
	'ellwand publish packages/*/libharmonic*@2.0.0-1* packages/*/tidegauge*-5* --to local'
ellwand demo --channels channels >/dev/null 2>&1
shot history channels 'ellwand audit local' 'ellwand history local --channel stable'
# page NAME PATH: a page of the repository in a browser.
page() {
	if [ ${#wanted[@]} -gt 0 ] && [[ ! " ${wanted[*]} " = *" $1 "* ]]; then return; fi
	chromium --headless --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking --disable-component-update --disable-sync --hide-scrollbars \
		--user-data-dir="$work/browser" --window-size=1280,800 --screenshot="$work/page.png" "http://127.0.0.1:8417/$2" >/dev/null 2>&1
	convert "$work/page.png" -dither None -depth 8 -colors 128 "$top/docs/screenshots/$1.png"
	echo "docs/screenshots/$1.png"
}
(cd channels && exec ellwand serve local --listen 127.0.0.1:8417 >/dev/null) &
web=$!
sleep 1
page page-channel pages/testing/saltmarsh-7/index.html
page page-package packages/saltmarsh-7/tidegauge/tidegauge@2.4.1-5.x86_64.html
kill $web

# Needs that are missing, and a plan.
cp -r saltmarsh lacking
(cd lacking && rm packages/*/libharmonic-dev* && sed -i 's|"command/make"|"command/mak", "pkgconfig/zlib >= 9", "header/tides.h"|' recipes/tidegauge/recipe.toml)
shot needs lacking 'ellwand needs tidegauge' 'ellwand needs tide-almanac' 'ellwand build tidegauge'
cp -r saltmarsh planned
(cd planned && git config --global user.name 'Ines Quarrell' && git config --global user.email ines@saltmarsh.example && ellwand bump libharmonic --release -m 'Built for the new stations' >/dev/null && sed -i 's/^summary .*/summary    = "Record tide heights"/' recipes/tidegauge/recipe.toml)
if [ ${#wanted[@]} -eq 0 ] || [[ " ${wanted[*]} " = *" plan "* ]]; then (cd planned && ellwand plan --svg "$top/docs/screenshots/plan.svg"); fi

# A script that fails.
cp -r saltmarsh failure
sed -i 's/, "pkgconfig.harmonic >= 1.2"//' failure/recipes/tidegauge/recipe.toml
shot failure failure 'ellwand build tidegauge'

# A recipe with faults.
shot lint saltmarsh 'ellwand lint foghorn'
