//! A POSIX shell script that makes a host's datasets and folders, with their owners, modes and ACLs.

use tarvek_core::acl::{Acl, AclEntry, Tag};
use tarvek_core::layout::{Dataset, Folder, Host, Layout, Right};
use tarvek_core::path::AbsPath;
use tarvek_core::text::shell_quoted;

use super::{Piece, Source, gid, uid};

const HEAD: &str = r#"# Without --yes it only says what it would do. What is there already is brought in line, its contents are never
# touched, and running it twice does nothing the second time. Run it as root.
set -u
yes=
case ${1-} in
  --yes) yes=1 ;;
  '') ;;
  *) echo "usage: sh $0 [--yes]" >&2; exit 2 ;;
esac
steps=0
failed=0
run() {
  steps=$((steps + 1))
  if [ -n "$yes" ]; then printf doing:; else printf 'would do:'; fi
  printf ' %s' "$@"
  echo
  if [ -n "$yes" ] && ! "$@"; then
    echo "that failed" >&2
    failed=$((failed + 1))
  fi
}
note() { printf 'note: %s\n' "$*"; }

# NAME MOUNTPOINT PROPERTY=VALUE...
zfs_dataset() {
  name=$1
  at=$2
  shift 2
  if ! zfs list -H -o name "$name" >/dev/null 2>&1; then
    fixed=
    for p; do
      # What can be chosen only when a dataset is made.
      case $p in casesensitivity=* | normalization=* | utf8only=*) fixed="$fixed -o $p" ;; esac
    done
    # shellcheck disable=SC2086
    run zfs create $fixed -o "mountpoint=$at" "$name"
    [ -n "$yes" ] || return 0
  fi
  for p; do
    now=$(zfs get -H -o value "${p%%=*}" "$name" 2>/dev/null) || { note "this ZFS has no ${p%%=*}"; continue; }
    [ "$now" = "${p#*=}" ] && continue
    case $p in
      casesensitivity=* | normalization=* | utf8only=*)
        [ "$now" = - ] || note "$name was made with ${p%%=*}=$now; only a new dataset can have ${p#*=}" ;;
      *)
        if [ -n "$yes" ] && ! zfs set "$p" "$name" 2>/dev/null; then note "$name can't be given $p"; else
          [ -n "$yes" ] && steps=$((steps + 1)) && echo "doing: zfs set $p $name"
          [ -n "$yes" ] || run zfs set "$p" "$name"
        fi ;;
    esac
  done
}
# MOUNTPOINT
btrfs_subvolume() {
  [ -d "$1" ] || run btrfs subvolume create "$1"
}
# PATH UID GID MODE
folder() {
  if [ -L "$1" ]; then
    echo "$1 is a symlink: it stays, and so does what it leads to" >&2
    failed=$((failed + 1))
    return
  fi
  if [ ! -d "$1" ]; then
    run mkdir -p -- "$1"
    [ -n "$yes" ] || { run chown "$2:$3" "$1"; run chmod "$4" "$1"; return; }
  fi
  [ "$(stat -c %u:%g -- "$1")" = "$2:$3" ] || run chown "$2:$3" "$1"
  [ "$(stat -c %a -- "$1")" = "$4" ] || run chmod "$4" "$1"
}
# PATH ENTRIES: exactly these, as getfacl prints them
acl() {
  [ -n "$yes" ] || [ -d "$1" ] || { run setfacl --set "$(echo "$2" | tr '\n' , | sed 's/,$//')" "$1"; return; }
  now=$(getfacl -n -c -p -E -- "$1" 2>/dev/null | sed '/^$/d')
  [ "$now" = "$2" ] || run setfacl --set "$(echo "$2" | tr '\n' , | sed 's/,$//')" "$1"
}

"#;

const TAIL: &str = r#"
if [ "$steps" = 0 ]; then
  echo "everything is as the layout wants it"
elif [ -z "$yes" ]; then
  echo "$steps steps; run again with --yes to do them"
fi
[ "$failed" = 0 ]
"#;

/// The script of a host; nothing if the layout declares no dataset or folder there.
pub fn script(layout: &Layout, host: &Host, file: &str) -> Vec<Piece> {
    let folders: Vec<&Folder> = layout.folders.iter().filter(|f| f.host == host.name).collect();
    if folders.is_empty() && host.datasets.is_empty() {
        return Vec::new();
    }
    let source = Source { file };
    let mut out =
        format!("#!/bin/sh\n# Datasets and folders of {}, from {file}.\n{HEAD}", host.name);
    // Outer places come first.
    let mut places: Vec<&AbsPath> =
        host.datasets.iter().map(|d| &d.at).chain(folders.iter().map(|f| &f.path)).collect();
    places.sort();
    places.dedup();
    for place in places {
        for dataset in host.datasets.iter().filter(|dataset| dataset.at == *place) {
            let line = self::dataset(layout, host, dataset);
            if !line.is_empty() {
                out += &source.of(dataset.origin, &format!("dataset {}", dataset.name));
                out += &line;
            }
        }
        for folder in folders.iter().filter(|folder| folder.path == *place) {
            out += &source.of(folder.origin, &format!("folder {}", folder.path));
            out += &self::folder(layout, host, folder);
        }
    }
    out += TAIL;
    vec![Piece { name: format!("{}.sh", host.name), text: out, mode: 0o755 }]
}

fn quoted(text: &str) -> String {
    shell_quoted(text.as_bytes())
}

fn dataset(layout: &Layout, host: &Host, dataset: &Dataset) -> String {
    let at = shell_quoted(dataset.at.as_bytes());
    match dataset.filesystem.as_deref() {
        Some("zfs") => {
            let mut line = format!("zfs_dataset {} {at}", quoted(&dataset.name));
            for (name, value) in &dataset.properties {
                line += &format!(" {}", quoted(&format!("{name}={value}")));
            }
            if let Some(quota) = dataset.quota {
                line += &format!(" quota={}", zfs_size(quota));
            }
            line + "\n"
        }
        // The volume itself is a mount; only what lies in it is made here.
        Some("btrfs")
            if !layout.mounts.iter().any(|m| m.host == host.name && m.at == dataset.at) =>
        {
            format!("btrfs_subvolume {at}\n")
        }
        _ => String::new(),
    }
}

/// A size as `zfs get` prints it where it is a whole number of units, so that a second run finds nothing to do.
fn zfs_size(bytes: u64) -> String {
    let units = [("P", 50), ("T", 40), ("G", 30), ("M", 20), ("K", 10)];
    let whole =
        units.iter().find(|(_, shift)| bytes >= 1 << shift && bytes.is_multiple_of(1 << shift));
    whole.map_or_else(|| bytes.to_string(), |(unit, shift)| format!("{}{unit}", bytes >> shift))
}

fn folder(layout: &Layout, host: &Host, folder: &Folder) -> String {
    let path = shell_quoted(folder.path.as_bytes());
    let owner = folder.owner.as_deref().unwrap_or("root");
    let group = folder.group.as_deref().unwrap_or(owner);
    let (Some(owner), Some(group)) = (uid(host, owner), gid(host, group)) else {
        return format!("note {path}: the layout has no numbers for its owner and group\n");
    };
    let acl = acl_of(layout, host, folder, group);
    let mode = folder.mode.unwrap_or(0o755);
    // With an ACL the group bits of the mode are its mask.
    let mode = acl.as_ref().map_or(mode, |acl| mode & !0o070 | u16::from(acl.mask()) << 3);
    let mut line = format!("folder {path} {owner} {group} {mode:o}\n");
    if let Some(acl) = acl {
        let entries = acl.to_string();
        let all: Vec<String> = entries
            .split(',')
            .map(str::to_owned)
            .chain(entries.split(',').map(|entry| format!("default:{entry}")))
            .collect();
        line += &format!("acl {path} {}\n", quoted(&all.join("\n")));
    }
    line
}

/// The ACL that the rights of a folder, or of the nearest one above that has any, make on it. `None` where none says more
/// than the mode.
fn acl_of(layout: &Layout, host: &Host, folder: &Folder, group: u32) -> Option<Acl> {
    let above = layout.folders.iter().filter(|other| {
        other.host == host.name && !other.rights.is_empty() && folder.path.within(&other.path)
    });
    let rights = &above.max_by_key(|other| other.path.components().count())?.rights;
    let mode = folder.mode.unwrap_or(0o755);
    let bits = |shift: u16| (mode >> shift & 7) as u8;
    let perm = |right: Right| match right {
        Right::None => 0,
        Right::Read => 5,
        // Adding without changing is what a folder's bits can't tell apart.
        Right::Add | Right::Change => 7,
    };
    let mut entries = vec![AclEntry { tag: Tag::UserObj, perm: bits(6) | 7 }];
    let mut group_perm = bits(3);
    let (mut users, mut groups) = (Vec::new(), Vec::new());
    for (who, right) in rights {
        let perm = perm(*right);
        match who.strip_prefix('@') {
            Some(name) => match gid(host, name) {
                Some(gid) if gid == group => group_perm = perm,
                Some(gid) => groups.push((gid, perm)),
                None => {}
            },
            None => users
                .extend(uid(host, who).or_else(|| service_uid(layout, who)).map(|uid| (uid, perm))),
        }
    }
    users.sort_unstable();
    groups.sort_unstable();
    let mask = users.iter().chain(&groups).fold(group_perm, |mask, (_, perm)| mask | perm);
    entries.extend(users.iter().map(|&(uid, perm)| AclEntry { tag: Tag::User(uid), perm }));
    entries.push(AclEntry { tag: Tag::GroupObj, perm: group_perm });
    entries.extend(groups.iter().map(|&(gid, perm)| AclEntry { tag: Tag::Group(gid), perm }));
    entries.push(AclEntry { tag: Tag::Mask, perm: mask });
    entries.push(AclEntry { tag: Tag::Other, perm: bits(0) });
    Some(Acl::new(entries))
}

fn service_uid(layout: &Layout, name: &str) -> Option<u32> {
    match layout.service(name)?.runs_as {
        tarvek_core::layout::RunAs::Numbers(uid, _) => Some(uid),
        _ => None,
    }
}
