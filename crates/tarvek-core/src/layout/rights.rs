//! What the declared rights of a folder mean in the terms of a filesystem.

use crate::kernel::acl::{Acl, AclEntry, Tag};
use crate::layout::folder::{Folder, Right};
use crate::layout::host::Host;
use crate::layout::service::RunAs;
use crate::layout::site::Layout;
use crate::words::name::Name;

/// The permission that a right is on a folder. Adding without changing is what a folder's bits
/// can't tell apart.
fn perm(right: Right) -> u8 {
    match right {
        Right::None => 0,
        Right::Read => 5,
        Right::Add | Right::Change => 7,
    }
}

/// The access ACL, and the same default ACL, that the rights of a folder, or of the nearest one
/// above that has any, make on it (`acl(5)`). `None` where nothing is declared but the mode.
pub fn acl(layout: &Layout, host: &Host, folder: &Folder) -> Option<Acl> {
    let rights = nearest_rights(layout, host, folder);
    if rights.is_empty() {
        return None;
    }
    let root = Name::from("root");
    let owner = folder.owner.as_ref().unwrap_or(&root);
    let own_group = host.gid_of(folder.group.as_ref().unwrap_or(owner));
    let mode = folder.mode.unwrap_or(0o755);
    let bits = |shift: u16| (mode >> shift & 7) as u8;
    let mut group_perm = bits(3);
    let (mut users, mut groups) = (Vec::new(), Vec::new());
    for (who, right) in rights {
        let perm = perm(*right);
        match who.raw().strip_prefix('@') {
            Some(name) => match host.gid_of(&name.into()) {
                gid if gid == own_group => group_perm = perm,
                Some(gid) => groups.push((gid, perm)),
                None => {}
            },
            None => {
                let uid = host.uid_of(who).or_else(|| service_uid(layout, who));
                users.extend(uid.map(|uid| (uid, perm)));
            }
        }
    }
    users.sort_unstable();
    groups.sort_unstable();
    let mask = users.iter().chain(&groups).fold(group_perm, |mask, (_, perm)| mask | perm);
    let mut entries = vec![AclEntry { tag: Tag::UserObj, perm: 7 }];
    entries.extend(users.iter().map(|&(uid, perm)| AclEntry { tag: Tag::User(uid), perm }));
    entries.push(AclEntry { tag: Tag::GroupObj, perm: group_perm });
    entries.extend(groups.iter().map(|&(gid, perm)| AclEntry { tag: Tag::Group(gid), perm }));
    entries.push(AclEntry { tag: Tag::Mask, perm: mask });
    entries.push(AclEntry { tag: Tag::Other, perm: bits(0) });
    Some(Acl::new(entries))
}

/// Whether the rights that hold for a folder speak of its owning group, if the layout says which
/// that is.
pub fn of_own_group(layout: &Layout, host: &Host, folder: &Folder) -> bool {
    let Some(group) = folder.group.as_ref().and_then(|group| host.gid_of(group)) else {
        return false;
    };
    let rights = nearest_rights(layout, host, folder);
    let groups = rights.iter().filter_map(|(who, _)| who.raw().strip_prefix('@'));
    groups.into_iter().any(|name| host.gid_of(&name.into()) == Some(group))
}

/// The rights of a folder, or of the nearest one above that has any.
fn nearest_rights<'a>(layout: &'a Layout, host: &Host, folder: &Folder) -> &'a [(Name, Right)] {
    let above = layout.folders.iter().filter(|other| {
        other.host == host.name && !other.rights.is_empty() && folder.path.within(&other.path)
    });
    let nearest = above.max_by_key(|other| other.path.components().count());
    nearest.map_or(&[], |nearest| &nearest.rights)
}

fn service_uid(layout: &Layout, name: &Name) -> Option<u32> {
    match layout.service(name)?.runs_as {
        RunAs::Numbers(uid, _) => Some(uid),
        _ => None,
    }
}
