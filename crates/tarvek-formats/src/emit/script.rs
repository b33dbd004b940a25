//! A POSIX shell script that makes a host's datasets and folders, with their owners, modes and
//! ACLs.

use tarvek_core::kernel::acl::{AclEntry, Tag, perm_text};
use tarvek_core::layout::folder::Folder;
use tarvek_core::layout::host::{Dataset, Host};
use tarvek_core::layout::rights;
use tarvek_core::layout::site::Layout;
use tarvek_core::words::name::Name;
use tarvek_core::words::path::AbsPath;
use tarvek_core::words::text::shell_quoted;

use super::piece::{Emitted, Piece, Source, say, text};
use super::quote::{self, comment};

const HEAD: &str = r#"# Without --yes it only says what it would do. What is there already is brought in line as far as the layout speaks of it, its
# contents are never touched, and running it twice does nothing the second time. Run it as root.
set -u
yes=
case ${1-} in
  --yes) yes=1 ;;
  '') ;;
  *) echo "usage: sh $0 [--yes]" >&2; exit 2 ;;
esac
steps=0
failed=0
# What datasets would be made of, so that nobody is told to make a folder there too.
made=
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
  there=1
  if ! zfs list -H -o name "$name" >/dev/null 2>&1; then
    there=
    fixed=
    for p; do
      # What can be chosen only when a dataset is made.
      case $p in casesensitivity=* | normalization=* | utf8only=*) fixed="$fixed -o $p" ;; esac
    done
    # shellcheck disable=SC2086
    run zfs create $fixed -o "mountpoint=$at" "$name"
    [ -n "$yes" ] || made="$made|$at|"
  fi
  for p; do zfs_property "$name" "$p"; done
}
# NAME PROPERTY=VALUE
zfs_property() {
  now=
  if [ -n "$there$yes" ]; then
    now=$(zfs get -H -o value "${2%%=*}" "$1" 2>/dev/null) || { note "this ZFS has no ${2%%=*}"; return; }
  fi
  [ "$now" = "${2#*=}" ] && return
  case $2 in
    casesensitivity=* | normalization=* | utf8only=*)
      case $now in
        '' | -) ;;
        *) note "$1 was made with ${2%%=*}=$now; only a new dataset can have ${2#*=}" ;;
      esac ;;
    *)
      if [ -z "$yes" ]; then
        run zfs set "$2" "$1"
      elif zfs set "$2" "$1" 2>/dev/null; then
        steps=$((steps + 1))
        echo "doing: zfs set $2 $1"
      else
        note "$1 can't be given $2"
      fi ;;
  esac
}
# MOUNTPOINT
btrfs_subvolume() {
  [ ! -d "$1" ] || return 0
  run btrfs subvolume create "$1"
  [ -n "$yes" ] || made="$made|$1|"
}
# PATH UID GID MODE [acl]: a dash for what the layout says nothing of, which then stays as it is. With an ACL the group bits of
# the mode are its mask, and no business of this.
folder() {
  if [ -L "$1" ]; then
    echo "$1 is a symlink: it stays, and so does what it leads to" >&2
    failed=$((failed + 1))
    return
  fi
  if [ ! -d "$1" ]; then
    case $made in *"|$1|"*) ;; *) run mkdir -p -- "$1" ;; esac
    if [ -z "$yes" ]; then
      [ "$2" = - ] || run chown "$2" "$1"
      [ "$3" = - ] || run chgrp "$3" "$1"
      [ "$4" = - ] || run chmod "$4" "$1"
      return
    fi
  fi
  [ "$2" = - ] || [ "$(stat -c %u -- "$1")" = "$2" ] || run chown "$2" "$1"
  [ "$3" = - ] || [ "$(stat -c %g -- "$1")" = "$3" ] || run chgrp "$3" "$1"
  [ "$4" != - ] || return 0
  kept=07777
  [ -z "${5-}" ] || kept=07707
  now=$(stat -c %a -- "$1")
  [ $((0$now & kept)) = $((0$4 & kept)) ] || run chmod "$4" "$1"
}
# PATH MASK ENTRIES: these, and the same for what is made in there; others stay
acl() {
  now=$(getfacl -n -c -p -E -- "$1" 2>/dev/null)
  lacking=
  all=
  for entry in $(printf '%s\n' "$3" | tr , ' '); do
    for entry in "$entry" "default:$entry"; do
      all=$all,$entry
      printf '%s\n' "$now" | grep -qxF -- "$entry" || lacking=$lacking,$entry
    done
  done
  # A mask that cuts what is declared is worked out again from all entries.
  for mask in $(printf '%s\n' "$now" | sed -n 's/^default:mask:://p; s/^mask:://p'); do
    for bit in r w x; do
      case $2 in *$bit*) case $mask in *$bit*) ;; *) lacking=$all ;; esac ;; esac
    done
  done
  [ -z "$lacking" ] || run setfacl -m "${lacking#,}" "$1"
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
pub fn script(layout: &Layout, host: &Host, file: &str) -> Emitted {
    let folders: Vec<&Folder> = layout.folders.iter().filter(|f| f.host == host.name).collect();
    if folders.is_empty() && host.datasets.is_empty() {
        return Ok(Vec::new());
    }
    let datasets = host.datasets.iter().map(|dataset| (dataset.origin, &dataset.at));
    for (origin, path) in datasets.chain(folders.iter().map(|folder| (folder.origin, &folder.path)))
    {
        // What it does it also says, on a terminal.
        let path = text(path);
        say(origin, &path, quote::seen(&path))?;
    }
    let source = Source { file };
    let about = comment(&format!("Datasets and folders of {}, from {file}.", host.name));
    let mut out = format!("#!/bin/sh\n# {about}\n{HEAD}");
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
    Ok(vec![Piece { name: format!("{}.sh", host.name.raw()), text: out, mode: 0o755 }])
}

fn quoted(text: &str) -> String {
    shell_quoted(text.as_bytes())
}

fn dataset(layout: &Layout, host: &Host, dataset: &Dataset) -> String {
    let at = shell_quoted(dataset.at.as_bytes());
    match dataset.filesystem.as_ref().map(Name::raw) {
        Some("zfs") => {
            let mut line = format!("zfs_dataset {} {at}", quoted(dataset.name.raw()));
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

/// A size as `zfs get` prints it where it is a whole number of units, so that a second run finds
/// nothing to do.
fn zfs_size(bytes: u64) -> String {
    let units = [("P", 50), ("T", 40), ("G", 30), ("M", 20), ("K", 10)];
    let whole =
        units.iter().find(|(_, shift)| bytes >= 1 << shift && bytes.is_multiple_of(1 << shift));
    whole.map_or_else(|| bytes.to_string(), |(unit, shift)| format!("{}{unit}", bytes >> shift))
}

fn folder(layout: &Layout, host: &Host, folder: &Folder) -> String {
    let path = shell_quoted(folder.path.as_bytes());
    let number = |said: Option<Option<u32>>| match said {
        None => Some("-".to_owned()),
        Some(number) => Some(number?.to_string()),
    };
    let owner = number(folder.owner.as_ref().map(|owner| host.uid_of(owner)));
    // Who owns a folder owns it with the account's own group, unless another one is named.
    let group = folder.group.as_ref().or(folder.owner.as_ref());
    let group = number(group.map(|group| host.gid_of(group)));
    let (Some(owner), Some(group)) = (owner, group) else {
        return format!("note {path}: the layout has no numbers for its owner and group\n");
    };
    let acl = rights::acl(layout, host, folder);
    let mode = folder.mode.map_or_else(
        || "-".to_owned(),
        |mode| {
            let mask = acl.as_ref().map(|acl| u16::from(acl.mask()) << 3);
            format!("{:o}", mask.map_or(mode, |mask| mode & !0o070 | mask))
        },
    );
    let Some(acl) = acl else { return format!("folder {path} {owner} {group} {mode}\n") };
    // Of the entries that every ACL has only those that the layout speaks of.
    let own_group = rights::of_own_group(layout, host, folder);
    let declared = |entry: &&AclEntry| match entry.tag {
        Tag::Mask => false,
        Tag::UserObj | Tag::Other => folder.mode.is_some(),
        Tag::GroupObj => folder.mode.is_some() || own_group,
        Tag::User(_) | Tag::Group(_) => true,
    };
    let entries: Vec<String> =
        acl.entries().iter().filter(declared).map(ToString::to_string).collect();
    format!(
        "folder {path} {owner} {group} {mode} acl\nacl {path} {} {}\n",
        perm_text(acl.mask()),
        quoted(&entries.join(","))
    )
}
