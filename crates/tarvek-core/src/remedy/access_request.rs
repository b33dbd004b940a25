//! What somebody needs, and the remedy that gives it.

use crate::judge::verdict::Need;
use crate::kernel::subject::Subject;
use crate::remedy::effects::effects;
use crate::remedy::plan::Plan;
use crate::route::hops::{Route, View};
use crate::site::join::Site;
use crate::words::remedy::Remedy;

/// What somebody needs.
#[derive(Clone, Debug)]
pub struct AccessRequest<'a> {
    /// From where they see the path.
    pub view: &'a View,
    /// The path there, as it was written.
    pub path: &'a [u8],
    /// Who they are there.
    pub subject: &'a Subject,
    /// What they need at the path.
    pub needs: &'a [Need],
    /// Whether they need to read everything below as well, and what will be there.
    pub below: bool,
}

impl<'a> AccessRequest<'a> {
    /// What the subject of a route needs at its end.
    pub fn at(route: &'a Route, needs: &'a [Need]) -> Self {
        let Route { view, written, subject, .. } = route;
        Self { view, path: written, subject, needs, below: false }
    }

    /// The same, and reading everything below.
    pub fn and_below(self) -> Self {
        Self { below: true, ..self }
    }
}

/// Finds a remedy for what is refused: changes are supposed and judged again, until nothing refuses
/// any more. What they change for everybody else is told with them. `None` if nothing is refused,
/// or if no change of rights helps.
pub fn remedy(site: &Site, wish: &AccessRequest) -> Option<Remedy> {
    Some(repaired(site, wish)?.remedy)
}

/// A remedy with the site and the asker as they are after it.
#[derive(Debug)]
pub struct Repaired {
    pub remedy: Remedy,
    pub site: Site,
    pub subject: Subject,
}

/// As [`remedy`], for those who go on asking on the changed site.
pub fn repaired(site: &Site, wish: &AccessRequest) -> Option<Repaired> {
    let plan = Plan::made(site, wish.view, wish.path, wish.subject, wish.needs, wish.below)?;
    let effects = effects(site, &plan.site, &plan.changes, wish.subject, !plan.joined.is_empty());
    let subject = plan.subject();
    Some(Repaired { remedy: Remedy { steps: plan.steps, effects }, site: plan.site, subject })
}

#[cfg(test)]
mod tests {
    use crate::facts::build::{NewEntry, TreeBuilder};
    use crate::facts::classes::Extras;
    use crate::facts::host::HostFacts;
    use crate::facts::tree::{Listing, Tree};
    use crate::judge::verdict::Need;
    use crate::kernel::entry::{EntryKind, Meta};
    use crate::kernel::nfs4::{self, Ace, AceType, Nfs4Acl, Who};
    use crate::kernel::subject::Subject;
    use crate::layout::site::Layout;
    use crate::remedy::access_request::{AccessRequest, remedy};
    use crate::route::hops::View;
    use crate::site::join::Site;

    fn meta(kind: EntryKind) -> Meta {
        Meta::new(kind, 0o770, 1101, 2100)
    }

    /// A folder with a file in it, both with NFSv4 ACLs.
    fn site() -> Site {
        let ace = |kind, mask, who| Ace { kind, flags: 0, mask, who };
        let with = |name: &str, kind, entries| {
            let extras = Extras { nfs4_acl: Some(Nfs4Acl::new(entries)), ..Extras::default() };
            NewEntry { extras, ..NewEntry::plain(name, meta(kind)) }
        };
        let root = Meta { mode: 0o755, ..meta(EntryKind::Folder) };
        let mut builder = TreeBuilder::new(NewEntry::plain("", root));
        let all = nfs4::READ | nfs4::WRITE | nfs4::EXECUTE | nfs4::APPEND;
        let deny = ace(AceType::Deny, nfs4::READ, Who::Uid(840));
        let members = ace(AceType::Allow, all, Who::Group);
        let loft = with("loft", EntryKind::Folder, vec![members.clone()]);
        let at = builder.fill(Tree::ROOT, vec![loft], Listing::Complete)[0];
        let file = with("film.mkv", EntryKind::File, vec![deny, members]);
        builder.fill(at, vec![file], Listing::Complete);
        let facts = HostFacts::of_tree("granary", builder.finish());
        Site::join(Layout::default(), vec![facts]).unwrap()
    }

    #[test]
    fn an_nfsv4_entry_goes_in_front_of_what_denies() {
        let site = site();
        let view = View::host("granary");
        let ask = |path: &[u8], needs: &[Need], below| {
            let subject = Subject::new(840, 840, [2100]);
            remedy(&site, &AccessRequest { view: &view, path, subject: &subject, needs, below })
        };
        let file = ask(b"/loft/film.mkv", &[Need::Read], false).unwrap();
        assert_eq!(file.to_string(), "on granary: nfs4_setfacl -a A::840:r /loft/film.mkv");
        assert_eq!(ask(b"/loft", &[Need::Read, Need::Add], false), None, "nothing refuses");
        // Removing asks for more than reading and writing, which is not given by halves.
        let tree = ask(b"/loft", &[Need::Read], true).unwrap();
        assert_eq!(tree.to_string(), "on granary: nfs4_setfacl -a A::840:r /loft/film.mkv");
        let stranger = Subject::new(5, 5, []);
        let wish = AccessRequest {
            view: &view,
            path: b"/loft",
            subject: &stranger,
            needs: &[Need::Read],
            below: true,
        };
        let text = remedy(&site, &wish).unwrap().to_string();
        assert_eq!(text, "on granary: nfs4_setfacl -R -a A:fd:5:rx /loft");
    }
}
