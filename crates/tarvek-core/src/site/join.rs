//! The join: what the layout declares and what was observed, under one set of host names.

use std::any::Any;
use std::borrow::Cow;
use std::collections::{BTreeSet, HashMap};
use std::net::IpAddr;
use std::sync::Arc;

use crate::facts::host::{Gap, HostFacts};
use crate::facts::mounts::{FstabEntry, MountTable};
use crate::facts::tree::{NodeId, Tree};
use crate::kernel::entry::Meta;
use crate::kernel::object::Object;
use crate::kernel::subject::Subject;
use crate::layout::mapping::{MapSource, Mapping};
use crate::layout::share::Share;
use crate::layout::site::Layout;
use crate::site::indexed::{Indexed, People, first};
use crate::site::layer::Layer;
use crate::site::offered::{served, unnamed};
use crate::site::suppose::{Change, Objects};
use crate::words::grammar::{self, Naming};
use crate::words::name::Name;
use crate::words::part::Part;
use crate::words::path::AbsPath;
use crate::words::remedy::Step;
use crate::words::terms::{Account, Group, Os, Protocol};

/// A layout with the facts of its hosts. A copy shares the facts, so that a change can be supposed
/// at little cost.
#[derive(Clone, Debug)]
pub struct Site {
    /// What is declared; empty where there is no layout.
    pub layout: Indexed,
    facts: Vec<(Name, Arc<IndexedFacts>)>,
    /// Processes whose view was seen, as hosts of their own, and where they run.
    processes: Vec<(Name, Name)>,
    /// What the layout says of shares that their hosts serve otherwise; there the layout has what
    /// is served.
    declared: Vec<Share>,
    /// Changes that are supposed to have been made.
    changes: Vec<Change>,
    /// Layers that are supposed to be writable.
    writable: Vec<Layer>,
    /// Whether it is only supposed, to see whether a remedy holds.
    pub(crate) is_trial: bool,
    /// The time at which it is judged: seconds since 1970 UTC.
    pub now: i64,
    /// How old what was seen may be, in seconds.
    pub max_age: Option<i64>,
}

/// What was seen of a host, and where things stand in its lists: of several of one number, name or
/// path the first.
#[derive(Clone, Debug)]
struct IndexedFacts {
    facts: HostFacts,
    people: People,
    /// The lines of its fstab by their mount point.
    fstab: HashMap<AbsPath, usize>,
    gaps: HashMap<AbsPath, usize>,
}

impl From<HostFacts> for IndexedFacts {
    fn from(facts: HostFacts) -> Self {
        Self {
            people: People::of(&facts.accounts, &facts.groups),
            fstab: first(facts.fstab.iter().map(|line| line.point.clone())),
            gaps: first(facts.gaps.iter().map(|gap| gap.path.clone())),
            facts,
        }
    }
}

impl Site {
    /// Joins facts to the hosts of a layout. Facts of a host that the layout does not name stay
    /// under their own name.
    ///
    /// # Errors
    /// The name of a host that two facts claim.
    pub fn join(layout: Layout, facts: Vec<HostFacts>) -> Result<Self, Name> {
        facts.into_iter().try_fold(Self::of_layout(layout), Self::with)
    }

    fn of_layout(layout: Layout) -> Self {
        Self {
            layout: layout.into(),
            facts: Vec::new(),
            processes: Vec::new(),
            declared: Vec::new(),
            changes: Vec::new(),
            writable: Vec::new(),
            is_trial: false,
            now: 0,
            max_age: None,
        }
    }

    /// Joins the facts of one more host.
    ///
    /// # Errors
    /// The host's name, if there are facts of it already.
    pub fn with(mut self, mut facts: HostFacts) -> Result<Self, Name> {
        let name = self.host_named(facts.name.raw()).unwrap_or(&facts.name).clone();
        if self.facts(&name).is_some() {
            return Err(name);
        }
        let declared = self.layout.host(&name);
        let HostFacts { tree, accounts, groups, .. } = &mut facts;
        tree.resolve_names(|written, group| match group {
            true => {
                let all = groups.iter().chain(declared.into_iter().flat_map(|host| &host.groups));
                all.into_iter().find(|group| group.name == *written).map(|group| group.gid)
            }
            false => {
                let all =
                    accounts.iter().chain(declared.into_iter().flat_map(|host| &host.accounts));
                all.into_iter().find(|account| account.name == written).map(|account| account.uid)
            }
        });
        let of_host = self.layout.shares.iter().enumerate();
        let of_host = of_host.filter(|(_, share)| share.host == name && share.origin.line > 0);
        let served: Vec<(usize, Share)> = of_host
            .filter_map(|(n, share)| Some((n, served(share, &self.layout, &facts)?)))
            .collect();
        for (n, share) in served {
            let declared = std::mem::replace(&mut self.layout.shares[n], share);
            self.declared.push(declared);
        }
        let more = unnamed(&self.layout, &name, &facts.told.configured.facts);
        if !more.is_empty() {
            self.layout.shares.extend(more);
        }
        self.facts.push((name, Arc::new(facts.into())));
        self.layout.derived = Arc::default();
        Ok(self)
    }

    /// The same with other facts of a host in place of what is known of it.
    ///
    /// # Errors
    /// As [`Site::with`].
    pub fn with_instead(&self, facts: HostFacts) -> Result<Self, Name> {
        let mut site = self.clone();
        let name = self.host_named(facts.name.raw()).unwrap_or(&facts.name).clone();
        site.facts.retain(|(known, _)| *known != name);
        for share in std::mem::take(&mut site.declared) {
            let known = site.layout.shares.iter().position(|known| known.name == share.name);
            match known.filter(|_| share.host == name) {
                Some(n) => site.layout.shares[n] = share,
                None => site.declared.push(share),
            }
        }
        site.layout.derived = Arc::default();
        site.with(facts)
    }

    /// The folders of a host that were asked for and whose survey left them where they are, since
    /// the last time.
    pub fn take_wanted(&self, host: &Name) -> BTreeSet<NodeId> {
        self.tree(host).map(Tree::take_wanted).unwrap_or_default()
    }

    /// What was seen of a host, for more of it to be read.
    pub fn facts_mut(&mut self, host: &Name) -> Option<&mut HostFacts> {
        let (_, seen) = self.facts.iter_mut().find(|(name, _)| name == host)?;
        self.layout.derived = Arc::default();
        Some(&mut Arc::make_mut(seen).facts)
    }

    /// What the layout says of a share; [`Site::layout`] has it as its host serves it.
    pub fn declared_share<'s>(&'s self, share: &'s Share) -> &'s Share {
        self.declared.iter().find(|declared| declared.name == share.name).unwrap_or(share)
    }

    /// The host that serves a share otherwise than the layout says; `None` if none does.
    pub(crate) fn serves_otherwise(&self, share: &Name) -> Option<&Name> {
        self.declared.iter().find(|declared| declared.name == *share).map(|share| &share.host)
    }

    /// Whether no entry is supposed to have changed.
    pub(crate) fn is_as_seen(&self) -> bool {
        self.changes.is_empty()
    }

    /// What was derived from this site before, a value of each type. It may rest on the layout, on
    /// mounts, and on which entries there are; not on the rights of entries, which may be supposed
    /// to be others.
    pub(crate) fn derived<T: Any + Send + Sync + Default>(&self) -> Arc<T> {
        self.layout.derived.get()
    }

    /// Joins what a process of a host sees. It is a host of its own here, under a name that no host
    /// of a layout can have.
    ///
    /// # Errors
    /// As [`Site::with`].
    pub fn with_process(self, facts: HostFacts, host: &Name) -> Result<Self, Name> {
        let process = facts.name.clone();
        let mut site = self.with(facts)?;
        site.processes.push((process, host.clone()));
        site.layout.derived = Arc::default();
        Ok(site)
    }

    /// The host that a process runs on, if the name is that of a process.
    pub fn runs_on(&self, process: &Name) -> Option<&Name> {
        self.processes.iter().find(|(name, _)| name == process).map(|(_, host)| host)
    }

    /// The site as it would be after one more change.
    pub fn supposing(&self, change: Change) -> Self {
        let mut site = self.clone();
        site.changes.push(change);
        site
    }

    /// The same places, as if all ids were the hosts' own: where a way leads does not depend on who
    /// may go it.
    pub(crate) fn without_namespaces(&self) -> Cow<'_, Self> {
        let has_own = self.layout.services.iter().any(|service| service.userns.is_some())
            || self.layout.hosts.iter().any(|host| !host.idmap.is_empty());
        if !has_own {
            return Cow::Borrowed(self);
        }
        let mut site = self.clone();
        site.layout.services.iter_mut().for_each(|service| service.userns = None);
        site.layout.hosts.iter_mut().for_each(|host| host.idmap.clear());
        Cow::Owned(site)
    }

    /// The same, to be changed and judged again: no remedies are sought in it.
    pub(crate) fn as_trial(&self) -> Self {
        Self { is_trial: true, ..self.clone() }
    }

    /// The site as it would be after the edits of its layout among some steps, made in earnest as
    /// well; `None` if one of them finds nothing to change.
    pub(crate) fn after(&self, steps: &[Step]) -> Option<Self> {
        let mut site = self.as_trial();
        for edit in steps.iter().filter_map(Step::edit) {
            site.layout.edit(edit)?;
            if let (Part::Mount { host, .. }, "options") = (&edit.part, edit.key) {
                site.remount(host, &edit.part);
            }
        }
        Some(site)
    }

    /// Supposes that what is mounted at a declared mount has the options that are declared now.
    fn remount(&mut self, host: &Name, part: &Part) {
        let mut mounts = self.layout.mounts.iter();
        let Some(mount) = mounts.find(|mount| Part::mount(&mount.host, &mount.at) == *part) else {
            return;
        };
        let (point, options) = (mount.at.clone(), mount.options.clone());
        let seen = self.facts.iter_mut().find(|(name, _)| name == host);
        let table = seen.and_then(|(_, seen)| Arc::make_mut(seen).facts.mounts.as_mut());
        if let Some(table) = table {
            table.remount(&point, &options);
        }
        self.layout.derived = Arc::default();
    }

    /// The site as it would be with the two sides of the mapping in a line swapped; `None` if there
    /// is none.
    pub(crate) fn with_sides_swapped(&self, line: u32) -> Option<Self> {
        let mut site = self.as_trial();
        let maps = site.layout.services.iter_mut().filter_map(|service| service.map.as_mut());
        let map = maps.flatten().find(|map| map.origin.line == line)?;
        let MapSource::Folder(from) = &mut map.source else { return None };
        std::mem::swap(from, &mut map.to);
        Some(site)
    }

    /// The site as it would be with a layer made writable.
    pub fn supposing_writable(&self, layer: &Layer) -> Self {
        let mut site = self.clone();
        site.writable.push(layer.clone());
        site
    }

    /// The layers that are supposed to have been made writable.
    pub(crate) fn writable_layers(&self) -> &[Layer] {
        &self.writable
    }

    /// Whether a layer is supposed to have been made writable.
    pub(crate) fn is_supposed_writable(&self, layer: &Layer) -> bool {
        self.writable.iter().any(|open| open.at == layer.at && open.kind == layer.kind)
    }

    /// The entries of a host, as they are or are supposed to be.
    pub fn objects(&self, host: &Name) -> Option<Objects<'_>> {
        self.objects_of(host).map(|(_, objects)| objects)
    }

    /// One entry of a host.
    pub fn object(&self, host: &Name, node: NodeId) -> Option<Object<'_>> {
        Some(self.objects(host)?.of(node))
    }

    /// Facts of a host, if it was observed.
    pub fn facts(&self, host: &Name) -> Option<&HostFacts> {
        Some(&self.indexed_facts(host)?.facts)
    }

    fn indexed_facts(&self, host: &Name) -> Option<&IndexedFacts> {
        self.facts.iter().find(|(name, _)| name == host).map(|(_, seen)| &**seen)
    }

    /// The line of a host's fstab for a mount point.
    pub fn fstab_at(&self, host: &Name, point: &AbsPath) -> Option<&FstabEntry> {
        let seen = self.indexed_facts(host)?;
        Some(&seen.facts.fstab[*seen.fstab.get(point)?])
    }

    /// The mount table of a host, if it was seen.
    pub fn mounts(&self, host: &Name) -> Option<&MountTable> {
        self.facts(host)?.mounts.as_ref()
    }

    /// The protocol by which what a mapping shows of a host comes to that host; `None` if it lies
    /// there.
    pub fn network_of(&self, host: &Name, mapping: &Mapping) -> Option<Protocol> {
        let path = match &mapping.source {
            MapSource::Share(mount) => return Some(mount.protocol),
            MapSource::Folder(from) => from.path.as_ref().ok()?,
            MapSource::Volume(_) => return None,
        };
        if let Some(table) = self.mounts(host) {
            return table.at(path)?.network();
        }
        let declared = self.layout.mounts.iter().filter(|m| m.host == *host && path.within(&m.at));
        let nearest = declared.max_by_key(|mount| mount.at.components().count())?;
        Some(nearest.protocol).filter(|protocol| protocol.is_network())
    }

    /// A host's system.
    pub fn os(&self, host: &Name) -> Os {
        self.layout.host(host).map(|host| host.os).unwrap_or_default()
    }

    /// All observed hosts with their facts.
    pub fn observed(&self) -> impl Iterator<Item = (&Name, &HostFacts)> {
        self.facts.iter().map(|(name, seen)| (name, &seen.facts))
    }

    /// The hosts of which a look was broken off.
    pub fn partial(&self) -> impl Iterator<Item = &Name> {
        self.observed().filter(|(_, facts)| !facts.complete).map(|(name, _)| name)
    }

    /// What was seen of a host's files.
    pub fn tree(&self, host: &Name) -> Option<&Tree> {
        self.facts(host).map(|facts| &facts.tree)
    }

    /// The entries of a host as they are or are supposed to be, with the host's name for as long as
    /// the site lives.
    pub fn objects_of(&self, host: &Name) -> Option<(&Name, Objects<'_>)> {
        let (name, facts) = self.observed().find(|(name, _)| *name == host)?;
        Some((name, Objects::new(&facts.tree, name, &self.changes)))
    }

    /// Whether the site knows a host of that name, declared or observed.
    pub fn knows(&self, host: &Name) -> bool {
        self.layout.host(host).is_some() || self.facts(host).is_some()
    }

    /// The host that goes by a name or address: its own name, a declared address, or the first
    /// label of either.
    pub fn host_named(&self, written: &str) -> Option<&Name> {
        let written = written.trim_matches(['[', ']']);
        let label = |name: &str| name.split('.').next().unwrap_or(name).to_ascii_lowercase();
        let is_number = written.parse::<IpAddr>().is_ok();
        let exact = |name: &Name| name.raw().eq_ignore_ascii_case(written);
        let hosts = || self.layout.hosts.iter();
        hosts()
            .find(|host| exact(&host.name) || host.addresses.iter().any(exact))
            .or_else(|| hosts().find(|host| !is_number && label(host.name.raw()) == label(written)))
            .map(|host| &host.name)
            .or_else(|| self.facts.iter().map(|(name, _)| name).find(|name| exact(name)))
    }

    /// `root:keepers`, with numbers where a host has no name for them.
    pub fn owner_text(&self, host: &Name, meta: &Meta) -> String {
        format!("{}:{}", self.user_text(host, meta.uid), self.group_text(host, meta.gid))
    }

    /// A user's name on a host as commands take it, else its number.
    pub fn user_text(&self, host: &Name, uid: u32) -> String {
        let seen = self.account_numbered(host, uid).map(|account| &account.name);
        text_of(seen, uid)
    }

    /// A group's name on a host as commands take it, else its number.
    pub fn group_text(&self, host: &Name, gid: u32) -> String {
        let seen =
            self.indexed_facts(host).and_then(|seen| seen.people.group(&seen.facts.groups, gid));
        let group = seen.or_else(|| self.layout.group(host, gid));
        text_of(group.map(|group| &group.name), gid)
    }

    /// The account of that number on a host.
    pub fn account_numbered(&self, host: &Name, uid: u32) -> Option<&Account> {
        let seen =
            self.indexed_facts(host).and_then(|seen| seen.people.user(&seen.facts.accounts, uid));
        seen.or_else(|| self.layout.user(host, uid))
    }

    /// What could not be seen of a host that a path is in, the nearest.
    pub fn gap_at(&self, host: &Name, path: &AbsPath) -> Option<&Gap> {
        let seen = self.indexed_facts(host)?;
        let mut above = std::iter::successors(Some(path.clone()), AbsPath::parent);
        above.find_map(|place| Some(&seen.facts.gaps[*seen.gaps.get(&place)?]))
    }

    /// The accounts of a host: observed ones first, then declared ones.
    pub fn accounts(&self, host: &Name) -> impl Iterator<Item = &Account> {
        let observed = self.facts(host).into_iter().flat_map(|facts| &facts.accounts);
        observed.chain(self.layout.host(host).into_iter().flat_map(|host| &host.accounts))
    }

    /// The groups of a host: observed ones first, then declared ones.
    pub fn groups(&self, host: &Name) -> impl Iterator<Item = &Group> {
        let observed = self.facts(host).into_iter().flat_map(|facts| &facts.groups);
        observed.chain(self.layout.host(host).into_iter().flat_map(|host| &host.groups))
    }

    /// The number of a group on a host.
    pub fn gid_of(&self, host: &Name, group: &Name) -> Option<u32> {
        let seen = self.indexed_facts(host);
        let seen = seen.and_then(|seen| seen.people.group_named(&seen.facts.groups, group));
        seen.or_else(|| self.layout.group_named(host, group)).map(|known| known.gid)
    }

    /// What a login as this account would be: its uid, primary gid and every group that lists it.
    /// An account whose primary group is not known is taken to have a group of its own number, as
    /// most systems make it.
    pub fn login(&self, host: &Name, account: &Account) -> Subject {
        let groups = account.groups.iter().filter_map(|group| self.gid_of(host, group));
        Subject::new(account.uid, account.gid.unwrap_or(account.uid), groups)
    }

    /// The account of that name on a host.
    pub fn account(&self, host: &Name, name: &Name) -> Option<&Account> {
        let seen = self.indexed_facts(host);
        let seen = seen.and_then(|seen| seen.people.user_named(&seen.facts.accounts, name));
        seen.or_else(|| self.layout.user_named(host, name))
    }
}

/// What a command takes for a user or group: the name, if nothing of it has a meaning of its own
/// there (a host's account database may hold anything), else the number.
pub fn text_of(name: Option<&Name>, number: u32) -> String {
    match name.filter(|name| grammar::fault(Naming::Account, name.raw()).is_none()) {
        Some(name) => name.raw().to_owned(),
        None => number.to_string(),
    }
}
