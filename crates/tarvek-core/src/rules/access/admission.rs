//! What lets somebody into a share that does not admit them.

use crate::route::end::End;
use crate::route::follow_written;
use crate::route::hops::Route;
use crate::rules::real::in_smb;
use crate::site::join::Site;
use crate::words::name::Name;
use crate::words::offer::SmbOffer;
use crate::words::remedy::{Remedy, Step};

/// What makes a share admit whoever comes a way that it refuses; `None` if it does not refuse them.
pub(super) fn remedy(site: &Site, route: &Route) -> Option<Remedy> {
    let End::NotAdmitted { at, share, user, .. } = &route.end else { return None };
    let host = &at.host;
    let none = || {
        let words =
            "see what the server says of the session: the layout has nothing that would admit it";
        Remedy::from(Step::on(host, words))
    };
    let Some(share) = share else { return Some(none()) };
    let holds = |change: &dyn Fn(&mut SmbOffer)| {
        let mut after = site.clone();
        let share = after.layout.shares.iter_mut().find(|known| known.name == *share);
        let Some(offer) = share.and_then(|share| share.smb.as_mut()) else { return false };
        change(offer);
        let again = follow_written(&after, &route.view, &route.written, &route.subject);
        !matches!(again.end, End::NotAdmitted { .. })
    };
    let Some(user) = user else {
        let offer = site.layout.share(share).and_then(|share| share.smb.as_ref());
        let one = offer.and_then(|offer| offer.only.first().or(offer.write.first()));
        let one = one.map_or_else(|| "a user that the share admits".to_owned(), Name::to_string);
        let words = format!(
            "name the user of the mount in the layout (user = \"{one}\"), and in fstab with a credentials file"
        );
        return Some(Step::words(words).into());
    };
    let admit = |offer: &mut SmbOffer| {
        if !offer.only.is_empty() {
            offer.only.push(user.clone());
        }
    };
    let pardon = |offer: &mut SmbOffer| offer.deny.retain(|denied| denied != user);
    let words = if holds(&admit) {
        format!("add {user} to only in the smb of the share {share} in the layout")
    } else if holds(&pardon) {
        format!("take {user} out of deny in the smb of the share {share} in the layout")
    } else if holds(&|offer| {
        admit(offer);
        pardon(offer);
    }) {
        format!(
            "take {user} out of deny, and add it to only, in the smb of the share {share} in the layout"
        )
    } else {
        return Some(none());
    };
    Some(Remedy::of(vec![Step::words(words), in_smb(host)]))
}
