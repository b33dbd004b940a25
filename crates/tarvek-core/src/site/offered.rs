//! Shares that only a host's own configuration names: they are shares all the same.

use std::collections::HashSet;

use crate::facts::configured::{Configured, Fact};
use crate::layout::share::Share;
use crate::layout::site::Layout;
use crate::words::name::Name;
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
        // A folder with variables in it is another one for everybody.
        if !fact.path.contains(&b'%') && names.insert(fact.name.raw().to_lowercase()) {
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

#[cfg(test)]
mod tests {
    use crate::facts::configured::{Configured, ExportFact, Fact};
    use crate::tests::{Scene, route_of};
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
}
