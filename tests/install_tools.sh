#!/bin/sh
# Installs Debian's packages that the tests need, where they are missing.
set -eu
missing=""
command -v chromium >/dev/null 2>&1 || missing="$missing chromium"
command -v chromedriver >/dev/null 2>&1 || missing="$missing chromium-driver"
command -v ffprobe >/dev/null 2>&1 || missing="$missing ffmpeg"
for library in libegl1 libgl1-mesa-dri; do
  dpkg -s "$library" >/dev/null 2>&1 || missing="$missing $library"
done
[ -z "$missing" ] && exit 0
echo "— Installing Debian packages:$missing"
as_root=""
[ "$(id -u)" = 0 ] || as_root="sudo"
$as_root apt-get update -qq
# shellcheck disable=SC2086
DEBIAN_FRONTEND=noninteractive $as_root apt-get install -y -qq --no-install-recommends $missing >/dev/null
