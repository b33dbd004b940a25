//! `systemd.mount(5)` and `systemd.automount(5)`.

use std::collections::HashMap;

use tarvek_core::facts::configured::{Fact, MountFact};
use tarvek_core::words::name::Name;
use tarvek_core::words::options::MountOptions;
use tarvek_core::words::spot::Spot;

use super::collect::Collect;
use super::ini::Unit;

/// The units of a host: what they mount, and what would be mounted without anybody asking.
#[derive(Default)]
pub(super) struct Units {
    mounts: Vec<(Spot, MountFact)>,
    /// Mount points of automounts, with whether they start at boot.
    automounts: HashMap<Vec<u8>, bool>,
}

impl Units {
    /// Takes one file.
    pub(super) fn take(&mut self, file: &Name, text: &str, out: &mut Collect) {
        out.open(file, text, "a unit");
        let unit = Unit::read(file, text, out);
        let boot = ["WantedBy", "RequiredBy", "UpheldBy"]
            .iter()
            .any(|key| unit.last("Install", key).is_some());
        if let Some(at) = unit.last("Automount", "Where") {
            self.automounts.insert(path(&at.value), boot);
            return;
        }
        let value = |key: &str| unit.last("Mount", key);
        let (Some(what), Some(at)) = (value("What"), value("Where")) else {
            let at = super::collect::spot(file, 1);
            return out.skip(&at, "a mount unit has What= and Where=");
        };
        let options = value("Options").map(|o| MountOptions::read(&specifiers(&o.value)));
        let source = unquoted(&specifiers(&what.value));
        let fact = MountFact {
            source: tarvek_core::words::secret::hidden(source.into_bytes()),
            at: path(&at.value),
            filesystem: value("Type").map_or("auto".into(), |kind| kind.value.as_str().into()),
            options: options.unwrap_or_default(),
            boot,
            mounted: false,
        };
        self.mounts.push((what.spot.clone(), fact));
    }

    /// Tells all of them, once all files have been taken.
    pub(super) fn tell(self, out: &mut Collect) {
        for (spot, mut mount) in self.mounts {
            if let Some(boot) = self.automounts.get(&mount.at) {
                mount.boot |= boot;
                // As fstab says it: nothing waits for the mount until somebody looks.
                mount.options = mount.options.iter().chain(["x-systemd.automount"]).collect();
            }
            out.fact(&spot, Fact::Mount(mount));
        }
    }
}

fn path(text: &str) -> Vec<u8> {
    let text = unquoted(&specifiers(text)).into_bytes();
    match text.strip_suffix(b"/") {
        Some(rest) if !rest.is_empty() => rest.to_vec(),
        _ => text,
    }
}

/// `%%` is a percent sign; what else stands for something is left as it is.
fn specifiers(text: &str) -> String {
    text.replace("%%", "%")
}

/// A value may stand in quotation marks, and have escapes of C (`systemd.syntax(7)`).
fn unquoted(text: &str) -> String {
    let inner = ['"', '\'']
        .iter()
        .find_map(|&quote| text.strip_prefix(quote)?.strip_suffix(quote))
        .unwrap_or(text);
    let mut plain = Vec::with_capacity(inner.len());
    let mut bytes = inner.bytes().peekable();
    while let Some(byte) = bytes.next() {
        let digits = |rest: &[u8]| {
            std::str::from_utf8(rest).ok().and_then(|d| u8::from_str_radix(d, 16).ok())
        };
        match (byte, bytes.peek()) {
            (b'\\', Some(b'x')) => {
                bytes.next();
                let pair: Vec<u8> = bytes.by_ref().take(2).collect();
                match digits(&pair) {
                    Some(byte) => plain.push(byte),
                    None => {
                        plain.extend_from_slice(b"\\x");
                        plain.extend(pair);
                    }
                }
            }
            (b'\\', Some(&next)) => {
                bytes.next();
                plain.push(match next {
                    b'n' => b'\n',
                    b't' => b'\t',
                    b's' => b' ',
                    other => other,
                });
            }
            (byte, _) => plain.push(byte),
        }
    }
    String::from_utf8_lossy(&plain).into_owned()
}
