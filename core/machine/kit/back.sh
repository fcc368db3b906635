#!/bin/sh
# Written by Stockade. Restores the files that the last "apply" saved on this machine, or on the system
# below the folder ROOT. Run it again to undo the "apply" before that.
#
#   sh back [ROOT]
set -eu
root="${1:-}"
root="${root%/}"
touched='{{range .Touched}}{{.}}
{{end}}{{.Written}}
{{.Of}}'
state="$root/var/lib/stockade"
{{.BeneathRoot}}for path in $touched var/lib/stockade/before var/lib/stockade/back.old var/lib/stockade/back.new; do
	beneath "$path"
done
kept=''
for tar in "$state"/before/*.tar; do
	[ ! -e "$tar" ] || kept="$tar"
done
[ -z "$kept" ] || beneath "${kept#"$root"/}"
if [ -z "$kept" ]; then
	echo "$state/before contains no saved files, so nothing can be restored." >&2
	exit 1
fi

# On the disk, and not only in memory: a file with its bytes, a folder with its names.
durable() {
	sync "$@" 2>/dev/null || sync
}
umask 022

# All of it is unpacked before anything goes.
old="$state/back.old" new="$state/back.new"
rm -rf "$old" "$new"
mkdir -p "$old" "$new"
tar -C "$new" -xpf "$kept"
find "$new" -type f -o -type d | while read -r path; do
	durable "$path"
done
for path in $touched; do
	if [ -e "$root/$path" ] || [ -L "$root/$path" ]; then
		mkdir -p "$old/$(dirname "$path")"
		mv "$root/$path" "$old/$path"
	fi
	if [ -e "$new/$path" ] || [ -L "$new/$path" ]; then
		mkdir -p "$root/$(dirname "$path")"
		mv "$new/$path" "$root/$path"
	fi
done
# Until all of it is there for good, the next call does it again.
for path in $touched; do
	while [ "$path" != . ]; do
		path=$(dirname "$path")
		[ ! -d "$root/$path" ] || durable "$root/$path"
	done
done
mv "$kept" "$kept.gone-back"
rm -rf "$old" "$new"
echo "Restored: {{range .Touched}}/{{.}} {{end}}"
echo "The saved files are now in $kept.gone-back"
