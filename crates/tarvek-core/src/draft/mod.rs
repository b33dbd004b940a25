//! From a brief to a layout that is right from the start, with the reason for each choice.

pub mod brief;
mod network;
mod services;
mod storage;

use crate::draft::brief::{Brief, Reach, Team, Wanted};
use crate::layout::host::{Host, HostRole};
use crate::layout::mapping::Declared;
use crate::layout::site::Layout;
use crate::words::name::Name;
use crate::words::path::AbsPath;
use crate::words::terms::{Account, Group, Kind, Origin};

/// Why something is as it is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Reason {
    /// What it is about, as the layout names it: `host.granary`, `share.media`, `/loft/media`.
    pub about: String,
    /// In one sentence.
    pub why: String,
}

/// A drafted layout.
#[derive(Clone, Debug, PartialEq)]
pub struct Draft {
    /// The layout. It has no places in a file yet.
    pub layout: Layout,
    /// Its reasons, in the order in which they matter.
    pub reasons: Vec<Reason>,
}

/// Everybody in the folder's group may add and change; new entries get that group.
const SHARED: u16 = 0o2775;
/// The same, and nobody else may do anything.
const CLOSED: u16 = 0o2770;
/// What services see the storage as.
const INSIDE: &[u8] = b"/media";
const INSIDE_INTAKE: &[u8] = b"/intake";
const CONFIG: &[u8] = b"/config";

/// Makes a layout of a brief that has no [`brief::contradictions`].
pub fn draft(brief: &Brief) -> Draft {
    let mut drafter = Drafter { brief, reasons: Vec::new() };
    let layout = Layout {
        site: brief.site.clone(),
        hosts: drafter.hosts(),
        shares: drafter.shares(),
        mounts: drafter.mounts(),
        services: drafter.services(),
        intakes: drafter.intakes(),
        folders: drafter.folders(),
        waste: Default::default(),
        rules: Default::default(),
        adopted: Default::default(),
    };
    Draft { layout, reasons: drafter.reasons }
}

struct Drafter<'a> {
    brief: &'a Brief,
    reasons: Vec<Reason>,
}

/// One connected part of the storage: what is shared, mounted and mapped as one.
#[derive(Clone)]
struct Area {
    share: &'static str,
    path: AbsPath,
    /// Where services see it.
    inside: AbsPath,
}

fn absolute(path: &[u8]) -> AbsPath {
    AbsPath::new(path).expect("it is written so")
}

fn declared(path: &AbsPath) -> Declared {
    Declared {
        written: String::from_utf8_lossy(path.as_bytes()).into_owned().into(),
        path: Ok(path.clone()),
        origin: Origin::default(),
    }
}

fn pair(name: &str, value: &str) -> (String, String) {
    (name.to_owned(), value.to_owned())
}

/// How a list names a group.
fn in_group(team: &Team) -> Name {
    format!("@{}", team.name.raw()).into()
}

fn title(kind: Kind) -> Name {
    let word = kind.word().replace('-', " ");
    let mut letters = word.chars();
    let first = letters.next().into_iter().flat_map(char::to_uppercase);
    first.chain(letters).collect::<String>().into()
}

impl Drafter<'_> {
    fn why(&mut self, about: impl Into<String>, why: impl Into<String>) {
        self.reasons.push(Reason { about: about.into(), why: why.into() });
    }

    fn media(&self) -> AbsPath {
        self.brief.storage.at.child(b"media")
    }

    /// Where downloads are on their way.
    fn intake(&self) -> AbsPath {
        match &self.brief.storage.intake_pool {
            Some((pool, _)) if *pool != self.brief.storage.pool => {
                absolute(format!("/{}", pool.raw()).as_bytes()).child(b"intake")
            }
            _ => self.media().child(b"intake"),
        }
    }

    fn has_intake(&self) -> bool {
        self.brief.services.iter().any(Wanted::writes)
    }

    fn apart(&self) -> bool {
        self.has_intake() && !self.intake().within(&self.media())
    }

    fn areas(&self) -> Vec<Area> {
        let media = Area { share: "media", path: self.media(), inside: absolute(INSIDE) };
        let intake = Area { share: "intake", path: self.intake(), inside: absolute(INSIDE_INTAKE) };
        if self.apart() { vec![media, intake] } else { vec![media] }
    }

    /// Kinds that get a dataset of their own.
    fn apart_kinds(&self) -> Vec<Kind> {
        let datasets = self.brief.storage.filesystem.has_datasets();
        self.brief
            .kinds
            .iter()
            .copied()
            .filter(|kind| datasets && self.brief.is_apart(*kind))
            .collect()
    }

    fn hosts(&mut self) -> Vec<Host> {
        let brief = self.brief;
        let mut hosts = vec![self.storage()];
        for apps in &brief.apps {
            let accounts = self.accounts(|service| service.host == apps.host, false);
            let mut groups = Vec::new();
            if brief.services.iter().any(|s| s.host == apps.host && s.writes()) {
                let team = if brief.acls { &brief.helpers } else { &brief.keepers };
                groups.push(Group { name: team.name.clone(), gid: team.gid });
            }
            if !accounts.is_empty() {
                self.why(
                    format!("host.{}", apps.host),
                    match apps.reach {
                        Reach::Nfs => format!(
                            "accounts have the same numbers as on {}: over NFS only numbers travel",
                            brief.storage.host
                        ),
                        Reach::Smb => format!(
                            "accounts have the same numbers as on {}, so that nobody has to \
                             translate; over SMB the server sees the account that mounts",
                            brief.storage.host
                        ),
                    },
                );
            }
            hosts.push(Host {
                roles: vec![HostRole::Apps],
                addresses: vec![apps.address.clone()],
                selinux: apps.selinux.then_some(true),
                accounts,
                groups,
                ..host(&apps.host)
            });
        }
        hosts.extend(brief.clients.iter().map(|client| Host {
            roles: vec![HostRole::Client],
            os: client.os,
            ..host(&client.host)
        }));
        hosts
    }

    fn accounts(&self, of: impl Fn(&Wanted) -> bool, people: bool) -> Vec<Account> {
        let brief = self.brief;
        let mut accounts = Vec::new();
        if people {
            let members = [(&brief.add, &brief.keepers), (&brief.watch, &brief.viewers)];
            for (people, team) in members {
                accounts.extend(people.iter().map(|person| Account {
                    name: person.name.clone(),
                    uid: person.uid,
                    gid: None,
                    groups: vec![team.name.clone()],
                }));
            }
        }
        accounts.extend(brief.services.iter().filter(|service| of(service)).map(|service| {
            Account {
                name: service.name.clone(),
                uid: service.id,
                gid: Some(self.gid(service)),
                groups: Vec::new(),
            }
        }));
        accounts
    }

    /// Writers have the group of writers for their own, so that what they make anywhere belongs to
    /// it.
    fn gid(&self, service: &Wanted) -> u32 {
        match (service.writes(), self.brief.acls) {
            (false, _) => service.id,
            (true, true) => self.brief.helpers.gid,
            (true, false) => self.brief.keepers.gid,
        }
    }
}

fn config_of(service: &Wanted) -> AbsPath {
    absolute(b"/srv").child(service.name.raw().as_bytes())
}

fn host(name: &Name) -> Host {
    Host { name: name.clone(), ..Host::default() }
}
