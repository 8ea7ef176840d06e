package recipe

import "strings"

// Methods fill in the steps that a recipe does not write. In their scripts
// @ARGUMENTS@ stands for what `configure` passes on.
//
// What they have in common: nothing is installed outside $DESTDIR, and nothing is downloaded.
var methods = map[string]map[string]string{
	"autotools": {
		Prepare: `test -x ./configure || autoreconf -fi
./configure ${ELL_HOST:+--host="$ELL_HOST"} --prefix="$PREFIX" --sysconfdir=/etc --localstatedir=/var@ARGUMENTS@`,
		Build: `make`,
		Test:  `make check`,
		Stage: `make DESTDIR="$DESTDIR" install`,
	},
	"cmake": {
		Prepare: `cmake -S . -B ell-build ${ELL_HOST:+-DCMAKE_TOOLCHAIN_FILE="$HOME/cross.cmake"} -DCMAKE_BUILD_TYPE=None -DCMAKE_INSTALL_PREFIX="$PREFIX" -DCMAKE_INSTALL_LIBDIR=lib -DCMAKE_INSTALL_SYSCONFDIR=/etc -DCMAKE_INSTALL_LOCALSTATEDIR=/var -DBUILD_SHARED_LIBS=ON@ARGUMENTS@`,
		Build:   `cmake --build ell-build --parallel "$ELL_JOBS"`,
		Test:    `ctest --test-dir ell-build --output-on-failure --parallel "$ELL_JOBS"`,
		Stage:   `cmake --install ell-build`,
	},
	"meson": {
		Prepare: `meson setup ell-build ${ELL_HOST:+--cross-file "$HOME/cross.meson"} --prefix="$PREFIX" --libdir=lib --sysconfdir=/etc --localstatedir=/var --buildtype=plain --wrap-mode=nodownload@ARGUMENTS@`,
		Build:   `meson compile -C ell-build`,
		Test:    `meson test -C ell-build --print-errorlogs`,
		Stage:   `meson install -C ell-build`,
	},
	"make": {
		Build: `make ${ELL_HOST:+CC="$CC" CXX="$CXX" AR="$AR" RANLIB="$RANLIB"} PREFIX="$PREFIX" prefix="$PREFIX"@ARGUMENTS@`,
		Test: `for target in check test; do
	status=0
	make -q PREFIX="$PREFIX" prefix="$PREFIX" "$target" >/dev/null 2>&1 || status=$?
	if test "$status" -le 1; then
		make PREFIX="$PREFIX" prefix="$PREFIX"@ARGUMENTS@ "$target"
		break
	fi
done`,
		Stage: `make ${ELL_HOST:+CC="$CC" CXX="$CXX" AR="$AR" RANLIB="$RANLIB"} PREFIX="$PREFIX" prefix="$PREFIX"@ARGUMENTS@ DESTDIR="$DESTDIR" install`,
	},
	"go": {
		Build: `export GOFLAGS="-trimpath -buildvcs=false" GOPROXY=off
mkdir -p ell-build
go build -o ell-build/@ARGUMENTS@ ./...`,
		Test: `export GOFLAGS="-trimpath -buildvcs=false" GOPROXY=off
go test ./...`,
		Stage: `for program in ell-build/*; do
	install -D -m 755 "$program" "$DESTDIR/usr/bin/${program##*/}"
done`,
	},
	"python": {
		Stage: `python3 -m pip install --no-deps --no-build-isolation --no-index --no-compile --no-warn-script-location --root="$DESTDIR" --prefix="$PREFIX"@ARGUMENTS@ .
# What pip notes of where it installed from is of no use in a package.
find "$DESTDIR" -name direct_url.json -delete
find "$DESTDIR" -name RECORD -path '*.dist-info/*' -exec sed -i '/direct_url\.json/d' {} +
# Some systems' pip takes /usr/local for the prefix.
if test -d "$DESTDIR$PREFIX/local"; then
	cp -a "$DESTDIR$PREFIX/local/." "$DESTDIR$PREFIX/"
	rm -r "$DESTDIR$PREFIX/local"
fi`,
	},
	"perl": {
		Prepare: `perl Makefile.PL INSTALLDIRS=vendor NO_PACKLIST=1 NO_PERLLOCAL=1@ARGUMENTS@ </dev/null`,
		Build:   `make`,
		Test:    `make test`,
		Stage: `make DESTDIR="$DESTDIR" install
# Directories for compiled parts are made even if there are none.
find "$DESTDIR" -type d -empty -delete`,
	},
	"copy": {
		Stage: `cp -a . "$DESTDIR/"`,
	},
	"cargo": {
		Build: `cargo build --release --offline --locked@ARGUMENTS@`,
		Test:  `cargo test --release --offline --locked@ARGUMENTS@`,
		Stage: `find target/${CARGO_BUILD_TARGET:+"$CARGO_BUILD_TARGET"/}release -maxdepth 1 -type f -perm -100 ! -name '*.so' ! -name '*.d' | while read -r program; do
	install -D -m 755 "$program" "$DESTDIR/usr/bin/${program##*/}"
done`,
	},
	"npm": {
		Prepare: `test ! -d node_modules || npm rebuild --offline`,
		Build:   `npm run build --if-present@ARGUMENTS@`,
		Test:    `npm test --if-present`,
		Stage: `if test -d node_modules; then
	npm prune --omit=dev --offline --ignore-scripts
fi
dir=/usr/lib/node_modules/$(node -p 'require("./package.json").name')
mkdir -p "$DESTDIR$dir" "$DESTDIR/usr/bin"
npm pack --offline --ignore-scripts --silent --pack-destination "$TMPDIR" >"$TMPDIR/packed"
tar -xzf "$TMPDIR/$(tail -n 1 "$TMPDIR/packed")" --strip-components=1 -C "$DESTDIR$dir"
if test -d node_modules; then
	rm -rf node_modules/.package-lock.json node_modules/.cache
	cp -R node_modules "$DESTDIR$dir/"
fi
# Many archives make files executable that are no programs.
find "$DESTDIR$dir" -type f -perm /111 ! -name '*.node' | while IFS= read -r file; do
	case $(head -c 4 "$file" | tr -d '\0') in
	'#!'* | ?ELF) ;;
	*) chmod 644 "$file" ;;
	esac
done
node -p 'const p = require("./package.json"); const bin = typeof p.bin === "string" ? {[p.name.replace(/.*\//, "")]: p.bin} : p.bin || {}; Object.entries(bin).map(([name, file]) => name + " " + file.replace(/^\.\//, "") + "\n").join("")' >"$TMPDIR/programs"
while read -r name file; do
	if test -n "$name"; then
		chmod 755 "$DESTDIR$dir/$file"
		ln -s "..${dir#/usr}/$file" "$DESTDIR/usr/bin/$name"
	fi
done <"$TMPDIR/programs"
find "$DESTDIR" -type d -empty -delete`,
	},
	"ruby": {
		Stage: `mkdir -p "$DESTDIR/usr/lib/ruby/vendor_ruby"
cp -R lib/. "$DESTDIR/usr/lib/ruby/vendor_ruby/"
# Where there is exe, programs for the source's own developers are in bin.
programs=bin
test ! -d exe || programs=exe
for program in "$programs"/*; do
	if head -n 1 "$program" 2>/dev/null | grep -q '^#!'; then
		install -D -m 755 "$program" "$DESTDIR/usr/bin/${program##*/}"
	fi
done`,
	},
	"java": {
		Build: `if test -f pom.xml; then
	mvn --offline --quiet --batch-mode -DskipTests@ARGUMENTS@ package
else
	gradle --offline --no-daemon --quiet@ARGUMENTS@ assemble
fi`,
		Test: `if test -f pom.xml; then
	mvn --offline --quiet --batch-mode@ARGUMENTS@ test
else
	gradle --offline --no-daemon --quiet@ARGUMENTS@ test
fi`,
		Stage: `for jar in target/*.jar build/libs/*.jar; do
	case $jar in
	*-sources.jar | *-javadoc.jar | *-tests.jar | original-*) ;;
	*) test ! -f "$jar" || install -D -m 644 "$jar" "$DESTDIR/usr/share/java/${jar##*/}" ;;
	esac
done`,
	},
	"data": {
		Stage: `find . -type f ! -path '*/.*' ! -path './test*' ! -path '*/examples/*' | sort | while IFS= read -r file; do
	base=${file##*/} mode=644
	case $file in
	*.ttf | *.ttc) dir=/usr/share/fonts/truetype/$ELL_NAME ;;
	*.otf) dir=/usr/share/fonts/opentype/$ELL_NAME ;;
	*.woff | *.woff2) dir=/usr/share/fonts/woff/$ELL_NAME ;;
	*.pfb | *.afm) dir=/usr/share/fonts/type1/$ELL_NAME ;;
	*.pcf | *.pcf.gz) dir=/usr/share/fonts/misc/$ELL_NAME ;;
	*/icons/*) dir=/usr/share/icons/${file##*/icons/} dir=${dir%/*} ;;
	*.desktop) dir=/usr/share/applications ;;
	*.metainfo.xml | *.appdata.xml) dir=/usr/share/metainfo ;;
	*.bash | *.bash-completion) dir=/usr/share/bash-completion/completions base=${base%.bash*} ;;
	*.fish) dir=/usr/share/fish/vendor_completions.d ;;
	*/_[a-z]*) dir=/usr/share/zsh/vendor-completions ;;
	*.[1-8]) dir=/usr/share/man/man${file##*.} ;;
	*)
		test "$(head -c 2 "$file" | tr -d '\0')" = '#!' || continue
		dir=/usr/bin mode=755
		;;
	esac
	install -D -m "$mode" "$file" "$DESTDIR$dir/$base"
done`,
	},
}

// MethodScript is what a method runs in a step; empty if it runs nothing.
func MethodScript(method, step string, configure []string) string {
	var arguments strings.Builder
	for _, a := range configure {
		arguments.WriteString(" " + argument(a))
	}
	return strings.ReplaceAll(methods[method][step], "@ARGUMENTS@", arguments.String())
}
