#!/bin/sh
# Checks the export that this folder lies in, where it has arrived: the seal, with
# gpgv(1), and every file, with sha256sum(1). It was written beside the export and is
# not under its seal: whoever could change the medium could change this file too. What
# it does can be done by hand: about/README.txt.
set -u
cd "$(dirname "$0")/.." || exit 1
key=SITE_KEY
bad=0

echo "the site key is"
echo "    $key"
echo "compare it with the one that you got on another road"

if [ -e being-renewed.txt ] || [ ! -e manifest ]; then
	echo "NOT WHOLE: it was being brought up to date, and that did not come to its end" >&2
	exit 1
fi
if ! command -v gpgv >/dev/null; then
	echo "THE SEAL WAS NOT CHECKED: there is no gpgv here" >&2
	bad=1
elif gpgv --keyring "$PWD/machines/site-key.gpg" --status-fd 1 seal.asc manifest 2>/dev/null |
	grep -q "^\[GNUPG:\] VALIDSIG .*$key"; then
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
echo "every file that was sealed is as it was sealed; what else lies here, machines/ and"
echo "this script among it, was not checked"
exit $bad
