#!/bin/sh
# Written by Stockade for the group {{.Group}} and the edition {{.Edition}}.
#
#   sh apply [--alone] [--older] [--unsigned] [ROOT]
#
# Installs the files below root/ on this machine, or on the system below the folder ROOT. Saves the
# present files first; sh back [ROOT] restores them.
#
#   --alone     disable the package sources that the machine had before
#   --older     accept a kit for an older edition than the machine has
#   --unsigned  accept a kit whose signature cannot be verified, because gpgv(1) is missing
set -eu
here=$(cd "$(dirname "$0")" && pwd)
alone=no older=no unsigned=no
while :; do
	case "${1:-}" in
	--alone) alone=yes ;;
	--older) older=yes ;;
	--unsigned) unsigned=yes ;;
	*) break ;;
	esac
	shift
done
root="${1:-}"
root="${root%/}"
touched='{{range .Touched}}{{.}}
{{end}}{{.Written}}
{{.Of}}'
state="$root/var/lib/stockade"

cd "$here"
if ! sha256sum --quiet -c SHA256SUMS; then
	echo "This kit is damaged. Nothing was changed. Download it again." >&2
	exit 1
fi

{{.BeneathRoot}}
for path in $touched var/lib/stockade/site-key var/lib/stockade/edition.new var/lib/stockade/before/x var/lib/stockade/written.new; do
	beneath "$path"
done
{{range .Paths}}beneath {{.}}
beneath {{.}}.stockade-new
{{end}}
{{if .Signed}}# The signer must be the one that this machine recorded with its first kit.
signers=''
if command -v gpgv >/dev/null; then
	signers=$(gpgv --keyring "$here/site-key.gpg" --status-fd 1 SHA256SUMS.asc SHA256SUMS 2>/dev/null |
		sed -n 's/^\[GNUPG:\] VALIDSIG .* \([0-9A-F]*\)$/\1/p' | sort -u)
	if [ -z "$signers" ]; then
		echo "The signature of this kit is invalid. Nothing was changed. Download it again." >&2
		exit 1
	fi
elif [ $unsigned = no ]; then
	echo "The signature of this kit cannot be verified, because gpgv is missing. Nothing was changed." >&2
	echo "Install gpgv. If you trust the way on which the kit came, run: sh apply --unsigned" >&2
	exit 1
fi
if [ -s "$state/site-key" ] && [ -n "$signers" ]; then
	known=no
	for signer in $signers; do
		! grep -qxF "$signer" "$state/site-key" || known=yes
	done
	if [ $known = no ]; then
		echo "This kit is signed by" $signers "and earlier kits were signed by" $(cat "$state/site-key") >&2
		echo "Nothing was changed. If the site has a new key, compare it with the fingerprint that you received" \
			"through another channel, then remove $state/site-key" >&2
		exit 1
	fi
elif [ -n "$signers" ]; then
	echo "This kit is signed by the site key" $signers
	echo "This is the first kit on this machine. Compare that key with the fingerprint that you received" \
		"through another channel."
fi
{{end}}had=$(cat "$root/{{.Of}}" 2>/dev/null || :)
if [ "${had%%/*}" = '{{.Mirror}}' ] && [ "${had##*/}" -gt '{{.Number}}' ] && [ $older = no ]; then
	echo "This machine has $had, and this kit is for the older {{.Edition}}. Nothing was changed." >&2
	echo "To use it anyway, run: sh apply --older" >&2
	exit 1
fi

# On the disk, and not only in memory: a file with its bytes, a folder with its names.
durable() {
	sync "$@" 2>/dev/null || sync
}

# Save the present files. They can contain passwords.
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
			echo "removed /$path, which is no longer needed"
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
echo '{{.Edition}}' >"$state/edition.new"
durable "$state/edition.new"
mv "$state/edition.new" "$root/{{.Of}}"
{{if .Signed}}[ -z "$signers" ] || printf '%s\n' $signers >"$state/site-key"
{{end}}mv "$state/written.new" "$root/{{.Written}}"
durable "$state"
{{if .Setup}}
if [ $alone = yes ]; then
	sh "$root/{{.Setup}}" "$root"
fi
{{end}}
echo "Files installed for {{.Edition}}: {{.Files}}. To undo this, run: sh $here/back${root:+ $root}"
