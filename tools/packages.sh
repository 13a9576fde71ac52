# For scripts that need more than a fresh machine has: sourced by them. `work` is their folder.
skipped=()
fail() { echo "FAILED: $*" >&2; exit 1; }

# Installs Debian packages that are not here, where that is possible.
install_packages() { # packages
  command -v apt-get >/dev/null || return 0
  local package missing=()
  for package in "$@"; do dpkg -s "$package" >/dev/null 2>&1 || missing+=("$package"); done
  [ ${#missing[@]} -eq 0 ] || (apt-get update -qq && apt-get install -y --no-install-recommends "${missing[@]}") >"$work/apt.log" 2>&1 ||
    echo "could not install: ${missing[*]}"
}

# Whether a program is here; else what it is for is skipped.
have() { command -v "$1" >/dev/null 2>&1 || { skipped+=("$2 (no $1)"); return 1; }; }

tell_skipped() { [ ${#skipped[@]} -eq 0 ] || printf 'SKIPPED: %s\n' "${skipped[@]}" | sort -u; }
