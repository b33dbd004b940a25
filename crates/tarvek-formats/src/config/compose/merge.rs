//! How a service of one file or one that is extended becomes one with what a later file says
//! (Compose Specification, "Merge").

use std::collections::HashSet;
use std::hash::Hash;

use super::parse::{Field, Parts, Volume};

/// `over` on top of `base`.
pub(super) fn merged(mut base: Parts, over: Parts) -> Parts {
    for field in &over.replaces {
        base.forget(*field);
    }
    let Parts {
        spot: _,
        replaces: _,
        extends,
        user,
        image,
        network_mode,
        userns,
        environment,
        env_files,
        volumes,
        tmpfs,
        ports,
        groups,
        networks,
    } = over;
    base.extends = extends.or(base.extends);
    for (field, value) in [
        (&mut base.user, user),
        (&mut base.image, image),
        (&mut base.network_mode, network_mode),
        (&mut base.userns, userns),
    ] {
        if value.is_some() {
            *field = value;
        }
    }
    // Of two of one name the later counts.
    base.environment.extend(environment);
    let there = |volume: &Volume| volume.to.trim_end_matches('/').to_owned();
    let over: HashSet<String> = volumes.iter().map(there).collect();
    base.volumes.retain(|known| !over.contains(&there(known)));
    base.volumes.extend(volumes);
    base.env_files.extend(env_files);
    add(&mut base.tmpfs, tmpfs, |(_, text)| text.clone());
    add(&mut base.ports, ports, |(_, port)| {
        (port.host_ip.clone(), port.published, port.target, port.transport)
    });
    add(&mut base.groups, groups, |(group, _)| group.clone());
    add(&mut base.networks, networks, |(network, _)| network.clone());
    base
}

/// Adds what is not there yet.
fn add<T, K: Hash + Eq>(base: &mut Vec<T>, over: Vec<T>, key: impl Fn(&T) -> K) {
    let known: HashSet<K> = base.iter().map(&key).collect();
    base.extend(over.into_iter().filter(|item| !known.contains(&key(item))));
}

impl Parts {
    /// As if nothing had been said of it.
    fn forget(&mut self, field: Field) {
        match field {
            Field::User => self.user = None,
            Field::Image => self.image = None,
            Field::NetworkMode => self.network_mode = None,
            Field::Userns => self.userns = None,
            Field::Environment => self.environment.clear(),
            Field::EnvFiles => self.env_files.clear(),
            Field::Volumes => self.volumes.clear(),
            Field::Tmpfs => self.tmpfs.clear(),
            Field::Ports => self.ports.clear(),
            Field::Groups => self.groups.clear(),
            Field::Networks => self.networks.clear(),
        }
    }
}
