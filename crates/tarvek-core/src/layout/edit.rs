//! Edits of a layout: what they make of it. `tarvek-formats` makes the same of its file.

use crate::layout::address::{is_folder, is_map, is_mount, is_translation, only};
use crate::layout::field::{Field, account};
use crate::layout::mapping::{MapSource, Mapping};
use crate::layout::mount::MountSource;
use crate::layout::service::Service;
use crate::layout::site::Layout;
use crate::words::name::Name;
use crate::words::part::{MappedInto, Part, Side};
use crate::words::path::AbsPath;
use crate::words::remedy::{Change, Edit, Step};
use crate::words::terms::Group;
use crate::words::value::Value;

impl Layout {
    /// A step that gives a key of a part another value. Where there are several parts of that name,
    /// it is a step in words: nobody knows which of them is meant.
    pub fn set(&self, part: Part, key: &'static str, to: impl Into<Value>) -> Step {
        self.step(part, key, Change::Set(to.into()))
    }

    /// A step that names another path in a key of a part. A path that is no text can't be written
    /// there.
    pub fn set_path(&self, part: Part, key: &'static str, to: &AbsPath) -> Step {
        match Value::path(to) {
            Some(to) => self.set(part, key, to),
            None => Step::words(format!(
                "in the layout: name {to} for {}; no layout can, for it is not UTF-8",
                part.phrase()
            )),
        }
    }

    /// A step that adds an item to a list of a part.
    pub fn add(&self, part: Part, key: &'static str, item: impl Into<Value>) -> Step {
        self.step(part, key, Change::Add(item.into()))
    }

    /// A step that takes a part out of the layout, or a key out of a part.
    pub fn remove(&self, part: Part, key: &'static str) -> Step {
        self.step(part, key, Change::Remove)
    }

    fn step(&self, part: Part, key: &'static str, change: Change) -> Step {
        let address = self.address(&part);
        let edit = Edit { line: address.as_ref().map_or(0, |at| at.line), part, key, change };
        match address {
            Some(_) => Step::Edit(edit),
            None => Step::words(format!("in the layout: {edit}")),
        }
    }

    /// Makes an edit; `None` if there is no such part, or if it can't hold that. Nothing is changed
    /// then.
    #[must_use]
    pub fn edit(&mut self, edit: &Edit) -> Option<()> {
        let part = &edit.part;
        match (&edit.change, edit.key) {
            (Change::Remove, "") => self.take_out(part),
            (Change::Remove, key) => self.field(part, key)?.unset(),
            (Change::Add(item), key) => self.field(part, key)?.add(item),
            (Change::Set(to), "") => match part {
                Part::Account { host, name } => self.set_account(host, name, to),
                Part::Group { host, name } => self.set_group(host, name, to),
                _ => self.field(part, "")?.set(to),
            },
            (Change::Set(to), key) => self.field(part, key)?.set(to),
        }
    }

    fn set_account(&mut self, host: &Name, name: &Name, to: &Value) -> Option<()> {
        let host = self.hosts.iter_mut().find(|known| known.name == *host)?;
        let new = account(name, to)?;
        match host.accounts.iter_mut().find(|known| known.name == *name) {
            Some(known) => *known = new,
            None => host.accounts.push(new),
        }
        Some(())
    }

    fn set_group(&mut self, host: &Name, name: &Name, to: &Value) -> Option<()> {
        let host = self.hosts.iter_mut().find(|known| known.name == *host)?;
        let Value::Number(gid) = *to else { return None };
        match host.groups.iter_mut().find(|known| known.name == *name) {
            Some(known) => known.gid = gid,
            None => host.groups.push(Group { name: name.clone(), gid }),
        }
        Some(())
    }

    /// What a key of a part is in the layout.
    fn field(&mut self, part: &Part, key: &str) -> Option<&mut dyn Field> {
        let service_of = match part {
            Part::Mapping { of: MappedInto::Service(of), .. } => Some(of),
            Part::Service(of)
            | Part::Translation { service: of, .. }
            | Part::Port { service: of, .. }
            | Part::Library { service: of, .. }
            | Part::Root { service: of, .. } => Some(of),
            _ => None,
        };
        if let Some(name) = service_of {
            let service = self.services.iter_mut().find(|service| service.name == *name)?;
            return of_service(service, part, key);
        }
        Some(match part {
            Part::Host(name) => {
                let host = self.hosts.iter_mut().find(|host| host.name == *name)?;
                match key {
                    "addresses" => &mut host.addresses,
                    "manage_gids" => &mut host.manage_gids,
                    "datasets" => &mut host.datasets,
                    "map" => &mut host.map,
                    _ => return None,
                }
            }
            Part::Account { host, name } => {
                let host = self.hosts.iter_mut().find(|known| known.name == *host)?;
                let account = host.accounts.iter_mut().find(|known| known.name == *name)?;
                match key {
                    "uid" => &mut account.uid,
                    "gid" => &mut account.gid,
                    "groups" => &mut account.groups,
                    _ => return None,
                }
            }
            Part::Mapping { of: MappedInto::Host(name), to } => {
                let host = self.hosts.iter_mut().find(|host| host.name == *name)?;
                let at = only(&host.map, is_map(to))?;
                return of_map(&mut host.map[at], key);
            }
            Part::Share(name) => {
                let share = self.shares.iter_mut().find(|share| share.name == *name)?;
                match key {
                    "path" => &mut share.path,
                    "nfs" => &mut share.nfs,
                    _ => return None,
                }
            }
            Part::Export { share, clients } => {
                let share = self.shares.iter_mut().find(|known| known.name == *share)?;
                let at = only(&share.nfs, |export| export.clients == *clients)?;
                let export = &mut share.nfs[at];
                match key {
                    "clients" => &mut export.clients,
                    "access" => &mut export.access,
                    "squash" => &mut export.squash,
                    "anonuid" => &mut export.anonuid,
                    "anongid" => &mut export.anongid,
                    "crossmnt" => &mut export.crossmnt,
                    _ => return None,
                }
            }
            Part::SmbOffer(name) => {
                let share = self.shares.iter_mut().find(|share| share.name == *name)?;
                let smb = share.smb.get_or_insert_default();
                match key {
                    "guests" => &mut smb.guests,
                    "writable" => &mut smb.writable,
                    "only" => &mut smb.only,
                    "deny" => &mut smb.deny,
                    "read" => &mut smb.read,
                    "write" => &mut smb.write,
                    "recycle" => &mut smb.recycle,
                    _ => return None,
                }
            }
            Part::Mount { host, at } => {
                let at = only(&self.mounts, |mount| is_mount(mount, host, at))?;
                let mount = &mut self.mounts[at];
                match key {
                    "from" => &mut mount.from,
                    "at" => &mut mount.at,
                    "options" => &mut mount.options,
                    "user" => &mut mount.user,
                    "credentials" => &mut mount.credentials,
                    "removable" => &mut mount.removable,
                    _ => return None,
                }
            }
            Part::Folder { host, path } => {
                let at = only(&self.folders, |folder| is_folder(folder, host, path))?;
                let folder = &mut self.folders[at];
                match key {
                    "owner" => &mut folder.owner,
                    "group" => &mut folder.group,
                    "mode" => &mut folder.mode,
                    _ => return None,
                }
            }
            Part::Intake(name) => {
                let intake = self.intakes.iter_mut().find(|intake| intake.name == *name)?;
                match key {
                    "want" => &mut intake.want,
                    _ => return None,
                }
            }
            Part::IntakeSide { intake, side } => {
                let intake = self.intakes.iter_mut().find(|known| known.name == *intake)?;
                match side {
                    Side::Fetch => {
                        let fetch = intake.fetch.as_mut()?;
                        match key {
                            "partial" => &mut fetch.partial,
                            "done" => &mut fetch.done,
                            "category" => &mut fetch.category,
                            _ => return None,
                        }
                    }
                    Side::Sort => {
                        let sort = intake.sort.as_mut()?;
                        match key {
                            "reads" => &mut sort.reads,
                            "files_into" => &mut sort.files_into,
                            "category" => &mut sort.category,
                            _ => return None,
                        }
                    }
                }
            }
            _ => return None,
        })
    }

    /// Takes a part out that other parts can do without.
    fn take_out(&mut self, part: &Part) -> Option<()> {
        match part {
            Part::Mapping { of: MappedInto::Service(name), to } => {
                let service = self.services.iter_mut().find(|service| service.name == *name)?;
                let maps = service.map.as_mut()?;
                maps.remove(only(maps, is_map(to))?);
            }
            Part::Mapping { of: MappedInto::Host(name), to } => {
                let host = self.hosts.iter_mut().find(|host| host.name == *name)?;
                host.map.remove(only(&host.map, is_map(to))?);
            }
            Part::Translation { service, by, from } => {
                let service = self.services.iter_mut().find(|known| known.name == *service)?;
                let at = only(&service.translate, |of| is_translation(of, by, from))?;
                service.translate.remove(at);
            }
            Part::Root { service, library, root } => {
                let service = self.services.iter_mut().find(|known| known.name == *service)?;
                let at = only(&service.libraries, |known| known.name == *library)?;
                let roots = &mut service.libraries[at].roots;
                let at = only(roots, |known| known.written == *root)?;
                // A library has a root.
                if roots.len() == 1 {
                    return None;
                }
                roots.remove(at);
            }
            Part::Mount { host, at } => {
                self.mounts.remove(only(&self.mounts, |mount| is_mount(mount, host, at))?);
            }
            _ => return None,
        }
        Some(())
    }
}

fn of_service<'a>(service: &'a mut Service, part: &Part, key: &str) -> Option<&'a mut dyn Field> {
    Some(match part {
        Part::Service(_) => match key {
            "runs_as" => &mut service.runs_as,
            "groups" => &mut service.groups,
            "umask" => &mut service.umask,
            "waits_for" => &mut service.waits_for,
            "map" => service.map.as_mut()?,
            "translate" => &mut service.translate,
            "ports" => &mut service.ports,
            "config" => &mut service.config,
            "backup" => &mut service.backup,
            _ => return None,
        },
        Part::Mapping { to, .. } => {
            let maps = service.map.as_mut()?;
            let at = only(maps, is_map(to))?;
            return of_map(&mut maps[at], key);
        }
        Part::Translation { by, from, .. } => {
            let at = only(&service.translate, |of| is_translation(of, by, from))?;
            let translation = &mut service.translate[at];
            match key {
                "from" => &mut translation.from,
                "to" => &mut translation.to,
                _ => return None,
            }
        }
        Part::Port { port, .. } if key.is_empty() => {
            let at = only(&service.ports, |known| known == port.raw())?;
            &mut service.ports[at]
        }
        Part::Library { name, .. } => {
            let at = only(&service.libraries, |library| library.name == *name)?;
            let library = &mut service.libraries[at];
            match key {
                "roots" => &mut library.roots,
                "backup" => &mut library.backup,
                "original" => &mut library.original,
                _ => return None,
            }
        }
        Part::Root { library, root, .. } if key.is_empty() => {
            let at = only(&service.libraries, |known| known.name == *library)?;
            let roots = &mut service.libraries[at].roots;
            let at = only(roots, |known| known.written == *root)?;
            &mut roots[at]
        }
        _ => return None,
    })
}

fn of_map<'a>(map: &'a mut Mapping, key: &str) -> Option<&'a mut dyn Field> {
    Some(match key {
        "from" => match &mut map.source {
            MapSource::Folder(from) => from,
            _ => return None,
        },
        "to" => &mut map.to,
        "access" => &mut map.access,
        "label" => &mut map.label,
        "propagation" => &mut map.propagation,
        "options" => match &mut map.source {
            MapSource::Share(engine) => &mut engine.options,
            _ => return None,
        },
        "source" => match &mut map.source {
            MapSource::Share(engine) => match &mut engine.from {
                MountSource::Literal(source) => source,
                MountSource::Share(_) => return None,
            },
            _ => return None,
        },
        _ => return None,
    })
}
