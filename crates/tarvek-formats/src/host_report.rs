//! What the documents of a host say, in the core's terms: how full its filesystems are (`df(1)`),
//! properties of ZFS datasets (`zfs-get(8)`), the shares of an SMB server (`testparm(1)`),
//! subordinate ids (`subuid(5)`), and what could not be collected.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use tarvek_core::facts::configured::Configuration;
use tarvek_core::facts::host::Document;
use tarvek_core::facts::host_report::{
    Beneath, Capacity, HostReport, Listening, Property, Subvolume, SubvolumeLimit,
};
use tarvek_core::facts::mounts::MountTable;
use tarvek_core::words::path::AbsPath;

use crate::escape::unescape;
use crate::{config, process};

/// Reads what can be read; lines that are none of their kind are passed over.
pub fn read(documents: &[Document], mounts: Option<&MountTable>) -> HostReport {
    let text = |name: &str| {
        let document = documents.iter().find(|document| document.name == *name);
        document.map_or("", |document| document.text.as_str())
    };
    HostReport {
        capacities: text("capacity").lines().skip(1).filter_map(capacity).collect(),
        beneath: text("beneath").lines().filter_map(beneath).collect(),
        subvolumes: subvolumes(text("btrfs")),
        subvolume_limits: subvolume_limits(text("btrfs")),
        properties: text("zfs").lines().filter_map(property).collect(),
        subordinate_uids: text("subuid").lines().filter_map(crate::accounts::subordinate).collect(),
        subordinate_gids: text("subgid").lines().filter_map(crate::accounts::subordinate).collect(),
        listening: text("ports").lines().filter_map(listening).collect(),
        configured: configured(documents, mounts),
        sysctls: text("sysctl").lines().filter_map(sysctl).collect(),
        lacking: text("lacking").lines().filter_map(lacking).collect(),
    }
}

/// What the host's configuration says, and what runs in mounts of its own.
fn configured(documents: &[Document], mounts: Option<&MountTable>) -> Configuration {
    let mut configured = config::of_documents(documents);
    let processes = documents.iter().find(|document| document.name == "processes");
    if let (Some(document), Some(host)) = (processes, mounts) {
        let running = process::read(&document.text);
        configured.facts.extend(running.iter().flat_map(|running| running.facts(host)));
    }
    configured
}

/// A line of `df -kP` (POSIX): `/dev/sdb1 1048576 91000 9000 91% /loft`. A mount point with spaces
/// can't be told from the columns before it.
fn capacity(line: &str) -> Option<Capacity> {
    let mut words = line.split_whitespace().rev();
    let point = AbsPath::new(words.next()?.as_bytes()).ok()?;
    let _percent = words.next()?;
    let mut bytes = || words.next()?.parse::<u64>().ok()?.checked_mul(1024);
    let available = bytes()?;
    Some(Capacity { point, available, used: bytes()? })
}

/// `/mnt/granary/media 3 12288`: a mount point, escaped, entries beneath it, and bytes; `more`
/// follows where there are more.
fn beneath(line: &str) -> Option<Beneath> {
    let fields: Vec<&str> = line.split(' ').collect();
    let (point, entries, bytes, more) = match fields[..] {
        [point, entries, bytes] => (point, entries, bytes, false),
        [point, entries, bytes, "more"] => (point, entries, bytes, true),
        _ => return None,
    };
    let point = AbsPath::new(&unescape(point.as_bytes())).ok()?;
    Some(Beneath { point, entries: entries.parse().ok()?, bytes: bytes.parse().ok()?, more })
}

/// What `btrfs subvolume list` prints, and once more those that are read-only, under a comment with
/// the mount point.
fn subvolumes(text: &str) -> Vec<Subvolume> {
    let mut subvolumes = Vec::new();
    let (mut point, mut read_only) = (None, false);
    for line in text.lines() {
        if let Some(about) = line.strip_prefix("# ") {
            read_only = about.ends_with(" read-only");
            let written = about.split(' ').next().unwrap_or_default();
            point = AbsPath::new(&unescape(written.as_bytes())).ok();
        } else if let (Some(point), Some(path)) = (&point, subvolume_path(line)) {
            subvolumes.push(Subvolume { point: point.clone(), path, read_only });
        }
    }
    subvolumes
}

/// The path in `ID 256 top level 5 path films/old`.
fn subvolume_path(line: &str) -> Option<AbsPath> {
    let words: Vec<&str> = line.split_whitespace().collect();
    let ["ID", _, "top", "level", _, "path", ..] = words.as_slice() else { return None };
    let (_, path) = line.split_once(" path ")?;
    Some(AbsPath::root().join(path.as_bytes()))
}

/// The limits in what `btrfs subvolume list` and `btrfs qgroup show -re --raw` print, each under a
/// comment with the mount point.
fn subvolume_limits(text: &str) -> Vec<SubvolumeLimit> {
    let mut limits = Vec::new();
    let (mut point, mut paths, mut quota) = (None, Vec::new(), false);
    for line in text.lines() {
        if let Some(about) = line.strip_prefix("# ") {
            quota = about.ends_with(" quota");
            let written = about.split(' ').next().unwrap_or_default();
            let new = AbsPath::new(&unescape(written.as_bytes())).ok();
            if new != point {
                (point, paths) = (new, vec![("5", AbsPath::root())]);
            }
            continue;
        }
        let words: Vec<&str> = line.split_whitespace().collect();
        match (quota, words.as_slice()) {
            (false, ["ID", id, ..]) => {
                paths.extend(subvolume_path(line).map(|path| (*id, path)));
            }
            (true, [group, referenced, exclusive, most_referenced, most_exclusive, ..]) => {
                let id = group.strip_prefix("0/").unwrap_or_default();
                let path = paths.iter().find(|(known, _)| *known == id).map(|(_, path)| path);
                let (Some(point), Some(subvolume)) = (&point, path) else { continue };
                for (used, limit) in [(referenced, most_referenced), (exclusive, most_exclusive)] {
                    if let (Ok(used), Ok(limit)) = (used.parse(), limit.parse()) {
                        let (point, subvolume) = (point.clone(), subvolume.clone());
                        limits.push(SubvolumeLimit { point, subvolume, used, limit });
                    }
                }
            }
            _ => {}
        }
    }
    limits
}

/// A line of `zfs get -H`: dataset, property, value, and more, separated by tabs.
fn property(line: &str) -> Option<Property> {
    let mut words = line.split('\t');
    let (dataset, name) = (words.next()?.into(), words.next()?.to_owned());
    Some(Property { dataset, name, value: words.next()?.into() })
}

/// `tcp 7080 00000000 uid=0 by=lantern`: the address is that of `/proc/net`, in hexadecimal, a word
/// of four bytes after another as the machine has them (`proc_pid_net(5)`).
fn listening(line: &str) -> Option<Listening> {
    let fields: Vec<&str> = line.trim().splitn(5, ' ').collect();
    let [protocol, number, address, _, by] = fields[..] else { return None };
    let program = by.strip_prefix("by=").filter(|by| *by != "-" && !by.is_empty());
    let words = address.as_bytes().chunks(8).map(|word| {
        u32::from_str_radix(std::str::from_utf8(word).ok()?, 16).ok().map(u32::swap_bytes)
    });
    let words: Vec<u32> = words.collect::<Option<_>>()?;
    let address: IpAddr = match words[..] {
        [v4] => Ipv4Addr::from_bits(v4).into(),
        [a, b, c, d] => {
            let whole = [a, b, c, d].iter().fold(0u128, |all, word| all << 32 | u128::from(*word));
            let v6 = Ipv6Addr::from_bits(whole);
            v6.to_ipv4_mapped().map_or(IpAddr::V6(v6), IpAddr::V4)
        }
        _ => return None,
    };
    Some(Listening {
        protocol: protocol.trim_end_matches('6').to_owned(),
        address: (!address.is_unspecified()).then(|| address.to_string()),
        number: number.parse().ok()?,
        program: program.map(Into::into),
    })
}

/// `fs.protected_symlinks = 1`, as `sysctl(8)` prints it.
fn sysctl(line: &str) -> Option<(String, i64)> {
    let (name, value) = line.split_once('=')?;
    Some((name.trim().to_owned(), value.trim().parse().ok()?))
}

/// `acl: there is no getfacl`.
fn lacking(line: &str) -> Option<(String, tarvek_core::words::name::Name)> {
    let (what, why) = line.split_once(": ")?;
    Some((what.to_owned(), why.into()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use tarvek_core::facts::configured::{Configured, Fact};

    fn report_of(name: &str, text: &str) -> HostReport {
        read(&[Document::new(name, text.as_bytes())], None)
    }

    #[test]
    fn subvolumes_are_listed_and_those_that_are_read_only_once_more() {
        let text = "# /loft\nID 256 top level 5 path media\nID 257 top level 5 path kept films\n\
                    # /loft read-only\nID 257 top level 5 path kept films\n\
                    # /loft quota\n0/257 1 1 none none\n";
        let subvolumes = report_of("btrfs", text).subvolumes;
        let told = |s: &Subvolume| format!("{}:{} {}", s.point, s.path, s.read_only);
        let told: Vec<String> = subvolumes.iter().map(told).collect();
        let expected = ["/loft:/media false", "/loft:/kept films false", "/loft:/kept films true"];
        assert_eq!(told, expected);
    }

    #[test]
    fn limits_belong_to_the_subvolumes_of_their_filesystem() {
        let text = "# /loft\\040x\nID 256 top level 5 path media/a b\n# /loft\\040x read-only\n# \
                    /loft\\040x quota\n\
                    Qgroupid    Referenced    Exclusive  Max referenced  Max exclusive   Path\n\
                    --------    ----------    ---------  --------------  -------------   ----\n\
                    0/5              16384        16384            none           none   \
                    <toplevel>\n\
                    0/256            16384        16384        52428800           none   media/a \
                    b\n\
                    # /attic\n# /attic quota\n0/256 1 1 2 none\n0/5 7 7 none 9\n";
        let limits = report_of("btrfs", text).subvolume_limits;
        let limit = |point: &str, subvolume: &str, used, limit| SubvolumeLimit {
            point: AbsPath::new(point.as_bytes()).unwrap(),
            subvolume: AbsPath::new(subvolume.as_bytes()).unwrap(),
            used,
            limit,
        };
        let expected =
            [limit("/loft x", "/media/a b", 16384, 52_428_800), limit("/attic", "/", 7, 9)];
        assert_eq!(limits, expected);
    }

    #[test]
    fn what_lies_beneath_a_mount_point_is_read_by_its_line() {
        let lines =
            "/mnt/a\\040b 3 12288\n/mnt/c 100000 5 more\nmnt 1 1\n/mnt/d 1\n/mnt/e 1 1 less\n";
        let point = |path: &[u8]| AbsPath::new(path).unwrap();
        let expected = [
            Beneath { point: point(b"/mnt/a b"), entries: 3, bytes: 12288, more: false },
            Beneath { point: point(b"/mnt/c"), entries: 100_000, bytes: 5, more: true },
        ];
        assert_eq!(report_of("beneath", lines).beneath, expected);
    }

    #[test]
    fn each_document_is_read_as_its_tool_writes_it() {
        let df = "Filesystem 1024-blocks Used Available Capacity Mounted on\n/dev/sdb1 100 91 9 \
                  91% /loft\ntmpfs - - - - /run\nx";
        let capacity = |point: &str, used, available| Capacity {
            point: AbsPath::new(point.as_bytes()).unwrap(),
            used,
            available,
        };
        assert_eq!(report_of("capacity", df).capacities, [capacity("/loft", 91 << 10, 9 << 10)]);
        let zfs = report_of(
            "zfs",
            "loft/media\tatime\toff\tlocal\nloft/media\trecordsize\nloft\tatime\ton\t-\n",
        );
        assert_eq!(zfs.properties.len(), 2);
        assert_eq!(zfs.property(&"loft".into(), "atime"), Some(&"on".into()));
        assert_eq!(zfs.property(&"loft".into(), "xattr"), None);
        let smb = report_of(
            "smb",
            "[global]\n\tworkgroup = X\n[Media]\n\tcomment = path = /no\n\tpath = /loft/media\n\
             [x]\n",
        );
        let [Configured { fact: Fact::Share(share), .. }] = smb.configured.facts.as_slice() else {
            panic!("{smb:?}")
        };
        assert_eq!((share.name.raw(), share.path.as_slice()), ("Media", &b"/loft/media"[..]));
        let exports = "# /etc/exports\n/loft/media *(rw)\n# /etc/exports.d/more.exports\n# x\n\
                       /loft/b 10.0.0.0/8(ro,all_squash)\n";
        let exports = report_of("exports", exports).configured.facts;
        let spots: Vec<String> = exports.iter().map(|found| found.spot.to_string()).collect();
        assert_eq!(spots, ["/etc/exports:1", "/etc/exports.d/more.exports:2"]);
        let ids = report_of("subuid", "lantern:100000:65536\n# no\n1101:1:x\n1101:500000:10\n");
        assert_eq!(ids.subordinate_uids.len(), 2);
        assert_eq!(ids.subordinate_gids, []);
        let ports = "tcp 7080 0100007F uid=0 by=a b\nudp6 53 00000000000000000000000000000000 \
                     uid=1 by=-\n\
                     tcp6 80 0000000000000000FFFF00000714000A uid=1 by=x\nodd\n";
        let ports = report_of("ports", ports).listening;
        let line = |port: &Listening| {
            format!("{} {:?} {} {:?}", port.protocol, port.address, port.number, port.program)
        };
        let lines: Vec<String> = ports.iter().map(line).collect();
        assert_eq!(
            lines,
            [
                "tcp Some(\"127.0.0.1\") 7080 Some(\"a b\")",
                "udp None 53 None",
                "tcp Some(\"10.0.20.7\") 80 Some(\"x\")"
            ]
        );
        let lacking = report_of("lacking", "acl: there is no getfacl\nodd\n");
        assert_eq!(lacking.lacks("acl"), Some(&"there is no getfacl".into()));
        assert_eq!(lacking.lacks("zfs"), None);
    }
}
