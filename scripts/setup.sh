# SPDX-License-Identifier: GPL-3.0-or-later
# Shared by ./start, ./check and ./measure: installs what is missing, configures, builds.
# Each step that fails says which one it was and why.

step() {  # step NAME COMMAND…: runs quietly, shows the output only where the step fails
    local name=$1 log
    shift
    log=$(mktemp)
    if ! "$@" >"$log" 2>&1; then
        echo "fugato: the step \"$name\" failed:" >&2
        tail -n 40 "$log" >&2
        rm -f "$log"
        exit 1
    fi
    rm -f "$log"
}

as_root() {
    if [ "$(id -u)" -eq 0 ]; then "$@"
    elif command -v sudo >/dev/null; then sudo "$@"
    else
        echo "Packages must be installed, and there is neither root nor sudo. Install as root: $*" >&2
        return 1
    fi
}

install_packages() {  # install_packages [LIST]
    local missing=() package
    while read -r package; do
        case $package in ''|'#'*) continue ;; esac
        [ "$(dpkg-query -W -f='${db:Status-Abbrev}' "$package" 2>/dev/null)" = "ii " ] || missing+=("$package")
    done < "${1:-scripts/packages.txt}"
    [ ${#missing[@]} -eq 0 ] && return
    echo "Installing: ${missing[*]}"
    step "read the package lists" as_root apt-get update
    step "install ${missing[*]}" as_root env DEBIAN_FRONTEND=noninteractive apt-get install -y --no-install-recommends "${missing[@]}"
}

configure() {
    [ -f build/release/build.ninja ] || step "configure" cmake --preset release
}

build() {  # build TARGET…; says so only where there is something to do
    if ! cmake --build build/release --target "$@" -- -n 2>/dev/null | grep -q 'no work to do'; then echo "Building…"; fi
    step "build" cmake --build build/release --target "$@"
}
