#!/bin/sh
# Written by Stockade for the group {{.Group}} and the edition {{.Edition}}.
#
#   sh apply [--alone] [ROOT]
#
# Puts the files below root/ where they belong on this machine, or on the system below the
# folder ROOT. What is there now is kept first, for the way back: sh back [ROOT]
# With --alone, package sources that the machine had before are taken out of use.
set -eu
here=$(cd "$(dirname "$0")" && pwd)
alone=no
if [ "${1:-}" = --alone ]; then
	alone=yes
	shift
fi
root="${1:-}"
root="${root%/}"
touched='{{range .Touched}}{{.}}
{{end}}{{.Written}}'
state="$root/var/lib/stockade"

cd "$here"
if ! sha256sum --quiet -c SHA256SUMS; then
	echo "This kit is damaged: nothing was changed. Take it again from the service." >&2
	exit 1
fi

{{.BeneathRoot}}
for path in $touched var/lib/stockade/before/x var/lib/stockade/written.new; do
	beneath "$path"
done
{{range .Paths}}beneath {{.}}
beneath {{.}}.stockade-new
{{end}}
# On the disk, and not only in memory: a file with its bytes, a folder with its names.
durable() {
	sync "$@" 2>/dev/null || sync
}

# What is there now, for the way back. There can be passwords in it.
umask 022
mkdir -p "$state/before"
umask 077
n=1
while [ -e "$state/before/$(printf %04d $n).tar" ] || [ -e "$state/before/$(printf %04d $n).tar.gone-back" ]; do
	n=$((n + 1))
done
kept="$state/before/$(printf %04d $n).tar"
set --
for path in $touched; do
	if [ -e "$root/$path" ] || [ -L "$root/$path" ]; then
		set -- "$@" "$path"
	fi
done
if [ $# -gt 0 ]; then
	tar -C "$root/" -cf "$kept.new" "$@"
else
	tar -cf "$kept.new" -T /dev/null
fi
durable "$kept.new"
mv "$kept.new" "$kept"
durable "$state/before"
umask 022

# Each file whole or not at all, and none before all of them are there.
staged() {
	sum=$(sha256sum <"root/$2")
	echo "${sum%% *}  $2" >>"$state/written.new"
	mkdir -p "$root/$(dirname "$2")"
	cp "root/$2" "$root/$2.stockade-new"
	chmod "$1" "$root/$2.stockade-new"
	durable "$root/$2.stockade-new"
}
unstaged() {
	cut -c 67- "$state/written.new" 2>/dev/null | while read -r path; do
		rm -f "$root/$path.stockade-new"
	done
}
: >"$state/written.new"
trap unstaged EXIT
{{range .Modes}}staged {{.}}
{{end}}
cut -c 67- "$state/written.new" | while read -r path; do
	mv "$root/$path.stockade-new" "$root/$path"
done
# What an earlier one wrote and nobody changed since, and is not needed any more.
if [ -e "$root/{{.Written}}" ]; then
	while read -r sum path; do
		# The list is the machine's: it decides about nothing but what a kit writes.
		case "/$path/" in */../* | */./* | *//*) continue ;; esac
		ours=no
		for below in $touched; do
			case "$path" in "$below" | "$below"/*) ours=yes ;; esac
		done
		if [ $ours = no ] || [ ! -e "$root/$path" ] || awk -v p="$path" '$2 == p { f = 1 } END { exit !f }' "$state/written.new"; then
			continue
		fi
		beneath "$path"
		now=$(sha256sum <"$root/$path")
		if [ "${now%% *}" = "$sum" ]; then
			rm "$root/$path"
			durable "$(dirname "$root/$path")"
			echo "/$path is no longer needed, and was taken away"
		fi
	done <"$root/{{.Written}}"
fi

# What the list says is so before the list says it.
durable "$state/written.new"
cut -c 67- "$state/written.new" | while read -r path; do
	while [ "$path" != . ]; do
		path=$(dirname "$path")
		echo "$root/$path"
	done
done | sort -u | while read -r folder; do
	durable "$folder"
done
mv "$state/written.new" "$root/{{.Written}}"
durable "$state"
{{if .Setup}}
if [ $alone = yes ]; then
	sh "$root/{{.Setup}}" "$root"
fi
{{end}}
echo "{{.Files}} files are in place, for {{.Edition}}. The way back: sh $here/back${root:+ $root}"
