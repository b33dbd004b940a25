//! Edits of what a share offers, so that they hold for one client and nobody else.

use std::net::IpAddr;

use crate::layout::share::Share;
use crate::route::hops::Route;
use crate::route::nfs::export_for;
use crate::site::join::Site;
use crate::words::name::Name;
use crate::words::offer::NfsExport;
use crate::words::part::Part;
use crate::words::remedy::Step;
use crate::words::terms::Protocol;
use crate::words::value::Value;

/// The machine that asks a server on a route.
pub fn client_of<'r>(route: &'r Route, server: &Name) -> Option<&'r Name> {
    let asks = route.hops.iter().find(|hop| hop.to.host == *server && hop.from.host != *server);
    asks.map(|hop| &hop.from.host)
}

/// What a server knows a client by: a number, else a name that can be looked up; `None` where the
/// layout has neither. What the layout calls a host is nothing to its server.
pub fn client_address<'s>(site: &'s Site, client: &Name) -> Option<&'s Name> {
    let addresses = &site.layout.host(client)?.addresses;
    let number = addresses.iter().find(|address| address.raw().parse::<IpAddr>().is_ok());
    number.or_else(|| addresses.first())
}

/// A step that changes what a share offers to a client over NFS: in the export that names it alone,
/// else by an export of its own beside the wider one, so that nobody else gets it too. `None` if no
/// export is for it.
pub fn set_export(
    site: &Site,
    share: &Share,
    client: &Name,
    key: &'static str,
    to: impl Into<Value>,
) -> Option<Step> {
    let export = export_for(site, share, client)?;
    let to = to.into();
    if names_one(site, export, client) {
        let (share, clients) = (share.name.clone(), export.clients.clone());
        return Some(site.layout.set(Part::Export { share, clients }, key, to));
    }
    let mut keys = vec![
        ("clients", client_address(site, client)?.into()),
        ("access", export.access.word().into()),
        ("squash", export.squash.word().into()),
    ];
    keys.extend(export.anonuid.map(|uid| ("anonuid", uid.into())));
    keys.extend(export.anongid.map(|gid| ("anongid", gid.into())));
    keys.extend(export.crossmnt.then_some(("crossmnt", true.into())));
    if !export.options.is_empty() {
        keys.push(("options", export.options.join(",").into()));
    }
    match keys.iter_mut().find(|(known, _)| *known == key) {
        Some((_, value)) => *value = to,
        None => keys.push((key, to)),
    }
    Some(site.layout.add(Part::Share(share.name.clone()), "nfs", Value::table(keys)))
}

/// Whether an export is for one client by its name or address.
fn names_one(site: &Site, export: &NfsExport, client: &Name) -> bool {
    let addresses = site.layout.host(client).into_iter().flat_map(|host| &host.addresses);
    let mut names = addresses.chain([client]);
    names.any(|name| name.raw().eq_ignore_ascii_case(export.clients.raw()))
}

/// The user as whom a client mounts a share over SMB, as far as the layout says.
pub fn smb_user(site: &Site, share: &Share, client: &Name) -> Option<Name> {
    let of_client = site.layout.mounts.iter().find(|mount| {
        mount.host == *client
            && mount.protocol == Protocol::Smb
            && site.layout.source_name(&mount.from) == &share.name
    });
    let mount = of_client?;
    let named = || ["username", "user"].iter().find_map(|key| mount.options.value(key));
    mount.user.clone().or_else(|| named().map(Name::from))
}
