//! Who arrives: what namespaces and idmapped mounts make of whoever asks.

use std::sync::Arc;

use crate::kernel::subject::{IdMap, Realm, Subject};
use crate::layout::mapping::Mapping;
use crate::route::hops::View;
use crate::route::spot::{Frame, MountVia};
use crate::site::join::Site;
use crate::words::name::Name;

/// Somebody on the outside of a namespace, and what changed them.
pub(super) type Outside = (Subject, Option<String>);

/// Who asks, in the terms in which the owners of what is seen are given: where ids are shifted
/// between the filesystem and the eye, those that are not mapped look like nobody's.
pub(super) fn as_seen(site: &Site, seer: &Frame, subject: &Subject) -> Subject {
    let View::Host(host) = &seer.level else { return subject.clone() };
    if let Some(map) = idmap_of(site, host) {
        return map.from_inside(subject);
    }
    let mount = seer.mount.and_then(|id| site.mounts(host)?.entry(id));
    let realm = match mount {
        Some(mount) if mount.options.has("idmapped") => Some(Realm::displayed_on_a_mount()),
        _ => return subject.clone(),
    };
    Subject { realm: realm.map(Arc::new), ..subject.clone() }
}

/// The shifted ids of a system container.
fn idmap_of(site: &Site, host: &Name) -> Option<IdMap> {
    let idmap = &site.layout.host(host)?.idmap;
    (!idmap.is_empty()).then(|| IdMap::both(idmap.clone()))
}

/// Who a mapping makes of those inside: the user namespace of the service, or of the system
/// container, shifts their ids.
///
/// # Errors
/// Why nobody can be that there.
pub(super) fn outside_of(
    site: &Site,
    level: &View,
    host: &Name,
    subject: &Subject,
    mapping: &Mapping,
) -> Result<Outside, String> {
    let (View::Service(name) | View::Host(name)) = level;
    let of = format!("the user namespace of {name}");
    let map = match level {
        View::Host(name) => idmap_of(site, name),
        View::Service(name) => match site.layout.service(name).map(|s| site.namespace_of(s)) {
            None => None,
            Some(Ok(map)) => map,
            Some(Err(why)) => {
                let unknown = Subject::unknown(format!("{of} is not known: {why}"));
                return Ok((unknown, Some(of)));
            }
        },
    };
    let Some(map) = map else { return Ok((subject.clone(), None)) };
    match map.shift(subject) {
        Err(id) => Err(format!("{of} has no id {id}: nobody can be that there")),
        Ok(_) if mapping.idmap => {
            if let Some(protocol) = site.network_of(host, mapping) {
                return Err(format!(
                    "the mapping in line {} asks for the ids of its namespace (idmap = true), \
                     which no kernel gives to what is \
                     mounted over {}",
                    mapping.origin.line,
                    protocol.word()
                ));
            }
            let by = format!("{of}, to which the mapping is idmapped");
            Ok((map.on_idmapped_mount(subject), Some(by)))
        }
        Ok(shifted) => Ok((shifted, Some(of))),
    }
}

/// The SMB user that the layout names for a mount: its own, or that of the mount declared at the
/// same place.
pub(super) fn smb_user<'a>(site: &'a Site, level: &View, via: &'a MountVia) -> Option<&'a Name> {
    let View::Host(host) = level else { return via.user.as_ref() };
    let declared = site.layout.mount_at(host, &via.point);
    via.user.as_ref().or_else(|| declared.and_then(|mount| mount.user.as_ref()))
}
