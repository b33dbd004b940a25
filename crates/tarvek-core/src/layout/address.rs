//! Where the parts of a layout stand in its file: the way to each through the TOML document, and
//! its line.

use crate::layout::folder::Folder;
use crate::layout::mapping::Mapping;
use crate::layout::mount::Mount;
use crate::layout::service::{Service, Translation};
use crate::layout::share::Share;
use crate::layout::site::Layout;
use crate::words::name::Name;
use crate::words::offer::NfsExport;
use crate::words::part::{MappedInto, Part};
use crate::words::path::AbsPath;

/// A step on the way through a TOML document.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Segment {
    /// Into a table.
    Key(String),
    /// Into an array, from 0.
    Index(usize),
}

/// Where a part of a layout stands in its file.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Address {
    /// From the document's root.
    pub segments: Vec<Segment>,
    /// The line of the part, from 1; that of what it is in where its own is not known, and 0 where
    /// nothing is.
    pub line: u32,
}

impl Address {
    fn of(line: u32, keys: &[&str]) -> Self {
        let segments = keys.iter().map(|key| Segment::Key((*key).to_owned())).collect();
        Self { segments, line }
    }

    fn key(mut self, key: &str) -> Self {
        self.segments.push(Segment::Key(key.to_owned()));
        self
    }

    fn item(mut self, key: &str, index: usize) -> Self {
        self = self.key(key);
        self.segments.push(Segment::Index(index));
        self
    }

    fn at(mut self, line: u32) -> Self {
        self.line = line;
        self
    }
}

/// The only item of a list that is meant; of two alike nobody knows which one.
pub(super) fn only<T>(items: &[T], is: impl Fn(&T) -> bool) -> Option<usize> {
    let mut found = items.iter().enumerate().filter(|(_, item)| is(item)).map(|(at, _)| at);
    let first = found.next()?;
    found.next().is_none().then_some(first)
}

/// Whether a path is the one that a part is named by.
pub(super) fn is_path(path: &AbsPath, name: &Name) -> bool {
    path.as_bytes() == name.raw().as_bytes()
        || path.as_client_writes().is_some_and(|written| written == name.raw().as_bytes())
}

pub(super) fn is_map(to: &Name) -> impl Fn(&Mapping) -> bool {
    move |map| map.to.written == *to
}

impl Layout {
    /// Where a part stands, if there is exactly one of that name. An account, or another part that
    /// goes by a key of a table, also has a place before it is there.
    pub fn address(&self, part: &Part) -> Option<Address> {
        let of_host = |host: &Name| {
            let host = self.host(host)?;
            Some((host, Address::of(host.origin.line, &["host", host.name.raw()])))
        };
        let of_service = |name: &Name| -> Option<(&Service, Address)> {
            let service = self.service(name)?;
            Some((service, Address::of(service.origin.line, &["service", service.name.raw()])))
        };
        // What a host was only seen to offer stands in no layout.
        let of_share = |name: &Name| {
            let share = self.share(name).filter(|share| share.origin.line > 0)?;
            Some((share, Address::of(share.origin.line, &["share", share.name.raw()])))
        };
        Some(match part {
            Part::Site => Address::of(1, &[]),
            Part::Rules => Address::of(1, &["rules"]),
            Part::Host(name) => of_host(name)?.1,
            Part::Dataset { host, name } => {
                let (host, address) = of_host(host)?;
                let at = only(&host.datasets, |dataset| dataset.name == *name)?;
                address.item("datasets", at).at(host.datasets[at].origin.line)
            }
            Part::Account { host, name } => of_host(host)?.1.key("accounts").key(name.raw()),
            Part::Group { host, name } => of_host(host)?.1.key("groups").key(name.raw()),
            Part::Folder { host, path } => {
                let is = |folder: &_| is_folder(folder, host, path);
                let at = only(&self.folders, is)?;
                Address::of(self.folders[at].origin.line, &[]).item("folder", at)
            }
            Part::Share(name) => of_share(name)?.1,
            Part::SmbOffer(name) => of_share(name)?.1.key("smb"),
            Part::Export { share, clients } => {
                let (share, address) = of_share(share)?;
                let at = only(&share.nfs, |export| export.clients == *clients)?;
                address.item("nfs", at)
            }
            Part::Mount { host, at } => {
                let is = |mount: &_| is_mount(mount, host, at);
                let at = only(&self.mounts, is)?;
                Address::of(self.mounts[at].origin.line, &[]).item("mount", at)
            }
            Part::Service(name) => of_service(name)?.1,
            Part::Mapping { of: MappedInto::Host(name), to } => {
                let (host, address) = of_host(name)?;
                let at = only(&host.map, is_map(to))?;
                address.item("map", at).at(host.map[at].origin.line)
            }
            Part::Mapping { of: MappedInto::Service(name), to } => {
                let (service, address) = of_service(name)?;
                let at = only(service.maps(), is_map(to))?;
                address.item("map", at).at(service.maps()[at].origin.line)
            }
            Part::Translation { service, by, from } => {
                let (service, address) = of_service(service)?;
                let is = |of: &_| is_translation(of, by, from);
                let at = only(&service.translate, is)?;
                address.item("translate", at).at(service.translate[at].from.origin.line)
            }
            Part::Port { service, port } => {
                let (service, address) = of_service(service)?;
                address.item("ports", only(&service.ports, |known| known == port.raw())?)
            }
            Part::Library { service, name } => {
                let (service, address) = of_service(service)?;
                let at = only(&service.libraries, |library| library.name == *name)?;
                address.item("libraries", at).at(service.libraries[at].origin.line)
            }
            Part::Root { service, library, root } => {
                let (service, address) = of_service(service)?;
                let at = only(&service.libraries, |known| known.name == *library)?;
                let roots = &service.libraries[at].roots;
                let root = only(roots, |known| known.written == *root)?;
                let address = address.item("libraries", at).item("roots", root);
                address.at(roots[root].origin.line)
            }
            Part::Intake(name) => self.intake_address(name)?,
            Part::IntakeSide { intake, side } => self.intake_address(intake)?.key(side.word()),
        })
    }

    fn intake_address(&self, name: &Name) -> Option<Address> {
        let intake = &self.intakes[only(&self.intakes, |intake| intake.name == *name)?];
        Some(Address::of(intake.origin.line, &["intake", name.raw()]))
    }
}

impl Part {
    /// What a share offers to a set of clients.
    pub fn export(share: &Share, export: &NfsExport) -> Self {
        Self::Export { share: share.name.clone(), clients: export.clients.clone() }
    }

    /// A translation of a service.
    pub fn translation(service: &Name, translation: &Translation) -> Self {
        let Translation { service: by, from, .. } = translation;
        Self::Translation { service: service.clone(), by: by.clone(), from: from.written.clone() }
    }
}

pub(super) fn is_folder(folder: &Folder, host: &Name, path: &Name) -> bool {
    folder.host == *host && is_path(&folder.path, path)
}

pub(super) fn is_mount(mount: &Mount, host: &Name, at: &Name) -> bool {
    mount.host == *host && is_path(&mount.at, at)
}

pub(super) fn is_translation(of: &Translation, by: &Name, from: &Name) -> bool {
    of.service == *by && of.from.written == *from
}
