# Makes .venv hold what the lock files say, and sees to what the system must have. Sourced by ./run, in its folder.

VENV=.venv
NEEDS_NETWORK="the network is needed the first time, and whenever the lock files changed"

# Debian's names of what Qt's window needs, for where it does not load as it is.
APP_PACKAGES=(libegl1 libgl1 libglib2.0-0 libfontconfig1 libdbus-1-3 libxkbcommon0 libxkbcommon-x11-0 libxcb-cursor0
    libxcb-icccm4 libxcb-image0 libxcb-keysyms1 libxcb-randr0 libxcb-render-util0 libxcb-shape0 libxcb-xinerama0
    libxcb-xkb1 libxext6 libxrender1)
# Commands of the tests and benchmarks, each with the package that has it.
TEST_COMMANDS=(ffmpeg:ffmpeg Xvfb:xvfb xauth:xauth bd_list_titles:libbluray-bin xxhsum:xxhash git:git dbus-daemon:dbus
    udevadm:udev udisksctl:udisks2 smbd:samba mkfs.ext4:e2fsprogs mount:mount pdftotext:poppler-utils fusermount3:fuse3
    desktop-file-validate:desktop-file-utils appstreamcli:appstream
    /usr/libexec/at-spi-bus-launcher:at-spi2-core)

say() { echo "$*" >&2; }

# Installs packages of the system, or says in one sentence which are to be; $1 says what for.
install_packages() {
    local why=$1 as_root=()
    shift
    if ! command -v apt-get >/dev/null; then
        say "$why: please install what corresponds to Debian's packages $*."
        return 1
    fi
    if [ "$(id -u)" -ne 0 ]; then
        # Without a terminal nobody can be asked for a password.
        if command -v sudo >/dev/null && { [ -t 0 ] || sudo -n true 2>/dev/null; }; then
            as_root=(sudo)
        else
            say "$why: please let somebody who may run: apt-get install $*"
            return 1
        fi
    fi
    say "Installing: $*"
    # Another installation that is under way is waited for, ten minutes at most.
    local apt=("${as_root[@]}" env DEBIAN_FRONTEND=noninteractive apt-get -qq -o DPkg::Lock::Timeout=600) begun=$SECONDS
    while ! "${apt[@]}" update >build/apt.log 2>&1; do
        grep -qi "could not get lock" build/apt.log || break
        [ $((SECONDS - begun)) -lt 600 ] || break
        sleep 2
    done
    if ! "${apt[@]}" install -y --no-install-recommends "$@" >>build/apt.log 2>&1; then
        say "$why, and apt-get could not install it (build/apt.log): $(grep '^E:' build/apt.log | tail -1)"
        return 1
    fi
}

# What the window loads from the system, asked of Qt itself: packages have other names in other releases.
need_window_libraries() { # LOCK...
    local missing
    missing=$("$VENV/bin/python" packaging/load_libraries.py) && return
    if [ $? -ne 1 ]; then
        say "$VENV is broken: ${missing:-its Python does not start}. It is made anew."
        # Without its stamp; emptied by whoever holds the lock, for another start may be making it just now.
        rm -f "$VENV"/stamp-*
        environment "$@"
        missing=$("$VENV/bin/python" packaging/load_libraries.py) && return
    fi
    install_packages "The window needs $missing" "${APP_PACKAGES[@]}" || return 0
    missing=$("$VENV/bin/python" packaging/load_libraries.py) || say "The window needs $missing, which no package brought."
}

# The demo's readers are mounted through FUSE; without it they are folders, and say so.
need_commands() {
    local missing=() pair
    for pair in "$@"; do
        command -v "${pair%%:*}" >/dev/null || [ -x "/usr/sbin/${pair%%:*}" ] || missing+=("${pair##*:}")
    done
    [ ${#missing[@]} -eq 0 ] || install_packages "${missing[*]} is not installed" "${missing[@]}"
}

# What the environment was made from: other locks, another Python or another folder make it anew.
stamp_of() {
    cat "$@" pyproject.toml | sha256sum | cut -d' ' -f1
    pwd -P
    readlink -f "$(command -v python3)"
    grep '^version' "$VENV/pyvenv.cfg" 2>/dev/null || true
}

is_current() { # LOCK... : whether the environment is as these files say, and works
    [ -f "$VENV/stamp-$#" ] && [ "$(stamp_of "$@")" = "$(cat "$VENV/stamp-$#")" ] \
        && [ -x "$VENV/bin/diadoche" ] && [ -x "$VENV/bin/python" ]
}

# Installs what lock files list, with a line that tells how far it is.
install_locked() {
    local total done=0 word
    total=$(cat "$@" | grep -c "==")
    local files=()
    for word in "$@"; do files+=(-r "$word"); done
    if ! "$VENV/bin/pip" install --disable-pip-version-check --require-hashes "${files[@]}" 2>build/pip.err \
        | tee build/pip.log | while read -r word _; do
            [ "$word" = Collecting ] || [ "$word" = Requirement ] || continue
            done=$((done + 1))
            [ ! -t 2 ] || printf '\rSetting up: %d of %d packages \033[K' "$done" "$total" >&2
        done; then
        say "The packages of $* could not be installed (build/pip.err; $NEEDS_NETWORK): $(grep '^ERROR' build/pip.err | head -1)"
        return 1
    fi
    [ ! -t 2 ] || printf '\r\033[K' >&2
}

make_environment() { # LOCK...
    if ! python3 -c 'import sys; sys.exit(sys.version_info < (3, 11))'; then
        say "Python 3.11 or later is needed, and python3 is $(python3 --version 2>&1)."
        return 1
    fi
    python3 -c 'import ensurepip' 2>/dev/null || install_packages "Python's venv is not installed" python3-venv || return 1
    say "Setting up $VENV; once, about a minute"
    # One of another Python or folder is not mended but made anew: what is in it names them.
    if [ ! -f "$VENV/stamp-1" ] || [ "$(sed -n 2,4p "$VENV/stamp-1")" != "$(stamp_of requirements.lock | sed -n 2,4p)" ] \
        || ! "$VENV/bin/python" -m pip --version >/dev/null 2>&1; then
        python3 -m venv --clear "$VENV"
    fi
    rm -f "$VENV"/stamp-*
    install_locked "$@" || return 1
    install_itself || return 1
    stamp_of requirements.lock >"$VENV/stamp-1"
    [ $# -eq 1 ] || stamp_of "$@" >"$VENV/stamp-$#"
}

install_itself() {
    "$VENV/bin/python" -m pip install --quiet --disable-pip-version-check --no-index --no-deps --no-build-isolation -e . \
        2>build/pip.err || { say "diadoche itself could not be installed: $(tail -1 build/pip.err)"; return 1; }
}

# A folder that was moved takes its environment along, without the network: only paths in it are others.
mend_moved() { # LOCK...
    local stamp="$VENV/stamp-$#" old new file
    [ -f "$stamp" ] && [ -x "$VENV/bin/python" ] && [ "$(sed 2d "$stamp")" = "$(stamp_of "$@" | sed 2d)" ] || return 1
    old=$(sed -n 2p "$stamp")
    new=$(pwd -P)
    say "The folder was moved: $VENV is mended."
    for file in "$VENV"/bin/*; do
        [ ! -f "$file" ] || [ -L "$file" ] || ! head -c 2 "$file" | grep -q '#!' || sed -i "1s|^#!$old/|#!$new/|" "$file"
    done
    install_itself || return 1
    for file in "$VENV"/stamp-*; do sed -i "2s|.*|$new|" "$file"; done
}

environment() { # LOCK... : returns when .venv holds them; two that start at once do it one after the other
    is_current "$@" && return
    mkdir -p build
    exec 9>build/setup.lock
    flock -n 9 || { say "Waiting for another start that sets up."; flock 9; }
    is_current "$@" || mend_moved "$@" || make_environment "$@"
    exec 9>&-
}

app_environment() {
    environment requirements.lock
    need_window_libraries requirements.lock
    need_commands fusermount3:fuse3 || true
}

test_environment() {
    environment requirements.lock requirements-test.lock
    need_window_libraries requirements.lock requirements-test.lock
    need_commands "${TEST_COMMANDS[@]}"
}
