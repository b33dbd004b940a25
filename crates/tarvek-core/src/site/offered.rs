//! What a host's own configuration offers: that is what runs. It counts before what the layout says
//! of a share, and shares that the layout does not have are shares all the same.

use std::collections::HashSet;

use crate::facts::configured::{Configured, Fact};
use crate::facts::host::HostFacts;
use crate::layout::share::Share;
use crate::layout::site::Layout;
use crate::words::name::Name;
use crate::words::offer::NfsExport;
use crate::words::path::AbsPath;
use crate::words::terms::Origin;

/// The shares of a host that its configuration names and the layout does not. They stand in no line
/// of the layout. What the layout says of a folder or of a name counts before it; where the two
/// differ, that is a finding.
pub(super) fn unnamed(layout: &Layout, host: &Name, facts: &[Configured]) -> Vec<Share> {
    let mut names: HashSet<String> =
        layout.shares.iter().map(|share| share.name.raw().to_lowercase()).collect();
    let declared: HashSet<&AbsPath> =
        layout.shares.iter().filter(|share| share.host == *host).map(|share| &share.path).collect();
    let mut shares: Vec<Share> = Vec::new();
    let share = |name: &str, path: &AbsPath| Share {
        name: name.into(),
        host: host.clone(),
        path: path.clone(),
        nfs: Vec::new(),
        smb: None,
        also: Vec::new(),
        origin: Origin::default(),
    };
    for found in facts {
        let Fact::Share(fact) = &found.fact else { continue };
        let Ok(path) = AbsPath::new(&fact.path) else { continue };
        // A folder with variables in it is another one for everybody; what ends in a dollar sign is
        // for administrators, and holds printer drivers or the like.
        let is_hidden = fact.name.raw().ends_with('$');
        if !is_hidden && !fact.path.contains(&b'%') && names.insert(fact.name.raw().to_lowercase())
        {
            shares.push(Share { smb: Some(fact.offer.clone()), ..share(fact.name.raw(), &path) });
        }
    }
    for found in facts {
        let Fact::Export(fact) = &found.fact else { continue };
        let Ok(path) = AbsPath::new(&fact.path) else { continue };
        if declared.contains(&path) {
            continue;
        }
        let at = shares.iter().position(|known| known.path == path);
        let at = at.unwrap_or_else(|| {
            let last =
                path.name().map(String::from_utf8_lossy).unwrap_or("root".into()).into_owned();
            let mut name = last.clone();
            let mut n = 2;
            while !names.insert(name.to_lowercase()) {
                name = format!("{last}-{n}");
                n += 1;
            }
            shares.push(share(&name, &path));
            shares.len() - 1
        });
        shares[at].nfs.push(fact.export.clone());
    }
    shares
}

/// A declared share as its host serves it; `None` where the host's configuration says the same, or
/// nothing that speaks of shares over that protocol.
pub(super) fn served(share: &Share, layout: &Layout, facts: &HostFacts) -> Option<Share> {
    let found = &facts.told.configured;
    let mut other = share.clone();
    if found.facts.iter().any(|found| matches!(found.fact, Fact::Export(_))) {
        other.nfs = exports_of(share, layout, facts);
    }
    let sections = || {
        found.facts.iter().filter_map(|found| match &found.fact {
            Fact::Share(fact) => Some((fact, &found.spot)),
            _ => None,
        })
    };
    let own = sections().find(|(fact, _)| fact.name.raw().eq_ignore_ascii_case(share.name.raw()));
    // What stands in a file that could not be read to the end may be offered by the rest.
    let is_whole = sections().next().is_some_and(|(_, spot)| {
        !found.skipped.iter().any(|skipped| skipped.spot.file == spot.file)
    });
    match own {
        Some((fact, _)) => {
            other.smb = Some(fact.offer.clone());
            let path = AbsPath::new(&fact.path).ok().filter(|_| !fact.path.contains(&b'%'));
            other.path = path.unwrap_or(other.path);
        }
        None if is_whole => other.smb = None,
        None => {}
    }
    (other != *share).then_some(other)
}

/// The exports by which a share's folder is reached: its own, else those of the nearest folder
/// above that is exported with it (`exports(5)`: everything of its filesystem, and with `crossmnt`
/// what is mounted below).
fn exports_of(share: &Share, layout: &Layout, facts: &HostFacts) -> Vec<NfsExport> {
    let exports = || {
        facts.told.configured.facts.iter().filter_map(|found| match &found.fact {
            Fact::Export(fact) => Some((AbsPath::new(&fact.path).ok()?, &fact.export)),
            _ => None,
        })
    };
    let above = exports().filter(|(path, _)| share.path.within(path));
    let Some((nearest, _)) = above.max_by_key(|(path, _)| path.as_bytes().len()) else {
        return Vec::new();
    };
    let datasets = || layout.host(&share.host).into_iter().flat_map(|host| &host.datasets);
    let filesystem = |path: &AbsPath| match &facts.mounts {
        Some(table) => table.at(path).map(|mount| mount.point.clone()),
        None => {
            let around = datasets().map(|dataset| &dataset.at).filter(|at| path.within(at));
            around.max_by_key(|at| at.as_bytes().len()).cloned()
        }
    };
    let is_one = nearest == share.path || filesystem(&nearest) == filesystem(&share.path);
    let of_nearest =
        exports().filter(|(path, export)| *path == nearest && (is_one || export.crossmnt));
    of_nearest.map(|(_, export)| export.clone()).collect()
}

#[cfg(test)]
mod tests {
    use crate::check::report::check;
    use crate::facts::configured::{Configured, ExportFact, Fact, ShareFact};
    use crate::rules::layout::differs_from_host;
    use crate::tests::{Scene, mounts, route_of};
    use crate::words::offer::{NfsExport, SmbOffer};
    use crate::words::terms::Protocol;

    #[test]
    fn what_a_host_exports_is_a_share_without_the_layout() {
        let mut scene = Scene::over(Protocol::Nfs);
        let export = scene.layout.shares.remove(0).nfs.remove(0);
        scene.layout.mounts[0].from =
            crate::layout::mount::MountSource::Literal("granary.lan:/loft/media".into());
        let before = route_of(&scene.site(), "lantern", "/media/films");
        assert!(
            before.hops.iter().all(|hop| hop.share.as_ref().is_none_or(|(_, name)| name.is_none()))
        );
        let fact = ExportFact { path: b"/loft/media".to_vec(), export, stray_space: None };
        let found = Configured { fact: Fact::Export(fact), spot: Default::default() };
        scene.facts("granary").told.configured.facts = vec![found];
        let route = route_of(&scene.site(), "lantern", "/media/films");
        assert!(
            route.complete() && route.hops.iter().any(|hop| hop.share.is_some()),
            "{:?}",
            route.hops
        );
    }

    fn configured(fact: Fact) -> Configured {
        Configured { fact, spot: Default::default() }
    }

    /// Who reads the films over SMB, by the server's own configuration, whatever the layout says.
    #[test]
    fn what_the_server_says_of_a_share_is_judged() {
        let served = |name: &str, change: fn(&mut SmbOffer)| {
            let mut scene = Scene::over(Protocol::Smb);
            let mut offer = scene.layout.shares[0].smb.clone().unwrap();
            change(&mut offer);
            let path = b"/loft/media".to_vec();
            let fact = Fact::Share(ShareFact { name: name.into(), path, offer });
            scene.facts("granary").told.configured.facts = vec![configured(fact)];
            let differs = scene.messages_of(&differs_from_host::RULE);
            let differs = differs.split(" → ").next().unwrap_or_default().to_owned();
            (check(&scene.site()).board[0].ready, differs)
        };
        assert_eq!(served("MEDIA", |_| {}), (true, String::new()));
        let said =
            "valid users of the share media: the layout says nobody named, granary has joiner";
        assert_eq!(served("media", |o| o.only = vec!["joiner".into()]), (false, said.to_owned()));
        let said = "read only of the share media: the layout says yes, granary has no";
        assert_eq!(served("media", |o| o.writable = !o.writable), (true, said.to_owned()));
        let said = "the SMB share media: the layout says it is offered, granary has none";
        assert_eq!(served("films", |_| {}), (false, said.to_owned()));
    }

    #[test]
    fn an_export_of_a_folder_above_covers_its_filesystem_only() {
        let exported = |path: &[u8], crossmnt: bool| {
            let mut scene = Scene::over(Protocol::Nfs);
            let export = NfsExport { crossmnt, ..scene.layout.shares[0].nfs[0].clone() };
            scene.layout.shares[0].nfs.clear();
            let fact = ExportFact { path: path.to_vec(), export, stray_space: None };
            let facts = scene.facts("granary");
            facts.told.configured.facts = vec![configured(Fact::Export(fact))];
            facts.mounts =
                Some(mounts("1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 0:4 / /loft/media zfs loft rw"));
            let site = scene.site();
            site.layout.shares[0].nfs.len()
        };
        assert_eq!(exported(b"/loft/media", false), 1, "what the layout leaves out is taken");
        assert_eq!(exported(b"/loft", false), 0);
        assert_eq!(exported(b"/loft", true), 1);
        assert_eq!(exported(b"/srv", true), 0);
    }

    #[test]
    fn shares_for_administrators_are_none_of_media() {
        let named = |name: &str| {
            let mut scene = Scene::local();
            let path = b"/var/lib/drivers".to_vec();
            let fact =
                Fact::Share(ShareFact { name: name.into(), path, offer: SmbOffer::default() });
            scene.facts("granary").told.configured.facts = vec![configured(fact)];
            scene.site().layout.shares.len()
        };
        assert_eq!((named("print$"), named("IPC$"), named("drivers")), (0, 0, 1));
    }
}
