#!/bin/sh
# Measures the set-up as a newcomer meets it: a fresh clone, `make demo`, and how long each stage takes. Ends what it started.
#   sh tests/measure_setup.sh [FOLDER]     FOLDER: for the clone; a new temporary one, which is removed, if none is given
set -eu
source=$(cd "$(dirname "$0")/.." && pwd)
folder=${1:-$(mktemp -d)}
[ -n "${1:-}" ] || trap 'rm -rf "$folder"' EXIT
git clone -q "$source" "$folder/isbjorn"
exec_python=${PYTHON:-python3}
"$exec_python" - "$folder" <<'END'
import json
import os
import pathlib
import signal
import socket
import subprocess
import sys
import threading
import time
import urllib.error
import urllib.request

folder = pathlib.Path(sys.argv[1])
with socket.socket() as free:
    free.bind(("127.0.0.1", 0))
    port = free.getsockname()[1]
began = time.monotonic()


def say(what):
    print(f"{time.monotonic() - began:7.1f} s  {what}", flush=True)


def ask(path):
    """An answer of the studio, or None."""
    try:
        with urllib.request.urlopen(f"http://127.0.0.1:{port}{path}", timeout=120) as answer:
            return answer.read()
    except (OSError, urllib.error.URLError):
        return None


def until(path, good):
    while True:
        answer = ask(path)
        if answer is not None and good(answer):
            return answer
        if demo.poll() is not None:
            sys.exit(f"make demo ended with {demo.returncode}")
        time.sleep(0.1)


home = {**os.environ, "ISBJORN_DATA": str(folder / "data"), "ISBJORN_PORT": str(port), "ISBJORN_OSC": ""}
demo = subprocess.Popen(
    ["make", "demo"], cwd=folder / "isbjorn", env=home, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True,
    start_new_session=True,
)
threading.Thread(target=lambda: [say(f"make: {line.strip()}") for line in demo.stdout if line.strip()], daemon=True).start()
try:
    until("/api/health", bool)
    say("THE ADDRESS ANSWERS")
    shots = json.loads(until("/api/projects", lambda text: any(one["shots"] for one in json.loads(text))))
    say("the first shot is there")
    until(f"/api/shots/{shots[0]['shots'][0]['id']}/frame?frame=40", bool)
    say("THE FIRST PICTURE IS THERE")
    until("/api/preparation", lambda text: json.loads(text)["ready"])
    say("EVERYTHING IS READY")
finally:
    os.killpg(demo.pid, signal.SIGTERM)
    demo.wait(timeout=30)
END
