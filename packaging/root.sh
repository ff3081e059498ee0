# A Debian of its own to try the package in, made by debootstrap; sourced by the scripts beside it. It needs root and a Debian mirror; where
# it cannot have them, the script says so and exits with 0.
say() { printf '%s: %s\n' "${0##*/}" "$*"; }
cannot() { say "NOT TRIED: $*"; exit 0; }

# make_root makes the Debian in $root, for the processor $arch. $end is a command that is run before it goes.
make_root() {
  local mirror codename
  [ "$(id -u)" -eq 0 ] || cannot "this is not run by root"
  command -v debootstrap >/dev/null || apt-get install -y -qq --no-install-recommends debootstrap >/dev/null 2>&1 || cannot "debootstrap cannot be installed"
  arch=$(dpkg --print-architecture)
  root=$(mktemp -d /var/tmp/unlatch-package-XXXXXX)
  chmod 0755 "$root"
  trap 'eval "${end:-}"; umount "$root/proc" "$root/dev/shm" 2>/dev/null || true; rm -rf "$root"' EXIT
  mirror=$(awk '/^URIs:/ {print $2; exit} /^deb / {for (i = 2; i <= NF; i++) if ($i ~ /:\/\//) {print $i; exit}}' \
    /etc/apt/sources.list /etc/apt/sources.list.d/* 2>/dev/null || true)
  codename=$(. /etc/os-release && echo "$VERSION_CODENAME")
  # Only the time that fetching takes is bounded: a mirror that hangs is no mirror.
  timeout 900 debootstrap --variant=minbase --include="postgresql,ffmpeg,ca-certificates,adduser,curl,procps,systemd${include:+,$include}" "$codename" "$root" \
    "${mirror:-http://deb.debian.org/debian}" >"$root.log" 2>&1 ||
    { tail -n 3 "$root.log"; rm -f "$root.log"; cannot "debootstrap cannot make a root here"; }
  rm -f "$root.log"
  mount -t proc proc "$root/proc" && mkdir -p "$root/dev/shm" && mount -t tmpfs tmpfs "$root/dev/shm" || cannot "nothing can be mounted here"
}

# inside runs a command within the root.
inside() { chroot "$root" "$@"; }

# kill_inside SIGNAL NAME ends the programs of a name that run within the root, and none outside: numbers of users and of processes are
# the machine's.
kill_inside() {
  local p
  for p in /proc/[0-9]*; do
    if [ "$(readlink "$p/root" 2>/dev/null)" = "$root" ] && [ "$(cat "$p/comm" 2>/dev/null)" = "$2" ]; then kill "-$1" "${p##*/}" 2>/dev/null || true; fi
  done
}

# package VERSION makes a package of that version and puts it into /root of the root. One that was made of the same revision is taken.
package() {
  local name="unlatch_$1_$arch.deb" of
  of=.unlatch/tried/$(git describe --always --dirty --abbrev=40 2>/dev/null || echo unknown)
  if [ ! -f "$of/$name" ] || [[ $of == *-dirty || $of == *unknown ]]; then
    UNLATCH_PACKAGE_ARCH=$arch UNLATCH_PACKAGE_VERSION=$1 ./dev package >/dev/null
    [ -d "$of" ] || rm -rf .unlatch/tried
    mkdir -p "$of"
    cp ".unlatch/packages/$name" "$of/"
  fi
  cp "$of/$name" "$root/root/"
}
