#!/usr/bin/env bash
# Tries the wheels of `make wheels`: that of this machine in an environment of its own; that of arm64 in an emulator,
# where EMULATED names a folder with qemu-aarch64-static and, in root/, an unpacked Python 3.11 of that machine.
set -euo pipefail
cd "$(dirname "$0")/.."
shopt -s nullglob

folder=$(mktemp -d)
trap 'rm -rf "$folder"' EXIT

for wheel in dist/*"$(uname -m)".whl; do
    "${PYTHON:-python3}" -m venv "$folder/venv"
    pip=("$folder/venv/bin/python" -m pip --disable-pip-version-check --quiet install)
    "${pip[@]}" --require-hashes -r requirements/run.txt
    "${pip[@]}" --no-deps --no-index "$wheel"
    (cd "$folder" && venv/bin/fiat --version) | grep 'compiled part'
    (cd "$folder" && venv/bin/fiat show --below /usr/share/doc >/dev/null)
done

emulator=${EMULATED:-/nowhere}/qemu-aarch64-static
for wheel in dist/*aarch64.whl; do
    if [ -x "$emulator" ]; then
        "${PYTHON:-python3}" -m zipfile -e "$wheel" "$folder/wheel"
        mkdir "$folder/tried"
        "$emulator" -L "$EMULATED/root" "$EMULATED/root/usr/bin/python3.11" \
            tests/support/emulated.py "$folder/wheel/fiat/_native.abi3.so" "$folder/tried"
    else
        echo "no emulator here for $wheel"
    fi
done
