//! The layout of a site, with what is looked up in it again and again kept by name and place.

use std::any::{Any, TypeId};
use std::collections::HashMap;
use std::ops::{Deref, DerefMut};
use std::sync::{Arc, Mutex, OnceLock, PoisonError};

use crate::layout::host::Host;
use crate::layout::mount::Mount;
use crate::layout::service::Service;
use crate::layout::share::Share;
use crate::layout::site::Layout;
use crate::words::name::Name;
use crate::words::path::AbsPath;
use crate::words::terms::{Account, Group};

/// A layout that is read like any other. Copies share it, until one of them is changed; whoever
/// changes it gets new lookups.
#[derive(Clone, Debug, Default)]
pub struct Indexed {
    layout: Arc<Layout>,
    places: OnceLock<Arc<Places>>,
    /// What others have derived from the site.
    pub(super) derived: Arc<Derived>,
}

/// What is derived from a layout and the facts of its hosts, for as long as neither changes: a
/// value of each type.
#[derive(Debug, Default)]
pub(super) struct Derived(Mutex<HashMap<TypeId, Arc<dyn Any + Send + Sync>>>);

impl Derived {
    pub(super) fn get<T: Any + Send + Sync + Default>(&self) -> Arc<T> {
        let mut all = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let one = all.entry(TypeId::of::<T>()).or_insert_with(|| Arc::<T>::default());
        Arc::clone(one).downcast().expect("it is kept by its type")
    }
}

/// Where things stand in the lists of a layout; of several the first.
#[derive(Debug, Default)]
struct Places {
    hosts: HashMap<Name, usize>,
    services: HashMap<Name, usize>,
    shares: HashMap<Name, usize>,
    mounts: HashMap<Name, HashMap<AbsPath, usize>>,
    people: HashMap<Name, People>,
}

/// Where accounts and groups stand in their lists, by number and by name.
#[derive(Clone, Debug)]
pub(super) struct People {
    users: HashMap<u32, usize>,
    user_names: HashMap<Name, usize>,
    groups: HashMap<u32, usize>,
    group_names: HashMap<Name, usize>,
}

impl People {
    pub(super) fn of(accounts: &[Account], groups: &[Group]) -> Self {
        Self {
            users: first(accounts.iter().map(|account| account.uid)),
            user_names: first(accounts.iter().map(|account| account.name.clone())),
            groups: first(groups.iter().map(|group| group.gid)),
            group_names: first(groups.iter().map(|group| group.name.clone())),
        }
    }

    /// The account of that number. The list is the one that this was made of, here and below.
    pub(super) fn user<'a>(&self, accounts: &'a [Account], uid: u32) -> Option<&'a Account> {
        accounts.get(*self.users.get(&uid)?)
    }

    pub(super) fn user_named<'a>(
        &self,
        accounts: &'a [Account],
        name: &Name,
    ) -> Option<&'a Account> {
        accounts.get(*self.user_names.get(name)?)
    }

    pub(super) fn group<'a>(&self, groups: &'a [Group], gid: u32) -> Option<&'a Group> {
        groups.get(*self.groups.get(&gid)?)
    }

    pub(super) fn group_named<'a>(&self, groups: &'a [Group], name: &Name) -> Option<&'a Group> {
        groups.get(*self.group_names.get(name)?)
    }
}

/// The first place of each key.
pub(super) fn first<K: std::hash::Hash + Eq>(
    keys: impl DoubleEndedIterator<Item = K> + ExactSizeIterator,
) -> HashMap<K, usize> {
    keys.enumerate().rev().map(|(n, key)| (key, n)).collect()
}

impl Places {
    fn of(layout: &Layout) -> Self {
        let mut places = Self {
            hosts: first(layout.hosts.iter().map(|host| host.name.clone())),
            services: first(layout.services.iter().map(|service| service.name.clone())),
            shares: first(layout.shares.iter().map(|share| share.name.clone())),
            ..Self::default()
        };
        for (n, mount) in layout.mounts.iter().enumerate() {
            let of_host = places.mounts.entry(mount.host.clone()).or_default();
            of_host.entry(mount.at.clone()).or_insert(n);
        }
        for host in &layout.hosts {
            let people = || People::of(&host.accounts, &host.groups);
            places.people.entry(host.name.clone()).or_insert_with(people);
        }
        places
    }
}

impl Indexed {
    fn places(&self) -> &Places {
        self.places.get_or_init(|| Arc::new(Places::of(&self.layout)))
    }

    /// The host of that name.
    pub fn host(&self, name: &Name) -> Option<&Host> {
        Some(&self.layout.hosts[*self.places().hosts.get(name)?])
    }

    /// The service of that name.
    pub fn service(&self, name: &Name) -> Option<&Service> {
        Some(&self.layout.services[*self.places().services.get(name)?])
    }

    /// The share of that name.
    pub fn share(&self, name: &Name) -> Option<&Share> {
        Some(&self.layout.shares[*self.places().shares.get(name)?])
    }

    /// The mount that is declared at a path of a host.
    pub fn mount_at(&self, host: &Name, path: &AbsPath) -> Option<&Mount> {
        Some(&self.layout.mounts[*self.places().mounts.get(host)?.get(path)?])
    }

    /// The declared account of that number.
    pub fn user(&self, host: &Name, uid: u32) -> Option<&Account> {
        self.places().people.get(host)?.user(&self.host(host)?.accounts, uid)
    }

    /// The declared account of that name.
    pub fn user_named(&self, host: &Name, name: &Name) -> Option<&Account> {
        self.places().people.get(host)?.user_named(&self.host(host)?.accounts, name)
    }

    /// The declared group of that number.
    pub fn group(&self, host: &Name, gid: u32) -> Option<&Group> {
        self.places().people.get(host)?.group(&self.host(host)?.groups, gid)
    }

    /// The declared group of that name.
    pub fn group_named(&self, host: &Name, name: &Name) -> Option<&Group> {
        self.places().people.get(host)?.group_named(&self.host(host)?.groups, name)
    }
}

impl From<Layout> for Indexed {
    fn from(layout: Layout) -> Self {
        Self { layout: Arc::new(layout), places: OnceLock::new(), derived: Arc::default() }
    }
}

impl Deref for Indexed {
    type Target = Layout;

    fn deref(&self) -> &Layout {
        &self.layout
    }
}

impl DerefMut for Indexed {
    fn deref_mut(&mut self) -> &mut Layout {
        self.places = OnceLock::new();
        self.derived = Arc::default();
        Arc::make_mut(&mut self.layout)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tests::Scene;
    use crate::words::terms::Protocol;

    #[test]
    fn what_was_changed_is_looked_up_anew() {
        let layout = Scene::over(Protocol::Nfs).layout;
        let before = Indexed::from(layout);
        let name = before.services[0].name.clone();
        assert!(before.service(&name).is_some());
        let mut after = before.clone();
        after.services[0].name = "renamed".into();
        assert!(after.service(&name).is_none() && after.service(&"renamed".into()).is_some());
        assert!(before.service(&name).is_some());
        let site = Scene::over(Protocol::Nfs).site();
        assert!(!site.layout.mounts.is_empty());
        for mount in &site.layout.mounts {
            assert_eq!(site.layout.mount_at(&mount.host, &mount.at), Some(mount));
            assert_eq!(site.layout.mount_at(&"elsewhere".into(), &mount.at), None);
        }
    }
}
