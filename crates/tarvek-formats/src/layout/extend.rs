//! A layout with what was adopted added to it: what stands in it stays as it is, comments and order included.

use std::collections::{BTreeMap, HashSet};

use tarvek_core::adopt::Adoption;
use tarvek_core::layout::adopted;
use tarvek_core::layout::host::Host;
use tarvek_core::layout::mapping::{MapSource, Mapping};
use tarvek_core::layout::mount::MountSource;
use tarvek_core::layout::service::Service;
use tarvek_core::layout::share::Share;
use tarvek_core::layout::site::Layout;
use tarvek_core::words::name::Name;
use tarvek_core::words::spot::Spot;
use tarvek_core::words::terms::Protocol;
use toml_edit::{Array, DocumentMut, InlineTable, Item, Table, TableLike, Value};

use super::write::{account, dataset, export, id_range, key, mapping, quoted, write};
use crate::mistake::Refused;

/// A layout after something was added.
#[derive(Debug)]
pub struct Extended {
    pub text: String,
    /// The keys of the parts that were added.
    pub added: HashSet<String>,
    /// What no layout can hold, with the reason.
    pub left: Vec<(Spot, String)>,
}

/// More parts than these can't be held is a fault of something else.
const MOST_LEFT: usize = 1000;

/// Adds to a layout what it has not, and has not had: `before` is its text, and the layout that this text is.
///
/// # Errors
/// Everything that would be wrong with the layout afterwards, where no part that was added is to blame.
pub fn extend(
    before: Option<(&str, &Layout)>,
    site: &Name,
    mut adoption: Adoption,
) -> Result<Extended, Refused> {
    let mut left = Vec::new();
    loop {
        let extended = added(before, site, &adoption);
        let refused = match super::read("the adopted layout", extended.0.as_bytes()) {
            Ok(_) => return Ok(Extended { text: extended.0, added: extended.1, left }),
            Err(refused) => refused,
        };
        // A part that no layout can hold is told, and left out.
        let mistake = &refused.mistakes[0];
        let starts = lines_of(&extended.0, &adoption.layout, &extended.1);
        let line = extended.0.lines().nth(mistake.line - 1).unwrap_or_default();
        let part = starts.range(..=mistake.line).next_back().map(|(_, part)| part.as_str());
        let part = part.map(|part| in_line(&adoption.layout, part, line, mistake.column));
        let parts = &adoption.layout.adopted.parts;
        let Some((part, spot)) = part.and_then(|part| Some((part.clone(), parts.get(&part)?)))
        else {
            return Err(refused);
        };
        if left.len() >= MOST_LEFT {
            return Err(refused);
        }
        left.push((spot.clone(), mistake.message.clone()));
        take_out(&mut adoption.layout, &part, line.starts_with("smb = "));
    }
}

/// In which line of a text each part that was added begins.
fn lines_of(text: &str, layout: &Layout, added: &HashSet<String>) -> BTreeMap<usize, String> {
    let mut heads: BTreeMap<String, String> = BTreeMap::new();
    for host in &layout.hosts {
        let head = format!("[host.{}]", key(host.name.raw()));
        heads.insert(head, adopted::host(&host.name));
        for map in &host.map {
            let part = adopted::map(&adopted::host(&host.name), &map.to.written);
            heads.insert(mapping(map), part);
        }
        for of in &host.datasets {
            heads.insert(dataset(of), adopted::of_host("dataset", &host.name, of.name.raw()));
        }
        for of in &host.accounts {
            let line = format!("{} = {}", key(of.name.raw()), account(of));
            heads.insert(line, adopted::of_host("account", &host.name, of.name.raw()));
        }
    }
    for share in &layout.shares {
        let head = format!("[share.{}]", key(share.name.raw()));
        heads.insert(head, adopted::share(&share.name));
    }
    for service in &layout.services {
        let head = format!("[service.{}]", key(service.name.raw()));
        heads.insert(head, adopted::service(&service.name));
        for map in service.maps() {
            let part = adopted::map(&adopted::service(&service.name), &map.to.written);
            heads.insert(mapping(map), part);
        }
    }
    let mut lines = BTreeMap::new();
    let mut mounts = layout
        .mounts
        .iter()
        .filter(|mount| added.contains(&adopted::mount(&mount.host, &adopted::text(&mount.at))));
    let mut folders = layout.folders.iter().filter(|folder| {
        added.contains(&adopted::of_host("folder", &folder.host, &adopted::text(&folder.path)))
    });
    for (n, line) in text.lines().enumerate() {
        let line = line.trim().trim_end_matches(',');
        let part = match line {
            "[[mount]]" => mounts.next().map(|m| adopted::mount(&m.host, &adopted::text(&m.at))),
            "[[folder]]" => {
                folders.next().map(|f| adopted::of_host("folder", &f.host, &adopted::text(&f.path)))
            }
            line => heads.get(line).cloned(),
        };
        lines.extend(part.map(|part| (n + 1, part)));
    }
    lines
}

/// The part of a line that is to blame: of a share's exports the one at that column.
fn in_line(layout: &Layout, part: &str, line: &str, column: usize) -> String {
    let share = layout.shares.iter().find(|share| adopted::share(&share.name) == part);
    let Some(share) = share.filter(|_| line.starts_with("nfs = ")) else { return part.to_owned() };
    let before = |at: usize| line[..at].chars().count() < column;
    let mut exports = share.nfs.iter().filter(|of| line.find(&export(of)).is_some_and(before));
    let last = exports.next_back().map(|of| adopted::export(&share.name, &of.clients));
    last.unwrap_or_else(|| part.to_owned())
}

/// Takes a part out of a layout, with what belongs to it and where that was read. Of a share that is exported as well it may be no
/// more than what it offers over SMB.
fn take_out(layout: &mut Layout, part: &str, smb: bool) {
    let keys = |layout: &Layout| layout.parts().into_iter().map(|(key, _)| key);
    let before: Vec<String> = keys(layout).collect();
    let exported = |share: &&mut Share| !share.nfs.is_empty() && smb;
    let mut shares = layout.shares.iter_mut();
    match shares.find(|share| adopted::share(&share.name) == part).filter(exported) {
        Some(share) => share.smb = None,
        None => {
            layout.adopted.parts.remove(part);
            without(layout, part);
        }
    }
    let after: HashSet<String> = keys(layout).collect();
    for gone in before.iter().filter(|key| !after.contains(*key)) {
        layout.adopted.parts.remove(gone);
    }
}

/// What refers to a share by its name, before that is gone, says what its source is.
fn spelled_out(layout: &mut Layout, share: &Name) {
    let Some(gone) = layout.shares.iter().find(|known| known.name == *share).cloned() else {
        return;
    };
    let spell = |from: &mut MountSource, protocol: Protocol| {
        if *from == MountSource::Share(share.clone()) {
            *from = MountSource::Literal(match protocol {
                Protocol::Smb => format!("//{}/{}", gone.host.raw(), share.raw()).into(),
                _ => format!("{}:{}", gone.host.raw(), adopted::text(&gone.path)).into(),
            });
        }
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

fn without(layout: &mut Layout, part: &str) {
    let share = layout.shares.iter().find(|share| adopted::share(&share.name) == part);
    if let Some(name) = share.map(|share| share.name.clone()) {
        spelled_out(layout, &name);
    }
    for share in &mut layout.shares {
        let name = share.name.clone();
        share.nfs.retain(|of| adopted::export(&name, &of.clients) != part);
    }
    for host in &mut layout.hosts {
        let (name, of) = (host.name.clone(), adopted::host(&host.name));
        host.map.retain(|map| adopted::map(&of, &map.to.written) != part);
        let is = |kind: &str, of: &Name| adopted::of_host(kind, &name, of.raw()) == part;
        host.datasets.retain(|dataset| !is("dataset", &dataset.name));
        host.accounts.retain(|account| !is("account", &account.name));
        host.groups.retain(|group| !is("group", &group.name));
    }
    layout.hosts.retain(|host| adopted::host(&host.name) != part);
    layout.shares.retain(|share| adopted::share(&share.name) != part);
    layout.mounts.retain(|m| adopted::mount(&m.host, &adopted::text(&m.at)) != part);
    layout.folders.retain(|f| adopted::of_host("folder", &f.host, &adopted::text(&f.path)) != part);
    for service in &mut layout.services {
        let of = adopted::service(&service.name);
        let maps = service.map.iter_mut();
        maps.for_each(|maps| maps.retain(|map| adopted::map(&of, &map.to.written) != part));
        let name = service.name.clone();
        service.ports.retain(|port| adopted::port(&name, port) != part);
    }
    layout.services.retain(|service| adopted::service(&service.name) != part);
}

/// The text with everything added, and which parts that were.
fn added(
    before: Option<(&str, &Layout)>,
    site: &Name,
    adoption: &Adoption,
) -> (String, HashSet<String>) {
    let empty = Layout { site: site.clone(), ..Layout::default() };
    let known = before.map_or(&empty, |(_, layout)| layout);
    let there: HashSet<String> = known.parts().into_iter().map(|(key, _)| key).collect();
    let mut fresh: HashSet<String> = HashSet::new();
    let is_new = |key: &String| !there.contains(key) && !known.adopted.parts.contains_key(key);
    fresh.extend(adoption.layout.adopted.parts.keys().filter(|key| is_new(key)).cloned());
    let new = only(&adoption.layout, known, &fresh);
    let notes = |about: &str| -> Vec<String> {
        let of_this = adoption.guesses.iter().filter(|guess| guess.about == about);
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
    let mut text = write(&whole, &notes);
    if before.is_some() {
        // What stood there comes first, and says what a file begins with.
        let parts = text.find("\n\n").map_or("", |at| &text[at + 1..]);
        text = document.to_string().trim_end().to_owned() + "\n" + parts;
    }
    let mut document = text.parse::<DocumentMut>().unwrap_or_default();
    let spots = &adoption.layout.adopted.parts;
    let mut remembered: Vec<(&Spot, &String)> =
        fresh.iter().filter_map(|part| Some((spots.get(part)?, part))).collect();
    remembered.sort();
    for (spot, part) in remembered {
        remember(&mut document, part, spot);
    }
    (document.to_string(), fresh)
}

/// The parts of a layout that are new, and nothing else.
fn only(layout: &Layout, known: &Layout, fresh: &HashSet<String>) -> Layout {
    let mut new = layout.clone();
    let maps = |of: &str, maps: &mut Vec<Mapping>| {
        maps.retain(|map| fresh.contains(&adopted::map(of, &map.to.written)));
    };
    new.hosts.retain(|host| {
        known.host(&host.name).is_some() || fresh.contains(&adopted::host(&host.name))
    });
    for host in &mut new.hosts {
        let name = host.name.clone();
        let is = |kind: &str, of: &Name| fresh.contains(&adopted::of_host(kind, &name, of.raw()));
        host.datasets.retain(|dataset| is("dataset", &dataset.name));
        host.accounts.retain(|account| is("account", &account.name));
        host.groups.retain(|group| is("group", &group.name));
        maps(&adopted::host(&host.name), &mut host.map);
        if known.host(&host.name).is_some() {
            host.idmap.clear();
        }
    }
    for share in &mut new.shares {
        let name = share.name.clone();
        share.nfs.retain(|nfs| fresh.contains(&adopted::export(&name, &nfs.clients)));
    }
    // What somebody took out stays out.
    new.shares.retain(|share| {
        known.share(&share.name).is_some() || fresh.contains(&adopted::share(&share.name))
    });
    new.mounts.retain(|m| fresh.contains(&adopted::mount(&m.host, &adopted::text(&m.at))));
    new.folders.retain(|folder| {
        let key = adopted::of_host("folder", &folder.host, &adopted::text(&folder.path));
        fresh.contains(&key)
    });
    for service in &mut new.services {
        let of = adopted::service(&service.name);
        service.map.iter_mut().for_each(|map| maps(&of, map));
        let name = service.name.clone();
        service.ports.retain(|port| fresh.contains(&adopted::port(&name, port)));
    }
    new.services.retain(|service| {
        known.service(&service.name).is_some() || fresh.contains(&adopted::service(&service.name))
    });
    new
}

/// Notes where a part was read.
fn remember(document: &mut DocumentMut, part: &str, spot: &Spot) {
    let all = document.as_table_mut().entry("adopted").or_insert_with(|| {
        let mut table = Table::new();
        table.set_implicit(true);
        Item::Table(table)
    });
    let Some(all) = all.as_table_like_mut() else { return };
    let of_file = all.entry(spot.file.raw()).or_insert_with(|| Item::Table(Table::new()));
    if let Some(of_file) = of_file.as_table_like_mut() {
        of_file.insert(part, toml_edit::value(i64::from(spot.line)));
    }
}

/// A table of a table: `host.granary`.
fn table<'a>(document: &'a mut DocumentMut, of: &str, name: &str) -> Option<&'a mut dyn TableLike> {
    document.get_mut(of)?.as_table_like_mut()?.get_mut(name)?.as_table_like_mut()
}

/// Adds items to a list of a table, each written as a value.
fn push(table: &mut dyn TableLike, name: &str, items: impl Iterator<Item = String>) {
    let items: Vec<Value> = items.filter_map(|item| item.parse().ok()).collect();
    if items.is_empty() {
        return;
    }
    let list = table.entry(name).or_insert_with(|| toml_edit::value(Array::new()));
    let Some(list) = list.as_array_mut() else { return };
    for mut item in items {
        item.decor_mut().set_prefix("\n  ");
        list.push_formatted(item);
    }
    list.set_trailing("\n");
    list.set_trailing_comma(true);
}

fn into_host(document: &mut DocumentMut, host: &Host) {
    let Some(table) = table(document, "host", host.name.raw()) else { return };
    push(table, "map", host.map.iter().map(mapping));
    push(table, "datasets", host.datasets.iter().map(dataset));
    push(table, "idmap", host.idmap.iter().map(id_range));
    let inline = || toml_edit::value(InlineTable::new());
    if !host.accounts.is_empty()
        && let Some(accounts) = table.entry("accounts").or_insert_with(inline).as_table_like_mut()
    {
        for of in &host.accounts {
            if let Ok(value) = account(of).parse::<Value>() {
                accounts.insert(of.name.raw(), Item::Value(value));
            }
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
        push(table, "nfs", share.nfs.iter().map(export));
    }
}

fn into_service(document: &mut DocumentMut, service: &Service) {
    if let Some(table) = table(document, "service", service.name.raw()) {
        push(table, "map", service.maps().iter().map(mapping));
        push(table, "ports", service.ports.iter().map(|port| quoted(port)));
    }
}
