//! Which parts of a layout were adopted from configuration, and where each stands there.
//!
//! A part goes by a key: what it is and the names that tell it from others. A key without its part is one that somebody took out.

use std::collections::{BTreeMap, HashMap};

use crate::words::name::Name;
use crate::words::path::AbsPath;
use crate::words::spot::Spot;

/// Where the parts of a layout were adopted from.
#[derive(Clone, Debug, Default, PartialEq)]
pub struct Adopted {
    /// By the key of each part.
    pub parts: BTreeMap<String, Spot>,
    /// The same by the line of the layout in which the part begins.
    pub lines: HashMap<u32, Spot>,
}

impl Adopted {
    /// The place that a line of the layout was adopted from.
    pub fn of_line(&self, line: u32) -> Option<&Spot> {
        self.lines.get(&line)
    }
}

/// A path as a key has it.
pub fn text(path: &AbsPath) -> String {
    String::from_utf8_lossy(path.as_bytes()).into_owned()
}

/// The key of a host, which is a system container.
pub fn host(name: &Name) -> String {
    format!("host {}", name.raw())
}

/// The key of what a host or service sees under a path.
pub fn map(of: &str, to: &Name) -> String {
    format!("{of} map {}", to.raw())
}

/// The key of a dataset, account, group or folder of a host.
pub fn of_host(kind: &str, host: &Name, name: &str) -> String {
    format!("{kind} {} {name}", host.raw())
}

/// The key of a share.
pub fn share(name: &Name) -> String {
    format!("share {}", name.raw())
}

/// The key of an export of a share.
pub fn export(share: &Name, clients: &Name) -> String {
    format!("share {} nfs {}", share.raw(), clients.raw())
}

/// The key of a mount.
pub fn mount(host: &Name, at: &str) -> String {
    of_host("mount", host, at)
}

/// The key of a service.
pub fn service(name: &Name) -> String {
    format!("service {}", name.raw())
}

/// The key of a port of a service.
pub fn port(service: &Name, port: &str) -> String {
    format!("service {} port {port}", service.raw())
}
