//! The parts of a layout by the keys under which they are adopted.

use std::collections::HashMap;

use super::adopted::{export, host, map, mount, of_host, port, service, share, text};
use crate::layout::site::Layout;
use crate::words::name::Name;

impl Layout {
    /// Every part of it by its key, with the line in which it begins; 0 where that is not known.
    pub fn parts(&self) -> Vec<(String, u32)> {
        let mut parts = Vec::new();
        for of in &self.hosts {
            parts.push((host(&of.name), of.origin.line));
            let key = host(&of.name);
            parts.extend(of.map.iter().map(|m| (map(&key, &m.to.written), m.origin.line)));
            for dataset in &of.datasets {
                let key = of_host("dataset", &of.name, dataset.name.raw());
                parts.push((key, dataset.origin.line));
            }
            let named = |kind, name: &Name| (of_host(kind, &of.name, name.raw()), 0);
            parts.extend(of.accounts.iter().map(|account| named("account", &account.name)));
            parts.extend(of.groups.iter().map(|group| named("group", &group.name)));
        }
        for folder in &self.folders {
            let key = of_host("folder", &folder.host, &text(&folder.path));
            parts.push((key, folder.origin.line));
        }
        for of in &self.shares {
            parts.push((share(&of.name), of.origin.line));
            parts.extend(of.nfs.iter().map(|nfs| (export(&of.name, &nfs.clients), of.origin.line)));
        }
        for of in &self.mounts {
            parts.push((mount(&of.host, &text(&of.at)), of.origin.line));
        }
        for of in &self.services {
            let key = service(&of.name);
            parts.push((key.clone(), of.origin.line));
            parts.extend(of.maps().iter().map(|m| (map(&key, &m.to.written), m.origin.line)));
            parts.extend(of.ports.iter().map(|p| (port(&of.name, p), of.origin.line)));
        }
        parts
    }

    /// Finds the lines of the parts that were adopted.
    pub fn place_adopted(&mut self) {
        if self.adopted.parts.is_empty() {
            return;
        }
        let mut lines = HashMap::new();
        for (key, line) in self.parts().into_iter().filter(|(_, line)| *line > 0) {
            if let Some(spot) = self.adopted.parts.get(&key) {
                // A part of a part may stand in its line.
                lines.entry(line).or_insert_with(|| spot.clone());
            }
        }
        self.adopted.lines = lines;
    }
}
