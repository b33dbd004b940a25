#!/bin/sh
# Collects a listing for Tarvek: what this host is, and what lies below some folders. It only reads, and needs nothing but a
# POSIX shell, find and stat (GNU or BusyBox); what else it finds useful, it uses if it is there. Run it as root, or it will
# say what it could not see.
#
#   sh collector.sh /silo/media /silo/archive > HOST.listing        (or | gzip > HOST.listing.gz)
#
# docs/listing.md in Tarvek's repository describes what it prints.
LC_ALL=C
export LC_ALL
umask 077
if [ $# -eq 0 ]; then
  echo "usage: sh $0 FOLDER... > HOST.listing" >&2
  exit 2
fi

have() { command -v "$1" >/dev/null 2>&1; }

# Every line of content starts with a bar; secrets in options are replaced.
content() {
  sed -e 's/\([Pp][Aa][Ss][Ss][Ww][Oo][Rr][Dd]2*\|[Pp][Aa][Ss][Ss][Ww][Dd]\|[Pp][Aa][Ss][Ss]\|[Tt][Oo][Kk][Ee][Nn]\|[Ss][Ee][Cc][Rr][Ee][Tt]\)\( *[=:] *\)[^,[:space:]]*/\1\2[hidden]/g' \
    -e 's/^/|/'
}
section() { echo "section $1"; }
end() { echo "end $1"; }
file() { # NAME FILE...
  name=$1
  shift
  section "$name"
  for f; do
    if [ -f "$f" ] && [ -r "$f" ]; then
      case $name in exports | units) echo "# $f" ;; esac
      cat "$f" 2>/dev/null
    fi
  done | content
  end "$name"
}
missing=
lack() { missing="$missing|$1
"; }

# A name is written with every control character and backslash as \ooo. od reads bytes, so nothing is lost.
escaped() {
  printf '%s' "$1" | od -An -v -to1 | tr -d '\n' | awk '{
    for (i = 1; i <= NF; i++) {
      n = substr($i, 1, 1) * 64 + substr($i, 2, 1) * 8 + substr($i, 3, 1)
      if (n < 32 || n == 127 || n == 92) printf "\\%s", $i
      else printf "%c", n + 0
    }
  }'
}
# BusyBox awk may print bytes above 127 as characters; then names go through printf, one by one.
if [ "$(printf '\303\226' | od -An -v -to1 | tr -d ' \n')" != "$(escaped "$(printf '\303\226')" | od -An -v -to1 | tr -d ' \n')" ]; then
  escaped() {
    for o in $(printf '%s' "$1" | od -An -v -to1); do
      case $o in
        0[0-3]? | 177 | 134) printf '\\%s' "$o" ;;
        *) printf "\\$o" ;;
      esac
    done
  }
fi

echo "tarvek-listing 1"
host=$(uname -n)
echo "host ${host%%.*}"
echo "taken $(date +%s)"
echo "uid $(id -u)"
echo "kernel $(uname -s)\\040$(uname -r)"

section mountinfo
if [ -r /proc/self/mountinfo ]; then sed 's/^/|/' /proc/self/mountinfo | sed 's/\(password2*=\)[^, ]*/\1[hidden]/g'; else lack "no mount table"; fi
end mountinfo
file fstab /etc/fstab
if have getent; then
  section passwd
  getent passwd 2>/dev/null | sed 's/^\([^:]*\):[^:]*:/\1:x:/; s/^/|/'
  end passwd
  section group
  getent group 2>/dev/null | sed 's/^\([^:]*\):[^:]*:/\1:x:/; s/^/|/'
  end group
else
  section passwd
  sed 's/^\([^:]*\):[^:]*:/\1:x:/; s/^/|/' /etc/passwd 2>/dev/null
  end passwd
  section group
  sed 's/^\([^:]*\):[^:]*:/\1:x:/; s/^/|/' /etc/group 2>/dev/null
  end group
fi
section sysctl
for s in protected_hardlinks protected_symlinks protected_regular protected_fifos overflowuid overflowgid; do
  if [ -r "/proc/sys/fs/$s" ]; then echo "|fs.$s = $(cat "/proc/sys/fs/$s")"; fi
done
end sysctl
if [ -r /sys/fs/selinux/enforce ]; then
  section selinux
  if [ "$(cat /sys/fs/selinux/enforce)" = 1 ]; then echo "|enforcing"; else echo "|permissive"; fi
  end selinux
fi
file exports /etc/exports /etc/exports.d/*.exports
section smb
if have testparm; then testparm -s 2>/dev/null | content; elif [ -r /etc/samba/smb.conf ]; then content </etc/samba/smb.conf; fi
end smb
file units /etc/systemd/system/*.mount /etc/systemd/system/*.automount /run/systemd/system/*.mount \
  /run/systemd/system/*.automount /run/systemd/generator/*.mount /run/systemd/generator/*.automount
if have zfs; then
  section zfs
  zfs get -H -o name,property,value all 2>/dev/null | content
  end zfs
else
  lack "no zfs command: properties of ZFS datasets, if there are any"
fi
section capacity
df -kP 2>/dev/null | content
end capacity
section ports
for p in tcp tcp6 udp udp6; do
  if [ -r "/proc/net/$p" ]; then awk -v p="$p" '
    function hex(s,   i, n) { n = 0; for (i = 1; i <= length(s); i++) n = n * 16 + index("0123456789ABCDEF", substr(s, i, 1)) - 1; return n }
    NR > 1 && $4 == (p ~ /tcp/ ? "0A" : "07") { split($2, at, ":"); print p, hex(at[2]), at[1], "uid=" $8 }' "/proc/net/$p"; fi
done | sort -u | sed 's/^/|/'
end ports
file subuid /etc/subuid
file subgid /etc/subgid

# The fields that both GNU's and BusyBox's stat can tell; neither is asked for fractions of a second.
fields='type mode uid gid size allocated inode links mtime ctime device path'
if ! have stat; then
  echo "this host has no stat command, so nothing can be collected" >&2
  exit 2
fi
# stat's own type letter comes from the raw mode in hexadecimal; awk splits it.
format='%f %u %g %s %b %B %i %h %Y %Z %d'
rows() { # reads lines of FORMAT and a name that is escaped already
  awk '
  function hex(s,   i, n) { n = 0; for (i = 1; i <= length(s); i++) n = n * 16 + index("0123456789abcdef", substr(s, i, 1)) - 1; return n }
  BEGIN { letter[1] = "p"; letter[2] = "c"; letter[4] = "d"; letter[6] = "b"; letter[8] = "f"; letter[10] = "l"; letter[12] = "s" }
  {
    raw = hex($1); kind = int(raw / 4096); bits = raw % 4096
    mode = int(bits / 512) "" int(bits / 64) % 8 "" int(bits / 8) % 8 "" bits % 8
    name = $0; for (i = 0; i < 11; i++) sub(/^[^ ]* /, "", name)
    if (kind == 10) { path = name; at = index(name, "\t"); if (at) path = substr(name, 1, at - 1) } else path = name
    major = int($11 / 256) % 4096; minor = $11 % 256 + int($11 / 1048576) * 256
    printf "|%s %s %s %s %s %.0f %s %s %s %s %.0f %s\n", letter[kind], mode, $2, $3, $4, $5 * $6, $7, $8, $9, $10, major * 4294967296 + minor, path
  }'
}

gaps=$(mktemp 2>/dev/null) || gaps=/tmp/tarvek-gaps.$$
links=$(mktemp 2>/dev/null) || links=/tmp/tarvek-links.$$
trap 'rm -f "$gaps" "$links"' EXIT
trap 'exit 130' INT TERM
: >"$gaps"

plain() { case $1 in *[[:cntrl:]\\]*) return 1 ;; esac }
one() { # one entry, whatever its name; a symlink's target follows it
  name=$(escaped "$1")
  line=$(stat -c "$format" -- "$1" 2>/dev/null) || { printf '%s\tit could not be looked at\n' "$name" >>"$gaps"; return; }
  printf '%s %s\n' "$line" "$name" | rows
  if [ -L "$1" ]; then
    # The x keeps line feeds at the end of a target.
    target=$(readlink "$1" && echo x) || { printf '%s\tits target could not be read\n' "$name" >>"$gaps"; return; }
    target=${target%x}
    target=${target%?}
    printf '|> %s\n' "$(escaped "$target")"
  fi
}

roots=
for root; do
  case $root in
    /*) ;;
    *) root=$(pwd)/$root ;;
  esac
  while [ "$root" != / ] && [ "${root%/}" != "$root" ]; do root=${root%/}; done
  if [ -L "$root" ] || [ ! -d "$root" ]; then
    printf '%s\tthe root is no folder\n' "$(escaped "$root")" >>"$gaps"
    continue
  fi
  roots="$roots$root
"
done
section roots
printf '%s' "$roots" | while IFS= read -r root; do echo "|deep $(escaped "$root")"; done
end roots

echo "section tree $fields"
one /
printf '%s' "$roots" | while IFS= read -r root; do
  # The folders above.
  above=
  rest=${root#/}
  while :; do
    case $rest in
      */*) above=$above/${rest%%/*}; rest=${rest#*/}; one "$above" ;;
      *) break ;;
    esac
  done
  [ "$root" = / ] || one "$root"
  # Ordinary names in bulk, symlinks and odd names one by one. Folders that can't be read go to the gaps.
  find "$root" ! -path "$root" ! -type l ! -path "*[[:cntrl:]\\\\]*" -exec stat -c "$format %n" -- {} + 2>>"$gaps.err" | rows
  find "$root" ! -path "$root" \( -type l -o -path "*[[:cntrl:]\\\\]*" \) -exec sh -c '
    for f; do printf "%s\0" "$f"; done' sh {} + 2>/dev/null | od -An -v -to1 | awk '
    { for (i = 1; i <= NF; i++) if ($i == "000") { print line; line = "" } else line = line "\\" $i }' |
    while IFS= read -r octal; do
      odd=$(printf "$octal"; echo x)
      one "${odd%x}"
    done
done | awk '!/^\|[^>]/ || !seen[$0]++'
end tree

section gaps
sed 's/^/|/' "$gaps"
printf '%s' "$roots" | while IFS= read -r root; do
  find "$root" -type d -exec sh -c 'for f; do if [ ! -r "$f" ] || [ ! -x "$f" ]; then printf "%s\0" "$f"; fi; done' sh {} + 2>/dev/null |
    od -An -v -to1 | awk '{ for (i = 1; i <= NF; i++) if ($i == "000") { print line; line = "" } else line = line "\\" $i }' |
    while IFS= read -r octal; do
      odd=$(printf "$octal"; echo x)
      printf '|%s\tpermission denied\n' "$(escaped "${odd%x}")"
    done
done
end gaps
rm -f "$gaps.err"

section acl
if have getfacl; then
  printf '%s' "$roots" | while IFS= read -r root; do
    getfacl -R -P -s -n -p -- "$root" 2>/dev/null | sed 's/^/|/'
    rest=$root
    while [ "$rest" != / ] && [ -n "$rest" ]; do
      rest=${rest%/*}
      getfacl -s -n -p -- "${rest:-/}" 2>/dev/null | sed 's/^/|/'
    done
  done
else
  lack "no getfacl command: ACLs"
fi
end acl

section lacking
printf '%s' "$missing"
end lacking
echo complete
