#!/bin/sh
# Collects a listing for Tarvek: what this host is, and what lies below some folders. It only reads, and needs nothing but a
# POSIX shell, find and stat (GNU or BusyBox); what else it finds useful, it uses if it is there. Run it as root, or it will
# say what it could not see.
#
#   sh collector.sh /loft/media /loft/archive > HOST.listing        (or | gzip > HOST.listing.gz)
#
# docs/listing.md in Tarvek's repository describes what it prints.
LC_ALL=C
export LC_ALL
umask 077
if [ $# -eq 0 ]; then
  echo "usage: sh $0 FOLDER... > HOST.listing" >&2
  exit 2
fi

# Unlike echo, in every shell it leaves backslashes alone.
say() { printf '%s\n' "$*"; }
have() { command -v "$1" >/dev/null 2>&1; }

# Every line of content starts with a bar, and without secrets: `content lines` for settings and units, `content fields` for tables. It hides
# more than Tarvek's own recogniser (tarvek-core/src/words/secret.rs), and what that knows; a test holds both to one table.
# Begin of hiding.
hide='
function secret(name,   n) {
  n = tolower(name)
  if (n ~ /(^|[^a-z])(pw|otp|psk)[0-9]*$/) return 1
  gsub(/[^a-z0-9]/, "", n)
  return n ~ /password|passwd|passphrase|passcode|passwort|pass[0-9]*$|pwd|psk|token|secret|apikey|bearer|authorization|cookie|cred/ ||
    n ~ /(api|access|private|auth|encryption|signing|master|session|shared|account|app|application|ssh|storage|client|consumer|license|hmac|crypt|luks)key/
}
function place(name, value) { # the path of a file that holds one
  return tolower(name) ~ /(cred|credentials?|creds|file|path|dir)$/ && value ~ /^["\047]?[~.]?\//
}
function option(part,   name) { # of a mount: what follows a comma in a password is none
  name = part
  sub(/[=:].*/, "", name)
  return name ~ /^x-/ || index(" ro rw user users owner group auto noauto nofail _netdev exec noexec suid nosuid dev nodev sync async atime noatime relatime norelatime nodiratime lazytime defaults bind rbind guest noperm unix nounix seal soft hard serverino noserverino forceuid forcegid noforceuid noforcegid mfsymlinks multiuser cache vers uid gid file_mode dir_mode username domain workgroup sec iocharset port ip addr unc prefixpath cruid rsize wsize bsize actimeo acregmin acregmax acdirmin acdirmax nfsvers proto mountproto timeo retrans retry lock nolock context comment nosharesock echo_interval dmask fmask umask allow_other default_permissions subvol subvolid compress errors data mode size credentials cred ", " " name " ") > 0
}
function last_at(s,   n, i) { n = 0; for (i = 1; i <= length(s); i++) if (substr(s, i, 1) == "@") n = i; return n }
function list(text,   n, parts, i, out, name, value, hiding) {
  n = split(text, parts, ",")
  out = ""
  hiding = 0
  for (i = 1; i <= n; i++) {
    name = parts[i]
    sub(/=.*/, "", name)
    value = substr(parts[i], length(name) + 2)
    if (index(parts[i], "=") && value != "" && secret(name) && !place(name, value)) {
      parts[i] = name "=[hidden]"
      hiding = 1
    } else if (option(parts[i])) {
      hiding = 0
      if (tolower(name) ~ /user|login/ && index(value, "%") > 1) parts[i] = name "=" substr(value, 1, index(value, "%")) "[hidden]"
    } else if (hiding) parts[i] = "[hidden]"
    out = out (i > 1 ? "," : "") parts[i]
  }
  return out
}
function urls(s,   out, at, rest, last, info, cut, mark) {
  out = ""
  while (match(s, /\/\/|\\\\/)) {
    at = RSTART
    mark = substr(s, 1, at + 1)
    s = substr(s, at + 2)
    out = out mark
    match(s, /^[^ \t"\047<>]*/)
    rest = substr(s, 1, RLENGTH)
    s = substr(s, RLENGTH + 1)
    last = last_at(rest)
    if (last > 1) {
      info = substr(rest, 1, last - 1)
      cut = match(info, /[:%]/)
      if (cut && info !~ /^[^:\/]*:[0-9]+\// && info !~ /^[^:%]*\//) rest = substr(rest, 1, cut) "[hidden]" substr(rest, last)
      else if (!cut && mark ~ /https?:\/\/$/ && index(info, "/") == 0) rest = "[hidden]" substr(rest, last)
      else if (!cut && length(info) > 15 && info ~ /[0-9]/ && index(info, "/") == 0) rest = "[hidden]" substr(rest, last)
    }
    out = out rest
  }
  return out s
}
function word(w,   at, cut) { # one word by itself
  if (w ~ /eyJ[A-Za-z0-9_-]+\./) return "[hidden]"
  at = last_at(w)
  if (at > 1 && w ~ /^[^:@\/=]+:[^@\/\[][^@]*@/) { cut = index(w, ":"); return substr(w, 1, cut) "[hidden]" substr(w, at) }
  if (at > 1 && w ~ /=[^:@\/=]+:[^@\/\[][^@]*@/) { cut = index(w, "="); cut += index(substr(w, cut + 1), ":"); return substr(w, 1, cut) "[hidden]" substr(w, at) }
  if (w ~ /^[A-Za-z][A-Za-z0-9_.@\\-]*%[^%\/][^%\/][^%\/]/) return substr(w, 1, index(w, "%")) "[hidden]"
  return w
}
function line(s, fields,   head, name, n, words, i, rest, out, lower, bare, next_word) {
  s = urls(s)
  if (match(tolower(s), /<[a-z0-9_.-]*(pass|token|secret|key|pwd|cred)[a-z0-9_.-]*/)) return substr(s, 1, RSTART + RLENGTH - 1) " [hidden]"
  # A setting: its name up to the first mark.
  if (!fields && match(s, /[=:]/)) {
    name = substr(s, 1, RSTART - 1)
    rest = substr(s, RSTART + 1)
    if (name !~ /\// && secret(name) && rest !~ /^\/\// && !place(name, substr(rest, match(rest, /[^ \t]/)))) {
      deep = match(s, /[^ \t-]/)
      if (rest ~ /^[ \t]*([|>][-+]?)?[ \t]*$/) { below = deep; return s }
      return substr(s, 1, length(name) + 1) " [hidden]"
    }
    if (name ~ /^[ \t]*Options$/) return name "=" list(rest)
  }
  if (tolower(s) ~ /^[ \t]*(machine|default|login|account|password|passwd)[ \t]/ && tolower(s) ~ /(^|[ \t])(password|passwd|account)[ \t]/) {
    match(tolower(s), /(^|[ \t])(password|passwd|account)[ \t]/)
    return substr(s, 1, RSTART + RLENGTH - 1) "[hidden]"
  }
  out = ""
  rest = s
  i = 0
  while (match(rest, /[^ \t]+/)) {
    head = substr(rest, 1, RSTART - 1)
    bare = substr(rest, RSTART, RLENGTH)
    rest = substr(rest, RSTART + RLENGTH)
    lower = tolower(bare)
    gsub(/^["\047\[{(,<?&]+|["\047\]}),]+$/, "", lower)
    out = out head
    i++
    if (index(bare, ",") && index(bare, "=") && bare !~ /["\047{]/) { out = out list(bare); continue }
    # A name and its value in one word, or a name that its value follows.
    if (match(lower, /[=:<]/)) {
      name = substr(lower, 1, RSTART - 1)
      n = split(name, words, /[^a-z0-9_.-]/)
      if (secret(words[n]) || lower ~ /[?&](key|sig|auth|signature)=/ || lower ~ /[?&"{<][a-z0-9_.-]*(pass|token|secret|key|pwd|cred)[a-z0-9_.-]*["]?[=:]/ ||
          lower ~ /(^|[^a-z])(environment|value)?["\047]?[a-z0-9_.-]*(pass|token|secret|apikey|pwd)[a-z0-9_.-]*["\047]?[=:]/) {
        if (!place(words[n], substr(lower, length(name) + 2))) {
          if (fields) { out = out substr(bare, 1, match(bare, /[=:]/)) "[hidden]"; continue }
          return out substr(bare, 1, match(bare, /[=:]/)) "[hidden]"
        }
      }
      if (lower ~ /^(user|username|login)[=:][^%]+%/) { out = out substr(bare, 1, index(bare, "%")) "[hidden]"; continue }
    }
    if (!fields && rest ~ /[^ \t]/) {
      if (lower == "bearer" || lower ~ /^-/ && lower !~ /[=:]/ && secret(lower) && !place(lower, substr(rest, match(rest, /[^ \t]/))) ||
          i == 1 && secret(lower) && lower !~ /\// && rest !~ /^[ \t]*[^ \t]*[ \t]*[:+?]?=/)
        return out bare " [hidden]"
      if (lower ~ /^(-u|--user|--username|--proxy-user)$/ && match(rest, /^[ \t]*[^ \t]*[:%]/) && rest !~ /^[ \t]*[0-9]+:[0-9]+([ \t]|$)/) {
        out = out bare substr(rest, 1, RLENGTH) "[hidden]"
        rest = substr(rest, RLENGTH + 1)
        sub(/^[^ \t]*/, "", rest)
        continue
      }
    }
    out = out word(bare)
  }
  return out rest
}
{
  gsub(/\r/, "")
  if (armour) { if ($0 ~ /-----END /) { armour = 0; print "|" $0 } else print "|[hidden]"; next }
  if ($0 ~ /-----BEGIN .*PRIVATE KEY-----/) { armour = 1; print "|" $0; next }
  if (quote != "") { if (index($0, quote)) { quote = "" } print "|[hidden]"; next }
  if (below && ($0 ~ /^[ \t]*$/ || match($0, /[^ \t]/) > below)) { print "|[hidden]"; next }
  below = 0
  shown = line($0, mode == "fields")
  if (shown != $0 && match($0, /"""|\047\047\047/) && !index(substr($0, RSTART + 3), substr($0, RSTART, 3))) quote = substr($0, RSTART, 3)
  print "|" shown
}'
content() { awk -v mode="$1" "$hide"; }
# End of hiding.
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
  done | case $name in units) content lines ;; *) content fields ;; esac
  end "$name"
}
unescape() { # the mount table's octal digits, into $unescaped
  unescaped=$(printf '%b' "$(say "$1" | sed 's/\\\([0-7]\)/\\0\1/g')"; echo x)
  unescaped=${unescaped%x}
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
# BusyBox awk may print bytes above 127 as characters; then names go through printf, one by one, or have them as \ooo.
bytes=255
if [ "$(printf '\303\226' | od -An -v -to1 | tr -d ' \n')" != "$(escaped "$(printf '\303\226')" | od -An -v -to1 | tr -d ' \n')" ]; then
  bytes=126
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
say "kernel $(uname -s)\\040$(uname -r)"

section mountinfo
if [ -r /proc/self/mountinfo ]; then content fields </proc/self/mountinfo; else lack "mounts: no mount table"; fi
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
if have testparm; then testparm -s 2>/dev/null | content lines; elif [ -r /etc/samba/smb.conf ]; then content lines </etc/samba/smb.conf; fi
end smb
file units /etc/systemd/system/*.mount /etc/systemd/system/*.automount /run/systemd/system/*.mount \
  /run/systemd/system/*.automount /run/systemd/generator/*.mount /run/systemd/generator/*.automount
if have zfs; then
  section zfs
  { zfs get -H -o name,property,value -t filesystem type,mountpoint,used,available,quota,refquota,recordsize,compression,atime,xattr,acltype,aclmode,aclinherit,casesensitivity,readonly,usedbysnapshots 2>/dev/null ||
    zfs get -H -o name,property,value all 2>/dev/null; } | content fields
  end zfs
else
  lack "zfs: no zfs command, for the properties of ZFS datasets, if there are any"
fi
# POINTS TYPE: where filesystems of a type are mounted, once per filesystem.
points() { awk -v t="$1" '{ for (i = 7; i < NF; i++) if ($i == "-") break; if ($(i + 1) == t && !seen[$3]++) print $5 }' /proc/self/mountinfo 2>/dev/null; }
section btrfs
if have btrfs; then
  for p in $(points btrfs); do
    unescape "$p"
    at=$unescaped
    say "|# $p"
    btrfs subvolume list "$at" 2>/dev/null | sed 's/ gen [0-9]*//' | content fields
    say "|# $p read-only"
    btrfs subvolume list -r "$at" 2>/dev/null | sed 's/ gen [0-9]*//' | content fields
    if btrfs qgroup show -re --raw "$at" >/dev/null 2>&1; then
      say "|# $p quota"
      btrfs qgroup show -re --raw "$at" 2>/dev/null | content fields
    fi
  done
elif [ -n "$(points btrfs)" ]; then
  lack "btrfs: no btrfs command, for subvolumes and quota"
fi
end btrfs
section xfs
if have xfs_quota; then
  for p in $(points xfs); do
    unescape "$p"
    at=$unescaped
    xfs_quota -x -c 'report -ugp -b -n -N' "$at" >/dev/null 2>&1 || continue
    say "|# $p quota"
    xfs_quota -x -c 'report -ugp -b -n -N' "$at" 2>/dev/null | content fields
  done
elif [ -n "$(points xfs)" ]; then
  lack "xfs: no xfs_quota command, for quota"
fi
end xfs
section capacity
df -kP 2>/dev/null | content fields
end capacity
section ports
{
  ls -l /proc/[0-9]*/fd 2>/dev/null
  for p in tcp tcp6 udp udp6; do
    [ -r "/proc/net/$p" ] && sed "s/^/NET $p /" "/proc/net/$p"
  done
} | awk '
  function hex(s,   i, n) { n = 0; for (i = 1; i <= length(s); i++) n = n * 16 + index("0123456789ABCDEF", substr(s, i, 1)) - 1; return n }
  /^\/proc\// { split($0, part, "/"); pid = part[3]; next }
  /^NET / {
    if ($3 == "sl" || $6 != ($2 ~ /tcp/ ? "0A" : "07")) next
    split($4, at, ":")
    by = "-"
    if ($12 in owner) { if ((getline by < ("/proc/" owner[$12] "/comm")) <= 0) by = "-"; close("/proc/" owner[$12] "/comm") }
    print $2, hex(at[2]), at[1], "uid=" $10, "by=" by
    next
  }
  match($0, /socket:\[[0-9]*\]/) { i = substr($0, RSTART + 8, RLENGTH - 9); if (!(i in owner) || pid + 0 < owner[i] + 0) owner[i] = pid }
' | sort -u | sed 's/^/|/'
end ports
# One process of each mount namespace other than this one: who it is, and what it sees.
section processes
own=$(readlink /proc/self/ns/mnt 2>/dev/null)
seen=
for p in /proc/[0-9]*; do
  ns=$(readlink "$p/ns/mnt" 2>/dev/null)
  case " $own $seen" in *" $ns "*) continue ;; esac
  # A thread of the kernel runs no program.
  [ -n "$ns" ] && readlink "$p/exe" >/dev/null 2>&1 || continue
  seen="$seen$ns "
  echo "# ${p#/proc/}"
  for f in cgroup uid_map gid_map mountinfo; do sed "s/^/$f /" "$p/$f" 2>/dev/null; done
  sed -n 's/^\(Name\|Umask\|Uid\|Gid\|Groups\|CapEff\):/status &/p' "$p/status" 2>/dev/null
done | content fields
end processes
file subuid /etc/subuid
file subgid /etc/subgid

# The fields that both GNU's and BusyBox's stat can tell. Fractions of seconds stand in the written-out times.
fields='type mode uid gid size allocated inode links mtime ctime device path'
format='%f %u %g %s %b %B %i %h %Y %Z %d %y %z'
if ! stat -c "$format" / >/dev/null 2>&1; then
  echo "this host has no stat command that takes a format, so nothing can be collected" >&2
  exit 2
fi
rows() { # reads lines of FORMAT and a name without control characters, or escaped already; targets pass through
  awk '
  function hex(s,   i, n) { n = 0; for (i = 1; i <= length(s); i++) n = n * 16 + index("0123456789abcdef", substr(s, i, 1)) - 1; return n }
  function time(seconds, written,   part) { split(written, part, "."); return part[2] == "" ? seconds : seconds "." part[2] }
  function type_and_mode(raw,   bits) {
    bits = raw % 4096
    return letter[int(raw / 4096)] " " int(bits / 512) int(bits / 64) % 8 int(bits / 8) % 8 bits % 8
  }
  BEGIN { letter[1] = "p"; letter[2] = "c"; letter[4] = "d"; letter[6] = "b"; letter[8] = "f"; letter[10] = "l"; letter[12] = "s" }
  /^>/ { print "|" $0; next }
  {
    # Few are not alike; as makedev(3) puts the parts of a device together.
    if (!($1 in type)) type[$1] = type_and_mode(hex($1))
    if (!($11 in device)) device[$11] = sprintf("%.0f", int($11 / 256) % 4096 * 4294967296 + $11 % 256 + int($11 / 1048576) * 256)
    at = 18; for (i = 1; i <= 17; i++) at += length($i)
    printf "|%s %s %s %s %.0f %s %s %s %s %s %s\n", type[$1], $2, $3, $4, $5 * $6, $7, $8,
      time($9, $13), time($10, $16), device[$11], substr($0, at)
  }'
}

work=$(mktemp -d 2>/dev/null) || { work=/tmp/tarvek.$$; mkdir "$work" || exit 2; }
trap 'rm -rf "$work"' EXIT
trap 'exit 130' INT TERM
: >"$work/gaps"

# Entries whatever their names, for `sh -c "$any" FORMAT PATH...`: what stat says, the path and the target of each, with a NUL behind every part.
any='for f; do
  target=
  line=$(stat -c "$0" -- "$f" 2>/dev/null) || line=
  if [ -n "$line" ] && [ -L "$f" ]; then
    # The x keeps line feeds at the end of a target.
    if target=$(readlink "$f" && echo x); then
      target=${target%x}
      target="> ${target%?}"
    else
      target="?"
    fi
  fi
  printf "%s\0%s\0%s\0" "$line" "$f" "$target"
done'
told() { # reads those, and writes them as rows; od reads bytes, so nothing is lost
  od -An -v -to1 | awk -v gaps="$work/gaps" -v bytes="$bytes" '
  BEGIN { for (n = 32; n <= bytes; n++) if (n != 92 && n != 127) plain[sprintf("%03o", n)] = sprintf("%c", n) }
  function part() {
    if (++parts == 1) line = text
    else if (parts == 2) name = text
    else {
      parts = 0
      if (line == "") print name "\tit could not be looked at" >>gaps
      else {
        print line " " name
        if (text == "?") print name "\tits target could not be read" >>gaps
        else if (text != "") print text
      }
    }
    text = ""
  }
  { for (i = 1; i <= NF; i++) if ($i == "000") part(); else text = text (($i in plain) ? plain[$i] : "\\" $i) }' | rows
}
one() { sh -c "$any" "$format" "$1" | told; }
# Names come through as octal digits, a line each, so that no line feed in them is lost. `each COMMAND` gives them back.
octal='for f; do printf "%s\0" "$f"; done'
digits() {
  od -An -v -to1 | awk '{ for (i = 1; i <= NF; i++) if ($i == "000") { print line; line = "" } else line = line "\\" $i }'
}
each() {
  while IFS= read -r digits; do
    odd=$(printf "$digits"; echo x)
    "$1" "${odd%x}"
  done
}
above() { # every folder above a path, outermost first; one that is a symlink, and no further
  path=
  rest=${1#/}
  while :; do
    case $rest in */*) ;; *) break ;; esac
    path=$path/${rest%%/*}
    rest=${rest#*/}
    printf '%s\0' "$path" | digits
    [ -L "$path" ] && break
  done
}

# Roots as they really lie; those in another root go with it. What leads to them is looked at as well.
for root; do
  case $root in /*) ;; *) root=$(pwd)/$root ;; esac
  while [ "$root" != / ] && [ "${root%/}" != "$root" ]; do root=${root%/}; done
  # Dots mean what the kernel makes of them, and no path of a listing has them.
  case $root/ in
    */../* | */./* | *//*)
      dotless=$(cd -P "$root" 2>/dev/null && pwd -P && echo x)
      if [ -z "$dotless" ]; then
        lack "roots: $(escaped "$root") is no folder that can be entered"
        continue
      fi
      dotless=${dotless%x}
      root=${dotless%?} ;;
  esac
  above "$root" >>"$work/above"
  real=$(cd -P "$root" 2>/dev/null && pwd -P && echo x)
  if [ -L "$root" ] || [ -z "$real" ]; then
    printf '%s\tthe root is no folder that can be entered\n' "$(escaped "$root")" >>"$work/gaps"
    continue
  fi
  real=${real%x}
  real=${real%?}
  above "$real" >>"$work/above"
  printf '%s\0' "$real" | digits >>"$work/all"
done
[ -f "$work/all" ] || : >"$work/all"
# Shorter ones first; / holds them all.
awk '{ print length($0), $0 }' "$work/all" | sort -n | sed 's/^[0-9]* //' | awk '
  { for (r in kept) if (r == "\\057" || $0 == r || index($0, r "\\057") == 1) next; kept[$0] = 1; print }' >"$work/roots"

# Kernel filesystems and other hosts' shares are not walked. What is mounted there stands in the mount table.
awk '{ for (i = 7; i < NF; i++) if ($i == "-") break
  if ($(i + 1) ~ /^(proc|sysfs|devtmpfs|devpts|cgroup2?|debugfs|tracefs|securityfs|configfs|bpf|pstore|mqueue|hugetlbfs|autofs|efivarfs|fusectl|binfmt_misc|rpc_pipefs|nfsd|nfs4?|cifs|smb3|smbfs|9p|ceph|fuse\.sshfs|fuse\.glusterfs|fuse\.davfs)$/) print $5 }' \
  /proc/self/mountinfo 2>/dev/null | sort -u >"$work/skip"
# A folder that is bound below itself: find takes the way into it for a loop and leaves it out, so it is walked by itself.
bound_below_itself() {
  id=$(stat -c '%d:%i' -- "$1" 2>/dev/null) || return
  path=
  rest=${1#/}
  while :; do
    case $rest in */*) ;; *) return ;; esac
    path=$path/${rest%%/*}
    rest=${rest#*/}
    if [ "$(stat -c '%d:%i' -- "$path" 2>/dev/null)" = "$id" ]; then
      printf '%s\0' "$1" | digits
      return
    fi
  done
}
awk '{ print $5 }' /proc/self/mountinfo 2>/dev/null | sort -u | awk 'NR == FNR { skip[$0] = 1; next } !($0 in skip)' "$work/skip" - >"$work/mounted"
while IFS= read -r point; do
  unescape "$point"
  if bound=$(bound_below_itself "$unescaped") && [ -n "$bound" ]; then
    say "$point" >>"$work/apart"
    say "$bound"
  fi
done <"$work/mounted" >"$work/bound"
[ -f "$work/apart" ] || : >"$work/apart"
walk() { # ROOT FIND-EXPRESSION: everything below a root that is to be seen, without the root
  walk_root=$1
  shift
  # BusyBox forgets what -exec … + has gathered if it stands in parentheses.
  set -- ! -path "$(pattern "$walk_root")" "$@"
  for point in $(cat "$work/skip" "$work/apart"); do
    unescape "$point"
    [ "$unescaped" = "$walk_root" ] || set -- -path "$(pattern "$unescaped")" -prune -o "$@"
  done
  find "$walk_root" "$@" 2>/dev/null
}
pattern() { printf '%s' "$1" | sed 's/[][*?\\]/\\&/g'; }
for point in $(cat "$work/skip"); do
  unescape "$point"
  printf '%s\0' "$unescaped" | digits >>"$work/points"
done
[ -f "$work/points" ] || : >"$work/points"
# Those in a root, but not the root itself.
awk 'NR == FNR { roots[$0] = 1; next }
  { for (r in roots) if (r == "\\057" || index($0, r "\\057") == 1) { print; next } }' "$work/roots" "$work/points" >"$work/none"

# Where walks start: the roots, and what in them is bound below itself.
awk 'NR == FNR { roots[$0] = 1; print; next }
  { for (r in roots) if (r == "\\057" || index($0, r "\\057") == 1) { print; next } }' "$work/roots" "$work/bound" >"$work/starts"
each_start() { each "$1" <"$work/starts"; }

section roots
each_root() { each "$1" <"$work/roots"; }
say_root() { say "|deep $(escaped "$1")"; }
each_root say_root
say_none() { say "|none $(escaped "$1")"; }
each say_none <"$work/none"
end roots

echo "section tree $fields"
one /
if [ -f "$work/above" ]; then awk '!seen[$0]++' "$work/above" | each one; fi
tree() {
  [ "$1" = / ] || one "$1"
  # Ordinary names are looked at many at a time, symlinks and odd names one by one.
  walk "$1" ! -type l ! -path "*[[:cntrl:]\\\\]*" -exec stat -c "$format %n" -- {} + | rows
  walk "$1" \( -type l -o -path "*[[:cntrl:]\\\\]*" \) -exec sh -c "$any" "$format" {} + | told
}
each_start tree
each one <"$work/none"
end tree

section gaps
sed 's/^/|/' "$work/gaps"
closed() { printf '|%s\tit could not be entered\n' "$(escaped "$1")"; }
# Some shells answer for root by the mode bits alone; trying is surer.
unread='for f; do
  if [ -r "$f" ] && [ -x "$f" ]; then continue; fi
  if ls -- "$f" >/dev/null 2>&1 && (cd "$f") 2>/dev/null; then continue; fi
  printf "%s\0" "$f"
done'
gaps() {
  sh -c "$unread" sh "$1" | digits | each closed
  walk "$1" -type d -exec sh -c "$unread" sh {} + | digits | each closed
}
each_start gaps
end gaps

section acl
if have getfacl; then
  acls_of() { getfacl -s -n -p -- "$1" 2>/dev/null; }
  acls() {
    getfacl -s -n -p -- "$1" 2>/dev/null
    walk "$1" ! -type l -exec getfacl -s -n -p -- {} + 2>/dev/null
  }
  { if [ -f "$work/above" ]; then awk '!seen[$0]++' "$work/above" | each acls_of; fi
    each acls_of <"$work/none"
    each_start acls; } | sed 's/^/|/'
else
  lack "acl: no getfacl command, for POSIX ACLs"
fi
end acl
# Flags and projects of files and folders; nothing else is opened.
if have lsattr && lsattr -p -d / >/dev/null 2>&1; then
  section marks
  mark_lines() { sed 's/^ *\([0-9]*\) \([^ ]*\) /|\1 \2 /'; }
  mark() {
    told=$(lsattr -p -d -- "$1" 2>/dev/null | sed -n '1s/^ *\([0-9]*\) \([^ ]*\) .*/\1 \2/p')
    [ -z "$told" ] || say "|$told $(escaped "$1")"
  }
  marks() {
    mark "$1"
    for type in f d; do
      walk "$1" -type $type ! -path "*[[:cntrl:]\\\\]*" -exec lsattr -p -d -- {} + 2>/dev/null | mark_lines
      walk "$1" -type $type -path "*[[:cntrl:]\\\\]*" -exec sh -c "$octal" sh {} + | digits | each mark
    done
  }
  each_start marks
  end marks
fi
if have nfs4_getfacl; then
  section nfs4acl
  nfs4_acl() {
    acl=$(nfs4_getfacl "$1" 2>/dev/null) || return 0
    say "|# file: $(escaped "$1")"
    say "$acl" | grep -v '^#' | sed 's/^/|/'
  }
  nfs4_acls() {
    # Where the root has none, the filesystem does not keep them.
    nfs4_getfacl "$1" >/dev/null 2>&1 || return 0
    nfs4_acl "$1"
    walk "$1" ! -type l -exec sh -c "$octal" sh {} + | digits | each nfs4_acl
  }
  each_start nfs4_acls
  end nfs4acl
fi
lack "marks: no command tells SELinux labels, or what lsattr and nfs4_getfacl tell where they are missing"

section lacking
printf '%s' "$missing"
end lacking
echo complete
