//! `share/read-only`.

use crate::judge::verdict::Need;
use crate::remedy::access_request::{AccessRequest, remedy};
use crate::remedy::plan::open_share;
use crate::site::join::Site;
use crate::site::layer::LayerKind;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::remedy::Remedy;
use crate::words::rule::{Rule, Severity};
use crate::words::terms::Access;

/// A share that ends the way to write.
pub static RULE: Rule = Rule {
    id: "share/read-only",
    severity: Severity::Blocker,
    title: "A service that must write comes through a read-only share",
    means: "A folder into which a service has to put files is reached through an export or share \
            that is read-only.",
    hurts: "Every attempt fails, whatever the rights of the folder are.",
    fix: "Offer the folder writable to that host or account, or let the service run where the \
          folder is.",
    example: "joiner files into /data/films through an export that is ro.",
};

/// Judges one place that a service uses.
pub fn find(site: &Site, case: &UsedPath) -> Vec<Finding> {
    let Some(route) = case.route.as_ref().filter(|_| case.need() == Need::Add) else {
        return Vec::new();
    };
    let shut = route.layers.iter().find_map(|layer| match &layer.kind {
        LayerKind::Share(name, protocol) if layer.access == Access::ReadOnly => {
            Some((layer, name, *protocol))
        }
        _ => None,
    });
    let Some((layer, name, protocol)) = shut else { return Vec::new() };
    // One lock that is opened is no help where there is another.
    let others: Vec<String> = route
        .layers
        .iter()
        .filter(|other| other.access == Access::ReadOnly && *other != layer)
        .map(|other| format!(", and so is {other}"))
        .collect();
    let message = format!(
        "{} has to write to {}, and the share {name} is read-only for it{}",
        case.service.name,
        case.root.written,
        others.concat()
    );
    let finding = case.finding(&RULE).at(&layer.at).says(message);
    let all = (!others.is_empty()).then(|| remedy(site, &AccessRequest::at(route, &[Need::Add])));
    let own = || Remedy::of(open_share(site, name, protocol, route, &layer.at.host));
    vec![finding.remedy(all.flatten().unwrap_or_else(own))]
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::Promise;
    use crate::tests::{Scene, mapping};
    use crate::words::options::MountOptions;
    use crate::words::terms::{Access, Protocol};

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            let mut scene = Scene::over(Protocol::Nfs).with_intake();
            scene.layout.mounts[0].options = MountOptions::read("rw,nofail");
            scene.facts("millrace").mounts = None;
            scene.service("joiner").host = "millrace".into();
            let data = mapping("/mnt/media", "/data", Access::ReadWrite);
            scene.service("joiner").map = Some(vec![data]);
            scene.layout.shares[0].nfs[0].clients = "millrace.lan".into();
            scene
        },
        by_hand: |scene| scene.layout.shares[0].nfs[0].access = Access::ReadWrite,
    };

    #[test]
    fn who_writes_comes_through_a_share_that_lets_them() {
        let mut scene = Scene::over(Protocol::Nfs).with_intake();
        assert_eq!(scene.messages_of(&RULE), "");
        scene.layout.mounts[0].options = MountOptions::read("rw,nofail");
        scene.facts("millrace").mounts = None;
        scene.service("joiner").host = "millrace".into();
        scene.service("joiner").map = Some(vec![mapping("/mnt/media", "/data", Access::ReadWrite)]);
        let told = scene.messages_of(&RULE);
        assert!(
            told.starts_with(
                "joiner has to write to /data/films, and the share media is \
                                  read-only for it → in the layout line 3: add { clients \
                                  = \"10.20.0.3\", access = \"rw\""
            ),
            "{told}"
        );
        let map = scene.service("joiner").map.as_mut().unwrap();
        map[0].access = Access::ReadOnly;
        let told = scene.messages_of(&RULE);
        assert!(
            told.contains("the share media is read-only for it, and so is the mapping to /data →")
                && told.contains("set access = \"rw\" for joiner's mapping to /data"),
            "{told}"
        );
        scene.layout.shares[0].nfs[0].access = Access::ReadWrite;
        assert_eq!(scene.messages_of(&RULE), "");
    }
}
