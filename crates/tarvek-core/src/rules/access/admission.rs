//! What lets somebody into a share that does not admit them.

use crate::layout::mount::Mount;
use crate::remedy::apply_on_host::reload_smb;
use crate::remedy::offer::client_of;
use crate::route::end::End;
use crate::route::follow_written;
use crate::route::hops::Route;
use crate::site::join::Site;
use crate::words::name::Name;
use crate::words::offer::SmbOffer;
use crate::words::part::Part;
use crate::words::remedy::{Remedy, Step};
use crate::words::value::Value;

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
        let mount = mount_of(site, route, host, share);
        let Some((one, mount)) = one.filter(|one| !one.raw().starts_with('@')).zip(mount) else {
            let words = "name a user that the share admits, in the layout (user) and in fstab with \
                         a credentials file";
            return Some(Step::words(words).into());
        };
        let part = Part::mount(&mount.host, &mount.at);
        let real = format!("name {one} in what mounts {}, with a credentials file", mount.at);
        return Some(Remedy::of(vec![
            site.layout.set(part, "user", one),
            Step::on(&mount.host, real),
        ]));
    };
    // Whom the server does not know it can't admit.
    if site.account(host, user).is_none() {
        let words =
            format!("make an account {user} on {host}, or mount with one that the share admits");
        return Some(Step::words(words).into());
    }
    let admit = |offer: &mut SmbOffer| {
        if !offer.only.is_empty() {
            offer.only.push(user.clone());
        }
    };
    let pardon = |offer: &mut SmbOffer| offer.deny.retain(|denied| denied != user);
    let part = || Part::SmbOffer(share.clone());
    let admitted = || site.layout.add(part(), "only", user);
    let pardoned = || {
        let offer = site.layout.share(share).and_then(|share| share.smb.as_ref());
        let denied = offer.iter().flat_map(|offer| &offer.deny);
        site.layout.set(part(), "deny", denied.filter(|denied| *denied != user).collect::<Value>())
    };
    let mut steps = if holds(&admit) {
        vec![admitted()]
    } else if holds(&pardon) {
        vec![pardoned()]
    } else if holds(&|offer| {
        admit(offer);
        pardon(offer);
    }) {
        vec![pardoned(), admitted()]
    } else {
        return Some(none());
    };
    steps.push(reload_smb(host));
    Some(Remedy::of(steps))
}

/// The mount of the layout by which a route comes to a share.
fn mount_of<'s>(site: &'s Site, route: &Route, server: &Name, share: &Name) -> Option<&'s Mount> {
    let client = client_of(route, server)?;
    site.layout
        .mounts
        .iter()
        .find(|mount| mount.host == *client && site.layout.source_name(&mount.from) == share)
}
