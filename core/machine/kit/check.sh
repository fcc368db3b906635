#!/bin/sh
# Checks the export that this folder lies in, where it has arrived: the seal, with gpgv(1), and
# every file, with sha256sum(1); that what lies in machines/ is for this very edition; and that the
# edition is not older than the one that this machine checked before. The same can be done by hand:
# about/README.txt.
#
#   sh check.sh [--older]
#
# This script is sealed like the rest of machines/, but a script cannot vouch for itself: whoever
# could change the medium could change this too. Compare the key that it names with the one that you
# got on another road.
set -u
cd "$(dirname "$0")/.." || exit 1
key=SITE_KEY
state=${STOCKADE_STATE:-/var/lib/stockade}
older=no
[ "${1:-}" != --older ] || older=yes
bad=0

echo "the site key is"
echo "    $key"
echo "compare it with the one that you got on another road"

if [ -e being-renewed.txt ] || [ ! -e manifest ]; then
	echo "NOT WHOLE: it was being brought up to date, and that did not come to its end" >&2
	exit 1
fi
if links=$(find . -type l) && [ -n "$links" ]; then
	echo "LINKS LIE HERE, which no export has:" $links >&2
	exit 1
fi
# Whether a file is signed by the site key.
signed() {
	gpgv --keyring "$PWD/machines/site-key.gpg" --status-fd 1 "$2" "$1" 2>/dev/null |
		grep -q "^\[GNUPG:\] VALIDSIG .*$key"
}
checked=yes
if ! command -v gpgv >/dev/null; then
	echo "THE SEAL WAS NOT CHECKED: there is no gpgv here" >&2
	bad=1
	checked=no
elif signed manifest seal.asc; then
	echo "the seal holds"
else
	echo "THE SEAL DOES NOT HOLD: seal.asc is no good signature of that key over manifest" >&2
	exit 1
fi
lists=manifest
[ -d about/files ] && lists="manifest about/files/*"
# shellcheck disable=SC2086 # the list of a source has no blanks in its name
if ! sha256sum --quiet --strict -c $lists; then
	echo "FILES ARE NOT WHAT WAS SEALED" >&2
	exit 1
fi
said() { sed -n "s/^  \"$1\": \"\{0,1\}\([^\",]*\)\"\{0,1\},\{0,1\}\$/\1/p" about/edition.json | sed -n 1p; }
mirror=$(said mirror) number=$(said number) made=$(said created)
echo "every file of the edition is as it was sealed. It is"
echo "    $mirror/$number, sealed on $made"

# What machines get lies beside the edition, under seals of its own.
for sums in machines/*.sums; do
	[ -e "$sums" ] || continue
	if [ $checked = yes ] && ! signed "$sums" "$sums.asc"; then
		echo "THE SEAL OF $sums DOES NOT HOLD" >&2
		exit 1
	fi
	of=$(sed -n '1s/^# edition //p' "$sums")
	if [ "$of" != "$mirror/$number" ]; then
		echo "$sums IS FOR ${of:-NO EDITION}, and this is $mirror/$number: export it again with --group, or" \
			"remove what lies in machines/ of that group" >&2
		exit 1
	fi
	if ! grep -v '^#' "$sums" | sha256sum --quiet --strict -c -; then
		echo "FILES OF MACHINES ARE NOT WHAT WAS SEALED" >&2
		exit 1
	fi
done
more=$(find machines -type f | while read -r path; do
	case "$path" in machines/site-key.gpg | machines/*.sums | machines/*.sums.asc) continue ;; esac
	cat machines/*.sums 2>/dev/null | cut -c 67- | grep -qxF "$path" || echo "$path"
done)
if [ -n "$more" ]; then
	echo "THESE WERE NOT SEALED, and must not be used:" >&2
	echo "$more" >&2
	exit 1
fi
echo "what lies in machines/ is as it was sealed for this edition"

# An older one than before may be brought on purpose, to hold fixes back.
had="$state/checked-$mirror"
before=$(sed -n 1p "$had" 2>/dev/null)
if [ -n "$before" ] && [ "$number" -lt "$before" ] && [ $older = no ]; then
	echo "IT IS OLDER THAN $mirror/$before, which was checked here before ($(sed -n 2p "$had"))." >&2
	echo "If that is what you want: sh $0 --older" >&2
	exit 1
fi
if [ $bad = 0 ]; then
	if mkdir -p "$state" 2>/dev/null && printf '%s\n%s\n' "$number" "sealed on $made" 2>/dev/null >"$had"; then
		[ -n "$before" ] || echo "no edition of $mirror was checked on this machine before"
	else
		echo "whether an older edition was checked here before is not known: $state cannot be written" >&2
	fi
fi
exit $bad
