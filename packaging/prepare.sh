# Sourced by demo.sh and test.sh: installs what is missing and builds.
set -euo pipefail
root=$(cd "$(dirname "${BASH_SOURCE[0]}")/.." && pwd)
cd "$root"

install_missing() {
    local wanted missing=() package
    # Everything below "# test" is needed only there.
    if [ "$1" = test ]; then wanted=$(sed 's/#.*//' packaging/packages.txt)
    else wanted=$(sed '/^# test/,$d; s/#.*//' packaging/packages.txt); fi
    for package in $wanted; do
        dpkg-query -W -f='${Status}' "$package" 2>/dev/null | grep -q 'ok installed' || missing+=("$package")
    done
    [ ${#missing[@]} -eq 0 ] && return
    echo "Installing: ${missing[*]}" >&2
    local sudo=
    if [ "$(id -u)" -ne 0 ]; then
        command -v sudo >/dev/null || {
            echo "These Debian packages are missing and there is no sudo: ${missing[*]}" >&2
            exit 1
        }
        sudo=sudo
    fi
    $sudo apt-get update -qq
    DEBIAN_FRONTEND=noninteractive $sudo apt-get install -y -qq --no-install-recommends "${missing[@]}" >&2
}

# For `run` without what only tests and benches need; a folder that has them keeps them.
configure_and_build() {
    local group=$1
    shift
    if [ "$group" = test ]; then cmake -S . -B build -G Ninja -DPINION_TESTS=ON -DPINION_BENCH=OFF >&2
    elif [ ! -f build/build.ninja ]; then cmake -S . -B build -G Ninja -DPINION_TESTS=OFF -DPINION_BENCH=OFF >&2; fi
    cmake --build build -j 2 "$@" >&2
}
