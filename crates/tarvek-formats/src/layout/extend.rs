//! A layout with what was adopted added to it: what stands in it stays as it is, comments and order
//! included.

use std::collections::{HashMap, HashSet};

use tarvek_core::adopt::Adoption;
use tarvek_core::layout::host::Host;
use tarvek_core::layout::mapping::MapSource;
use tarvek_core::layout::mount::MountSource;
use tarvek_core::layout::service::Service;
use tarvek_core::layout::share::Share;
use tarvek_core::layout::site::Layout;
use tarvek_core::words::name::Name;
use tarvek_core::words::part::Part;
use tarvek_core::words::spot::Spot;
use tarvek_core::words::terms::Protocol;
use toml_edit::{Array, DocumentMut, Item, Table, TableLike, Value};

use super::document::{Parts, as_before, push};
use super::raw::{RawAccount, RawDataset, RawExport, RawIdRange, RawMapping};
use super::write::{append_parts, in_lines, inline, value_of, write};
use crate::mistake::Refused;

/// A layout after something was added.
#[derive(Debug)]
pub struct Extended {
    pub text: String,
    /// The parts that were added.
    pub added: HashSet<Part>,
    /// What no layout can hold, with the reason.
    pub left: Vec<(Spot, String)>,
}

/// Adds to a layout what it has not, and has not had: `before` is its text, and the layout that
/// this text is.
///
/// # Errors
/// Everything that would be wrong with the layout afterwards, where no part that was added is to
/// blame.
pub fn extend(
    before: Option<(&str, &Layout)>,
    site: &Name,
    mut adoption: Adoption,
) -> Result<Extended, Refused> {
    let mut left = Vec::new();
    loop {
        let (text, added) = added(before, site, &adoption);
        let refused = match super::read("the adopted layout", text.as_bytes()) {
            Ok(_) => return Ok(Extended { text, added, left }),
            Err(refused) => refused,
        };
        // Parts that no layout can hold are told, and left out.
        let mut blamed = HashSet::new();
        let parts = Parts::of(&text);
        let shares = adoption.layout.shares.iter();
        let exported = shares.filter(|share| !share.nfs.is_empty()).map(|share| share.name.clone());
        let exported: HashSet<Name> = exported.collect();
        for (at, message) in super::mistakes_in(&text) {
            let part = blame(parts.at(at), &adoption.layout, &exported);
            if let Some(part) = part.filter(|part| blamed.insert(part.clone())) {
                let noted = &adoption.layout.adopted.parts;
                let spot = noted.get(&part).or_else(|| noted.get(&part.enclosing()?));
                left.extend(spot.map(|spot| (spot.clone(), message)));
            }
        }
        if blamed.is_empty() {
            return Err(refused);
        }
        take_out(&mut adoption.layout, blamed);
    }
}

/// The part that has to go for a mistake: the innermost one that was adopted by itself, or the SMB
/// offer of a share that is exported as well.
fn blame(at: Option<&Part>, layout: &Layout, exported: &HashSet<Name>) -> Option<Part> {
    let outwards = std::iter::successors(at.cloned(), Part::enclosing);
    outwards.into_iter().find(|part| match part {
        Part::SmbOffer(share) => exported.contains(share),
        part => layout.adopted.parts.contains_key(part),
    })
}

/// Takes parts out of a layout, with what belongs to them and where that was read.
fn take_out(layout: &mut Layout, mut gone: HashSet<Part>) {
    // A share that offers nothing any more is none.
    for share in &layout.shares {
        let mut exports = share.nfs.iter();
        if gone.contains(&Part::SmbOffer(share.name.clone()))
            && exports.all(|export| gone.contains(&Part::export(share, export)))
        {
            gone.insert(Part::Share(share.name.clone()));
        }
    }
    spell_sources(layout, &gone);
    for share in &mut layout.shares {
        if gone.contains(&Part::SmbOffer(share.name.clone())) {
            share.smb = None;
        }
    }
    let parts = |layout: &Layout| layout.parts().into_iter().map(|(part, _)| part);
    let before: Vec<Part> = parts(layout).collect();
    layout.retain_parts(|part, _| !gone.contains(&part));
    let after: HashSet<Part> = parts(layout).collect();
    for part in before.iter().filter(|part| !after.contains(*part)) {
        layout.adopted.parts.remove(part);
    }
}

/// What refers by name to a share that goes says what its source is.
fn spell_sources(layout: &mut Layout, gone: &HashSet<Part>) {
    let shares = layout.shares.iter();
    let shares = shares.filter(|share| gone.contains(&Part::Share(share.name.clone())));
    let gone: HashMap<Name, Share> =
        shares.map(|share| (share.name.clone(), share.clone())).collect();
    let spell = |from: &mut MountSource, protocol: Protocol| {
        let MountSource::Share(name) = &*from else { return };
        let Some(share) = gone.get(name) else { return };
        let host = share.host.raw();
        *from = MountSource::Literal(match protocol {
            Protocol::Smb => format!("//{host}/{}", name.raw()).into(),
            _ => format!("{host}:{}", String::from_utf8_lossy(share.path.as_bytes())).into(),
        });
    };
    for mount in &mut layout.mounts {
        spell(&mut mount.from, mount.protocol);
    }
    let maps = layout.services.iter_mut().flat_map(|service| service.map.iter_mut().flatten());
    for map in maps {
        if let MapSource::Share(engine) = &mut map.source {
            spell(&mut engine.from, engine.protocol);
        }
    }
}

/// The text with everything added, and which parts that were.
fn added(
    before: Option<(&str, &Layout)>,
    site: &Name,
    adoption: &Adoption,
) -> (String, HashSet<Part>) {
    let empty = Layout { site: site.clone(), ..Layout::default() };
    let known = before.map_or(&empty, |(_, layout)| layout);
    let there: HashSet<Part> = known.parts().into_iter().map(|(key, _)| key).collect();
    let mut fresh: HashSet<Part> = HashSet::new();
    let is_new = |key: &Part| !there.contains(key) && !known.adopted.parts.contains_key(key);
    fresh.extend(adoption.layout.adopted.parts.keys().filter(|key| is_new(key)).cloned());
    let new = only(&adoption.layout, known, &fresh);
    let notes = |about: &Part| -> Vec<String> {
        let of_this = adoption.guesses.iter().filter(|guess| guess.about == *about);
        of_this.map(|guess| format!("guess: {}, because {}", guess.what, guess.because)).collect()
    };
    let mut whole = Layout { site: known.site.clone(), ..Layout::default() };
    let mut document = match before {
        Some((text, _)) => text.parse::<DocumentMut>().unwrap_or_default(),
        None => DocumentMut::new(),
    };
    for host in &new.hosts {
        match known.host(&host.name) {
            Some(_) => into_host(&mut document, host),
            None => whole.hosts.push(host.clone()),
        }
    }
    for share in &new.shares {
        match known.share(&share.name) {
            Some(_) => into_share(&mut document, share),
            None => whole.shares.push(share.clone()),
        }
    }
    for service in &new.services {
        match known.service(&service.name) {
            Some(_) => into_service(&mut document, service),
            None => whole.services.push(service.clone()),
        }
    }
    whole.folders.clone_from(&new.folders);
    whole.mounts = new.mounts.clone();
    for mount in &mut whole.mounts {
        // A reference is written with the share's host, which may stand in either layout.
        let source = match known.source(&mount.from) {
            source if known.source_name(&mount.from) == &source => {
                adoption.layout.source(&mount.from)
            }
            source => source,
        };
        mount.from = MountSource::Literal(source);
    }
    match before {
        Some(_) => append_parts(&mut document, &whole, &notes),
        None => document = write(&whole, &notes).parse().unwrap_or_default(),
    }
    let spots = &adoption.layout.adopted.parts;
    let mut remembered: Vec<(&Spot, &Part)> =
        fresh.iter().filter_map(|part| Some((spots.get(part)?, part))).collect();
    remembered.sort();
    for (spot, part) in remembered {
        remember(&mut document, part, spot);
    }
    let text = document.to_string();
    (before.map_or(text.clone(), |(before, _)| as_before(before, text)), fresh)
}

/// The parts of a layout that are new, and those of the known one that they are in.
fn only(layout: &Layout, known: &Layout, fresh: &HashSet<Part>) -> Layout {
    let mut new = layout.clone();
    for host in &mut new.hosts {
        if known.host(&host.name).is_some() {
            host.idmap.clear();
        }
    }
    // What somebody took out stays out.
    new.retain_parts(|part, _| {
        fresh.contains(&part)
            || match &part {
                Part::Host(name) => known.host(name).is_some(),
                Part::Share(name) => known.share(name).is_some(),
                Part::Service(name) => known.service(name).is_some(),
                _ => false,
            }
    });
    new
}

/// Notes where a part was read.
fn remember(document: &mut DocumentMut, part: &Part, spot: &Spot) {
    let all = document.as_table_mut().entry("adopted").or_insert_with(|| {
        let mut table = Table::new();
        table.set_implicit(true);
        Item::Table(table)
    });
    let Some(all) = all.as_table_like_mut() else { return };
    let of_file = all.entry(spot.file.raw()).or_insert_with(|| Item::Table(Table::new()));
    if let Some(of_file) = of_file.as_table_like_mut() {
        of_file.insert(&part.to_string(), toml_edit::value(i64::from(spot.line)));
    }
}

/// A table of a table: `host.granary`.
fn table<'a>(document: &'a mut DocumentMut, of: &str, name: &str) -> Option<&'a mut dyn TableLike> {
    document.get_mut(of)?.as_table_like_mut()?.get_mut(name)?.as_table_like_mut()
}

/// Adds items to a list of a table; in one that had none each has a line.
fn push_all(table: &mut dyn TableLike, name: &str, items: impl Iterator<Item = Value>) {
    let items: Array = items.collect();
    if items.is_empty() {
        return;
    }
    let list = table.entry(name).or_insert_with(|| toml_edit::value(Array::new()));
    let Some(list) = list.as_array_mut() else { return };
    if list.is_empty() {
        items.into_iter().for_each(|item| list.push(item));
        in_lines(list);
    } else {
        items.into_iter().for_each(|item| push(list, item));
    }
}

fn into_host(document: &mut DocumentMut, host: &Host) {
    let Some(table) = table(document, "host", host.name.raw()) else { return };
    push_all(table, "map", host.map.iter().map(|map| value_of(&RawMapping::from(map))));
    push_all(table, "datasets", host.datasets.iter().map(|of| value_of(&RawDataset::from(of))));
    push_all(table, "idmap", host.idmap.iter().map(|range| value_of(&RawIdRange::from(range))));
    if !host.accounts.is_empty()
        && let Some(accounts) = table.entry("accounts").or_insert_with(inline).as_table_like_mut()
    {
        for of in &host.accounts {
            let value = value_of(&RawAccount::from(of));
            accounts.insert(of.name.raw(), Item::Value(value));
        }
    }
    if !host.groups.is_empty()
        && let Some(groups) = table.entry("groups").or_insert_with(inline).as_table_like_mut()
    {
        for of in &host.groups {
            groups.insert(of.name.raw(), toml_edit::value(i64::from(of.gid)));
        }
    }
}

fn into_share(document: &mut DocumentMut, share: &Share) {
    if let Some(table) = table(document, "share", share.name.raw()) {
        push_all(table, "nfs", share.nfs.iter().map(|export| value_of(&RawExport::from(export))));
    }
}

fn into_service(document: &mut DocumentMut, service: &Service) {
    if let Some(table) = table(document, "service", service.name.raw()) {
        push_all(table, "map", service.maps().iter().map(|map| value_of(&RawMapping::from(map))));
        push_all(table, "ports", service.ports.iter().map(|port| port.as_str().into()));
    }
}
