//! What would be made at the end of a route, and what can be done with it.

use crate::judge::access_check::{AccessCheck, judge};
use crate::judge::verdict::{Answer, Need};
use crate::kernel::entry::EntryKind;
use crate::kernel::new_entry::{Making, predict};
use crate::kernel::object::Object;
use crate::route::hops::{HopKind, Route};
use crate::site::join::Site;
use crate::words::offer::SmbOffer;
use crate::words::terms::Protocol;

/// What is made at the end of a route by whoever comes this way: their umask and what they ask for,
/// what the mounts and shares make of that, and the folder itself. `None` if the end is no folder
/// that was seen, or if it is not known who comes.
pub fn new_entry<'a>(site: &'a Site, route: &Route, making: Making) -> Option<Object<'a>> {
    let (last, node) = route.entry().filter(|_| route.doubt().is_none())?;
    let folder = site.object(&last.seen_on, node).filter(Object::is_folder)?;
    let mount = site.mounts(&last.seen_on).and_then(|table| table.at(&last.at.path));
    let grpid = mount.is_some_and(|mount| mount.has("grpid") || mount.has("bsdgroups"));
    let offer = route.hops.iter().rev().find_map(|hop| match (hop.kind, &hop.share) {
        (HopKind::Share, Some((Protocol::Smb, Some(name)))) => {
            site.layout.share(name)?.smb.as_ref()
        }
        _ => None,
    });
    let making = match offer {
        Some(offer) => over_smb(offer, making.kind == EntryKind::Folder),
        None => Making { umask_always: making.umask_always || route.umask_always, grpid, ..making },
    };
    Some(predict(&folder, &last.subject, making))
}

/// What an SMB server asks its own filesystem for, whatever the client's program asked for
/// (`smb.conf(5)`): the masks of the share, and no umask.
fn over_smb(offer: &SmbOffer, makes_folder: bool) -> Making {
    // A new file has the DOS archive attribute, which stands as the owner's x (`map archive`).
    let (kind, asked) = if makes_folder {
        let asked = 0o777 & offer.folder_mask.unwrap_or(0o755);
        (EntryKind::Folder, asked | offer.force_folder_mode.unwrap_or(0))
    } else {
        let asked = 0o766 & offer.create_mask.unwrap_or(0o744);
        (EntryKind::File, asked | offer.force_create_mode.unwrap_or(0))
    };
    Making { kind, asked, umask: 0, umask_always: false, grpid: false, by_smbd: true }
}

/// Judges a need of a subject on an entry that a folder would hold: what one can do with a file
/// that is yet to be made. Everything up to the folder is judged along the route; `entry` is only
/// supposed.
pub fn judge_within(site: &Site, route: &Route, entry: &Object, need: Need) -> Answer {
    let entered = judge(site, route, Need::Enter);
    let (true, Some((last, node))) = (entered.is_allowed(), route.entry()) else {
        return Answer { need, ..entered };
    };
    let along = AccessCheck { site, route, need };
    let judged = match (need, site.object(&last.seen_on, node)) {
        (Need::Remove, Some(folder)) => along.taken_out(&route.layers, last, &folder, last, entry),
        (need, _) => along.has(last, entry, need),
    };
    judged.unwrap_or_else(|answer| *answer)
}

#[cfg(test)]
mod tests {
    use std::borrow::Cow;

    use super::*;
    use crate::kernel::acl::{Acl, AclEntry, Tag};
    use crate::kernel::entry::Meta;
    use crate::kernel::subject::Subject;

    /// What a server made when it was asked, each a disagreement once.
    #[test]
    fn an_smb_server_keeps_attributes_in_the_mode_where_it_can_keep_them_nowhere_else() {
        let offer = SmbOffer::default();
        let made = |perms: [u8; 3], making: Making| {
            let tags = [Tag::UserObj, Tag::GroupObj, Tag::Other];
            let entries = tags.into_iter().zip(perms).map(|(tag, perm)| AclEntry { tag, perm });
            let default_acl = Some(Cow::Owned(Acl::new(entries.collect())));
            let meta = Meta::new(EntryKind::Folder, 0o777, 0, 2100);
            let folder = Object { default_acl, ..Object::plain(meta) };
            let made = predict(&folder, &Subject::new(840, 841, []), making);
            format!("{:04o} {}:{}", made.meta.mode, made.meta.uid, made.meta.gid)
        };
        let making = over_smb(&offer, false);
        // Its maker may write it, or would be let by an entry for others: the default ACL stands.
        assert_eq!(made([6, 6, 6], making), "0644 840:841");
        // They may not: the mode becomes what was asked for.
        assert_eq!(made([5, 5, 0], making), "0744 840:841");
        let narrow = SmbOffer { create_mask: Some(0o600), ..offer };
        assert_eq!(made([0, 7, 7], over_smb(&narrow, false)), "0600 840:841");
        assert_eq!(made([5, 5, 0], over_smb(&narrow, true)), "0550 840:841");
    }
}
