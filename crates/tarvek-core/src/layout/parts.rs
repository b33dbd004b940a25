//! The parts of a layout.

use std::collections::HashMap;

use crate::layout::mapping::Mapping;
use crate::layout::site::Layout;
use crate::words::part::{MappedInto, Part};

impl Layout {
    /// Every part of it that configuration can be adopted into, with the line in which it begins; 0
    /// where that is not known.
    pub fn parts(&self) -> Vec<(Part, u32)> {
        let mut parts = Vec::new();
        // Going through them all and keeping each tells which there are.
        self.clone().retain_parts(|part, line| {
            parts.push((part, line));
            true
        });
        parts
    }

    /// Keeps of its parts those that `keep` says, asked from the outer to the inner ones, each with
    /// its line. What is in a part that goes is asked about all the same.
    pub fn retain_parts(&mut self, mut keep: impl FnMut(Part, u32) -> bool) {
        self.hosts.retain_mut(|host| {
            let name = host.name.clone();
            let stays = keep(Part::Host(name.clone()), host.origin.line);
            let of = MappedInto::Host(name.clone());
            retain_maps(&mut host.map, &of, &mut keep);
            host.datasets.retain(|dataset| {
                let part = Part::Dataset { host: name.clone(), name: dataset.name.clone() };
                keep(part, dataset.origin.line)
            });
            host.accounts.retain(|account| {
                keep(Part::Account { host: name.clone(), name: account.name.clone() }, 0)
            });
            host.groups.retain(|group| {
                keep(Part::Group { host: name.clone(), name: group.name.clone() }, 0)
            });
            stays
        });
        self.folders
            .retain(|folder| keep(Part::folder(&folder.host, &folder.path), folder.origin.line));
        self.shares.retain_mut(|share| {
            let name = share.name.clone();
            let stays = keep(Part::Share(name.clone()), share.origin.line);
            share.nfs.retain(|export| {
                let part = Part::Export { share: name.clone(), clients: export.clients.clone() };
                keep(part, share.origin.line)
            });
            stays
        });
        self.mounts.retain(|mount| keep(Part::mount(&mount.host, &mount.at), mount.origin.line));
        self.services.retain_mut(|service| {
            let name = service.name.clone();
            let stays = keep(Part::Service(name.clone()), service.origin.line);
            let of = MappedInto::Service(name.clone());
            if let Some(maps) = &mut service.map {
                retain_maps(maps, &of, &mut keep);
            }
            service.ports.retain(|port| {
                let part = Part::Port { service: name.clone(), port: port.as_str().into() };
                keep(part, service.origin.line)
            });
            stays
        });
    }

    /// Finds the lines of the parts that were adopted.
    pub fn place_adopted(&mut self) {
        if self.adopted.parts.is_empty() {
            return;
        }
        let mut lines = HashMap::new();
        for (part, line) in self.parts().into_iter().filter(|(_, line)| *line > 0) {
            if let Some(spot) = self.adopted.parts.get(&part) {
                // A part of a part may stand in its line.
                lines.entry(line).or_insert_with(|| spot.clone());
            }
        }
        self.adopted.lines = lines;
    }
}

fn retain_maps(maps: &mut Vec<Mapping>, of: &MappedInto, keep: &mut impl FnMut(Part, u32) -> bool) {
    maps.retain(|map| {
        let part = Part::Mapping { of: of.clone(), to: map.to.written.clone() };
        keep(part, map.origin.line)
    });
}
