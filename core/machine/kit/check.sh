#!/bin/sh
# Verifies the export that contains this folder, at its destination:
#   - the seal, with gpgv(1), and every file, with sha256sum(1)
#   - that the files in machines/ are for this edition
#   - that the edition is not older than the last one verified on this machine
# about/README.txt describes the same steps by hand.
#
#   sh check.sh [--older]
#
# This script is sealed like the other files in machines/. But someone who can change the medium can
# change the script too. So compare the key that it prints with the fingerprint that you received through
# another channel.
set -u
cd "$(dirname "$0")/.." || exit 1
key=SITE_KEY
state=${STOCKADE_STATE:-/var/lib/stockade}
older=no
[ "${1:-}" != --older ] || older=yes
bad=0

echo "site key:"
echo "    $key"
echo "Compare it with the fingerprint that you received through another channel."

if [ -e being-renewed.txt ] || [ ! -e manifest ]; then
	echo "INCOMPLETE: an update of this export was interrupted" >&2
	exit 1
fi
if links=$(find . -type l) && [ -n "$links" ]; then
	echo "SYMBOLIC LINKS FOUND, which no export contains:" $links >&2
	exit 1
fi
# Whether a file is signed by the site key.
signed() {
	gpgv --keyring "$PWD/machines/site-key.gpg" --status-fd 1 "$2" "$1" 2>/dev/null |
		grep -q "^\[GNUPG:\] VALIDSIG .*$key"
}
checked=yes
if ! command -v gpgv >/dev/null; then
	echo "THE SEAL WAS NOT VERIFIED: gpgv is missing" >&2
	bad=1
	checked=no
elif signed manifest seal.asc; then
	echo "the seal is valid"
else
	echo "THE SEAL IS INVALID: seal.asc is not a valid signature of that key over manifest" >&2
	exit 1
fi
lists=manifest
[ -d about/files ] && lists="manifest about/files/*"
# shellcheck disable=SC2086 # the list of a source has no blanks in its name
if ! sha256sum --quiet --strict -c $lists; then
	echo "FILES DIFFER FROM THE SEAL" >&2
	exit 1
fi
said() { sed -n "s/^  \"$1\": \"\{0,1\}\([^\",]*\)\"\{0,1\},\{0,1\}\$/\1/p" about/edition.json | sed -n 1p; }
mirror=$(said mirror) number=$(said number) made=$(said created)
echo "every file of the edition matches the seal:"
echo "    $mirror/$number, sealed on $made"

# The files for machines have seals of their own.
for sums in machines/*.sums; do
	[ -e "$sums" ] || continue
	if [ $checked = yes ] && ! signed "$sums" "$sums.asc"; then
		echo "THE SEAL OF $sums IS INVALID" >&2
		exit 1
	fi
	of=$(sed -n '1s/^# edition //p' "$sums")
	if [ "$of" != "$mirror/$number" ]; then
		echo "$sums IS FOR ${of:-NO EDITION}, and this is $mirror/$number. Export again with --group, or remove" \
			"the files of that group from machines/" >&2
		exit 1
	fi
	if ! grep -v '^#' "$sums" | sha256sum --quiet --strict -c -; then
		echo "FILES OF MACHINES DIFFER FROM THE SEAL" >&2
		exit 1
	fi
done
more=$(find machines -type f | while read -r path; do
	case "$path" in machines/site-key.gpg | machines/*.sums | machines/*.sums.asc) continue ;; esac
	cat machines/*.sums 2>/dev/null | cut -c 67- | grep -qxF "$path" || echo "$path"
done)
if [ -n "$more" ]; then
	echo "THESE FILES ARE NOT SEALED and must not be used:" >&2
	echo "$more" >&2
	exit 1
fi
echo "the files in machines/ match the seal for this edition"

# An attacker may bring an older edition, to withhold security fixes.
had="$state/checked-$mirror"
before=$(sed -n 1p "$had" 2>/dev/null)
if [ -n "$before" ] && [ "$number" -lt "$before" ] && [ $older = no ]; then
	echo "THE EDITION IS OLDER THAN $mirror/$before, which was verified here before ($(sed -n 2p "$had"))." >&2
	echo "To use it anyway, run: sh $0 --older" >&2
	exit 1
fi
if [ $bad = 0 ]; then
	if mkdir -p "$state" 2>/dev/null && printf '%s\n%s\n' "$number" "sealed on $made" 2>/dev/null >"$had"; then
		[ -n "$before" ] || echo "this is the first edition of $mirror that was verified on this machine"
	else
		echo "cannot write $state, so the age of the edition was not compared with earlier ones" >&2
	fi
fi
exit $bad
