#!/bin/sh
# Installs pinned Python packages into .venv and checks their hashes: setup/install.sh FILE. uv downloads and unpacks several at a
# time; if the registry does not have it, or it cannot install something, pip does the same more slowly.
set -eu
bin=.venv/bin
if [ ! -e .venv/.setup ]; then
  "$bin/pip" install -q -r requirements-setup.txt 2>/dev/null ||
    awk '/^[a-z]/ { uv = /^uv==/ } !uv' requirements-setup.txt | "$bin/pip" install -q -r /dev/stdin
  touch .venv/.setup
fi
# uv reads neither pip's configuration nor its environment.
index=${PIP_INDEX_URL:-$("$bin/pip" config get global.index-url 2>/dev/null || true)}
[ -z "$index" ] || export UV_DEFAULT_INDEX="$index"
[ -z "${PIP_CERT:-}" ] || export SSL_CERT_FILE="$PIP_CERT"
# Python compiles what it imports, and stores it; where it may not store it, it is compiled here once.
compile=""
[ -z "${PYTHONDONTWRITEBYTECODE:-}" ] || compile="--compile-bytecode"
if [ -x "$bin/uv" ]; then
  "$bin/uv" pip install -q $compile --python "$bin/python" -r "$1" && exit 0
  echo "  (uv could not install them; trying pip)"
fi
"$bin/pip" install -q -r "$1"
