//! `share/any-client`.

use crate::remedy::apply_on_host::reload_exports;
use crate::rules::share::of_share;
use crate::site::join::Site;
use crate::used::used_path::UsedPath;
use crate::words::finding::Finding;
use crate::words::remedy::Step;
use crate::words::rule::{Rule, Severity};
use crate::words::terms::Access;

/// An export to the whole world.
pub static RULE: Rule = Rule {
    id: "share/any-client",
    severity: Severity::Risk,
    title: "Any machine may mount a writable export",
    means: "A folder is exported writable to every address.",
    hurts: "Whoever reaches the server can mount it and, since NFS believes the numbers that \
            clients send, be any account but root.",
    fix: "Export it to the hosts or the network that need it.",
    example: "/loft/media is exported to * with rw.",
};

/// Judges every export.
pub fn find(site: &Site, _: &[UsedPath]) -> Vec<Finding> {
    let mut findings = Vec::new();
    for share in &site.layout.shares {
        for export in &share.nfs {
            if !any(export.clients.raw()) || export.access == Access::ReadOnly {
                continue;
            }
            let message =
                format!("{} is exported writable to {}: to everybody", share.path, export.clients);
            let steps = vec![
                Step::words(format!(
                    "in the layout, name the hosts or the network that need {} as its clients",
                    share.name
                )),
                reload_exports(&share.host),
            ];
            findings.push(of_share(&RULE, share).says(message).remedy(steps));
        }
    }
    findings
}

/// Whether clients are all there are.
pub(super) fn any(clients: &str) -> bool {
    matches!(clients, "*" | "0.0.0.0/0" | "::/0" | "0.0.0.0/0.0.0.0")
}

#[cfg(test)]
pub(crate) mod tests {
    use super::RULE;
    use crate::rules::promise::{Promise, over};
    use crate::tests::Scene;
    use crate::words::terms::{Access, Protocol};

    pub(crate) const PROMISE: Promise = Promise {
        scene: || {
            over(Protocol::Nfs, |scene| scene.layout.shares[0].nfs[0].access = Access::ReadWrite)
        },
        by_hand: |scene| scene.layout.shares[0].nfs[0].clients = "millrace.lan".into(),
    };

    #[test]
    fn everybody_may_read_at_most() {
        let mut scene = Scene::over(Protocol::Nfs);
        assert_eq!(scene.messages_of(&RULE), "");
        scene.layout.shares[0].nfs[0].access = Access::ReadWrite;
        let told = "/loft/media is exported writable to *: to everybody → in the layout, name the \
                    hosts or the network that need media as its clients; on granary: put what \
                    `tarvek emit exports` writes in place, and run exportfs -ra";
        assert_eq!(scene.messages_of(&RULE), told);
        scene.layout.shares[0].nfs[0].clients = "10.20.0.0/24".into();
        assert_eq!(scene.messages_of(&RULE), "");
    }
}
