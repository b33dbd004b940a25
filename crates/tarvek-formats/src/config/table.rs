//! Tables of mounts: `fstab(5)`, `/proc/mounts`, `/proc/PID/mountinfo`, and what `mount(8)` prints.

use tarvek_core::facts::configured::{Fact, MountFact};
use tarvek_core::words::name::Name;
use tarvek_core::words::options::MountOptions;

use super::collect::{Collect, number, spot};
use crate::escape::unescape;
use crate::{fstab, mountinfo};

/// Reads `fstab`.
pub(super) fn fstab(file: &Name, bytes: &[u8], out: &mut Collect) {
    out.open(file, &String::from_utf8_lossy(bytes), "fstab");
    for (n, line) in bytes.split(|&b| b == b'\n').enumerate() {
        let at = spot(file, number(n));
        let Some(line) = fstab::line(line) else { continue };
        let entry = match line {
            Ok((entry, fields)) => {
                if fields < 6 {
                    let count = ["no", "one", "two", "three", "four", "five"][fields];
                    let zeros = "mount(8) takes the others as defaults";
                    out.skip(&at, format!("it has {count} fields, and needs six; {zeros}"));
                }
                entry
            }
            Err(why) => {
                out.skip(&at, why);
                continue;
            }
        };
        let automount = entry.options.has("x-systemd.automount");
        let fact = MountFact {
            boot: automount || !entry.options.has("noauto"),
            source: entry.source.raw().as_bytes().to_vec(),
            at: entry.at,
            filesystem: entry.filesystem,
            options: entry.options,
            mounted: false,
        };
        out.fact(&at, Fact::Mount(fact));
    }
}

/// Reads `/proc/mounts`.
pub(super) fn mounts(file: &Name, bytes: &[u8], out: &mut Collect) {
    out.open(file, &String::from_utf8_lossy(bytes), "a mount table");
    for (n, line) in bytes.split(|&b| b == b'\n').enumerate() {
        if let Some(Ok((entry, _))) = fstab::line(line) {
            let fact = MountFact {
                source: entry.source.raw().as_bytes().to_vec(),
                at: entry.at,
                filesystem: entry.filesystem,
                options: entry.options,
                boot: false,
                mounted: true,
            };
            out.fact(&spot(file, number(n)), Fact::Mount(fact));
        }
    }
}

/// Reads `/proc/PID/mountinfo`.
pub(super) fn mountinfo(file: &Name, bytes: &[u8], out: &mut Collect) {
    out.open(file, &String::from_utf8_lossy(bytes), "a mount table");
    for (n, line) in bytes.split(|&b| b == b'\n').enumerate() {
        let at = spot(file, number(n));
        if line.is_empty() {
            continue;
        }
        match mountinfo::line(line) {
            Ok(entry) => {
                let both = entry.options.iter().chain(entry.super_options.iter());
                let mut options: Vec<&str> = Vec::new();
                for option in both {
                    if !options.contains(&option) {
                        options.push(option);
                    }
                }
                // Of a superblock and a mount the stricter counts.
                if options.contains(&"ro") {
                    options.retain(|option| *option != "rw");
                }
                let fact = MountFact {
                    source: entry.source.clone(),
                    at: entry.point.as_bytes().to_vec(),
                    filesystem: entry.filesystem.clone(),
                    options: options.into_iter().collect::<MountOptions>(),
                    boot: false,
                    mounted: true,
                };
                out.fact(&at, Fact::Mount(fact));
            }
            Err(why) => out.skip(&at, why),
        }
    }
}

/// Reads `SOURCE on AT type TYPE (OPTIONS)`, or `SOURCE on AT (TYPE, OPTIONS)` as other systems
/// print it.
pub(super) fn printed(file: &Name, text: &str, out: &mut Collect) {
    out.open(file, text, "a mount table");
    for (n, line) in text.lines().enumerate() {
        let at = spot(file, number(n));
        if line.trim().is_empty() {
            continue;
        }
        match printed_line(line) {
            Some(fact) => out.fact(&at, Fact::Mount(fact)),
            None => out.skip(&at, "it is no line that mount(8) prints"),
        }
    }
}

/// A line that `mount(8)` prints.
pub(super) fn printed_line(line: &str) -> Option<MountFact> {
    let (before, options) = line.trim_end().strip_suffix(')')?.rsplit_once(" (")?;
    let (source, rest) = before.split_once(" on ")?;
    let (at, filesystem, options) = match rest.rsplit_once(" type ") {
        Some((at, filesystem)) => (at, filesystem, options),
        None => {
            let (filesystem, options) = options.split_once(',').unwrap_or((options, ""));
            (rest, filesystem.trim(), options)
        }
    };
    let source = tarvek_core::words::secret::hide(source);
    Some(MountFact {
        source: unescape(source.as_bytes()),
        at: unescape(at.as_bytes()),
        filesystem: filesystem.into(),
        options: MountOptions::read(options),
        boot: false,
        mounted: true,
    })
}
