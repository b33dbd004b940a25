//! A need, judged along a route: search on every folder on the way, read-only layers, then the need itself.

use std::sync::Arc;

use crate::facts::tree::Listing;
use crate::judge::verdict::{Answer, Need, Refusal, Seen, Verdict};
use crate::kernel::decide::{Decision, R, W, X};
use crate::kernel::entry::{EntryKind, Meta};
use crate::kernel::object::Object;
use crate::kernel::request::{Denied, Kept, Of, Permitted, may, may_remove};
use crate::route::attached::is_mount_point;
use crate::route::end::End;
use crate::route::hops::{HopKind, Route, Waypoint};
use crate::route::{follow, follow_to_name, follow_written};
use crate::site::join::Site;
use crate::site::layer::Layer;
use crate::site::suppose::Objects;
use crate::words::errno::Errno;
use crate::words::evidence::Evidence;
use crate::words::terms::Access;

/// Judges one need at the end of a route.
pub fn judge(site: &Site, route: &Route, need: Need) -> Answer {
    // What is removed is the name, also where it is a symlink's (unlink(2)).
    let linked = route.hops.iter().any(|hop| hop.kind == HopKind::Symlink);
    if need == Need::Remove && (linked || route.end != End::Reached) {
        let end = route.written.iter().rposition(|&byte| byte != b'/').map_or(0, |last| last + 1);
        let mut name = follow_to_name(site, &route.view, &route.written[..end], &route.subject);
        name.written.clone_from(&route.written);
        return Along { site, route: &name, need }.answer();
    }
    // What is made or looked up in a folder has the folder's symlink in the middle of its path, where nothing protects it.
    if let (Need::Enter | Need::Add | Need::Write, End::ProtectedLink { .. }) = (need, &route.end) {
        let inside = [&route.written[..], b"/."].concat();
        let inside = follow_written(site, &route.view, &inside, &route.subject);
        if need != Need::Write || inside.end == End::Reached {
            return Along { site, route: &inside, need }.answer();
        }
    }
    Along { site, route, need }.answer()
}

/// Why nothing is at the end of a route, if it is certain that nothing is: a name is missing, and no folder before it
/// keeps whoever asks from seeing that.
pub fn absent(site: &Site, route: &Route) -> Option<String> {
    let missing = matches!(route.end, End::Missing(_));
    let name = || follow_to_name(site, &route.view, &route.written, &route.subject);
    // A symlink that leads nowhere is there itself.
    let missing = missing && matches!(name().end, End::Missing(_));
    let met = missing && judge(site, route, Need::Read).errno() == Some(Errno::NoEntry);
    met.then(|| route.end.words())
}

/// An answer that ends the search for one; boxed, since it is large and most requests pass.
type Ended = Box<Answer>;

pub(super) struct Along<'a> {
    pub(super) site: &'a Site,
    pub(super) route: &'a Route,
    pub(super) need: Need,
}

impl Along<'_> {
    fn ends(&self, at: &Waypoint, verdict: Verdict) -> Ended {
        Box::new(Answer {
            need: self.need,
            verdict,
            evidence: if at.node.is_some() { Evidence::Observed } else { Evidence::Declared },
            decided_at: at.at.clone(),
        })
    }

    fn unknown(&self, at: &Waypoint, why: impl Into<String>) -> Ended {
        self.ends(at, Verdict::Unknown { why: why.into() })
    }

    fn refused(
        &self,
        at: &Waypoint,
        why: impl Into<String>,
        errno: Errno,
        refusal: Refusal,
    ) -> Ended {
        self.ends(at, Verdict::Refused { why: why.into(), errno, refusal })
    }

    fn allowed(&self, at: &Waypoint, by: String) -> Answer {
        *self.ends(at, Verdict::Allowed { by })
    }

    fn answer(&self) -> Answer {
        self.end().unwrap_or_else(|answer| *answer)
    }

    fn end(&self) -> Result<Answer, Ended> {
        let Some((last, above)) = self.route.trail.split_last() else {
            let end = &self.route.end;
            let (why, errno) = (end.words(), end.errno());
            return Ok(Answer {
                need: self.need,
                verdict: match end {
                    End::Unseen { .. } => Verdict::Unknown { why },
                    _ => Verdict::Refused { why, errno, refusal: Refusal::Other },
                },
                evidence: Evidence::Declared,
                decided_at: self.route.here().clone(),
            });
        };
        if self.route.end != End::Reached {
            return Err(self.broken(last));
        }
        self.search(above)?;
        if last.engine_made {
            return Ok(self.in_engines_folder(last));
        }
        let Some(node) = last.node else {
            return Err(self.unknown(last, format!("{} was not seen", last.at.path)));
        };
        let Some(objects) = self.site.objects(&last.seen_on) else {
            return Err(self.unknown(last, format!("nothing is known of {}", last.at.host)));
        };
        let object = objects.of(node);
        match self.need {
            Need::Remove => self.remove(objects, last, above.last()),
            need => self.has(last, &object, need),
        }
    }

    /// A folder that the engine makes, so that mappings have a place: everybody can list and enter it.
    fn in_engines_folder(&self, at: &Waypoint) -> Answer {
        let made = "the engine makes this folder for what is mapped below it";
        match self.need {
            Need::Read | Need::Enter => self.allowed(at, made.into()),
            _ => *self.unknown(at, format!("{made}; whether it can be written, its image says")),
        }
    }

    /// A need of an entry itself, all but its removal.
    pub(super) fn has(&self, at: &Waypoint, object: &Object, need: Need) -> Result<Answer, Ended> {
        let folder = object.is_folder();
        match need {
            Need::Enter | Need::Add if !folder => {
                Err(self.refused(at, "it is not a folder", Errno::NotAFolder, Refusal::Other))
            }
            Need::Enter => self.object(at, object, X),
            Need::Add => self.object(at, object, W | X),
            Need::Write if folder => self.object(at, object, W | X),
            Need::Write => self.object(at, object, W),
            Need::Read | Need::Remove => {
                // Listing and entering a folder are two requests, each of which another group may grant.
                if folder {
                    self.object(at, object, X)?;
                }
                self.object(at, object, R)
            }
        }
    }

    /// What lies before a break is still decided: a folder that can't be searched hides the rest.
    fn broken(&self, last: &Waypoint) -> Ended {
        if let Err(answer) = self.search(&self.route.trail) {
            return answer;
        }
        // The mount is asked for before the name is looked up (`do_renameat2`, `do_unlinkat`).
        if self.need == Need::Remove
            && !self.route.names_left
            && let End::Missing(_) | End::TooLong { .. } | End::NotAFolder { .. } = self.route.end
            && let Err(answer) = self.writable(&self.route.layers, last, |_| true)
        {
            return answer;
        }
        match &self.route.end {
            end @ End::Unseen { .. } => self.unknown(last, end.words()),
            end => self.refused(last, end.words(), end.errno(), Refusal::Other),
        }
    }

    /// Search permission on every folder of the way.
    fn search(&self, folders: &[Waypoint]) -> Result<(), Ended> {
        for at in folders {
            let object = at.node.and_then(|node| self.site.object(&at.seen_on, node));
            if let Some(object) = object.filter(Object::is_folder) {
                self.asks(at, &object, X, "search it")?;
            }
        }
        // A folder whose rights nobody saw may deny; then nothing can be promised.
        match folders.iter().find(|at| at.node.is_none() && !at.engine_made) {
            Some(at) => Err(self.unknown(at, format!("{} was not seen", at.at.path))),
            None => Ok(()),
        }
    }

    /// One request for an entry, of all who have a say: what a client's mount options allow, then the entry itself.
    fn asks(
        &self,
        at: &Waypoint,
        object: &Object,
        want: u8,
        what: &str,
    ) -> Result<Decision, Ended> {
        let may = may(object, &at.subject, want);
        // What refuses whoever asks needs no certainty about who that is.
        if let Err(denied @ (Denied::Immutable | Denied::Barred)) = may {
            return Err(self.denied(at, object, denied, want, what));
        }
        self.certain(at, object, want, what)?;
        may.map_err(|denied| self.denied(at, object, denied, want, what))
    }

    /// What the options of SMB mounts on the way allow on their clients, and whether it is certain who asks and what the entry
    /// says.
    fn certain(&self, at: &Waypoint, object: &Object, want: u8, what: &str) -> Result<(), Ended> {
        if let Some(mount) = at.mount_in(self.site)
            && mount.keeps_out(&at.subject)
        {
            let why = format!(
                "the FUSE mount at {} lets nobody in but its mounter (no allow_other), not even root",
                mount.point
            );
            return Err(self.refused(at, why, Errno::Access, Refusal::Other));
        }
        for gate in &at.gates {
            if let Some(doubt) = &gate.subject.doubt {
                return Err(self.unknown(at, &**doubt));
            }
            if !gate.decide(&object.meta, want).allowed {
                let why = format!(
                    "the options of the mount at {} ({}) do not let {} {what}",
                    gate.at.path,
                    gate.text(object.is_folder()),
                    gate.subject
                );
                let refusal = Refusal::Options(Arc::clone(gate));
                let mut answer = self.refused(at, why, Errno::Access, refusal);
                answer.decided_at = gate.at.clone();
                return Err(answer);
            }
        }
        if let Some(doubt) = &at.subject.doubt {
            return Err(self.unknown(at, &**doubt));
        }
        if object.nfs4.as_ref().is_some_and(|acl| !acl.is_understood()) {
            return Err(self.unknown(at, "its NFSv4 ACL can't be read"));
        }
        Ok(())
    }

    fn denied(
        &self,
        at: &Waypoint,
        object: &Object,
        denied: Denied,
        want: u8,
        what: &str,
    ) -> Ended {
        match denied {
            Denied::Immutable => self.flagged(at, "it is immutable (chattr +i)"),
            Denied::Append => self.flagged(at, "it may only grow (chattr +a)"),
            Denied::Barred => self.barred(at, &object.meta, Errno::Access),
            Denied::Permission(decision) => self.forbidden(at, object, &decision, want, what),
        }
    }

    fn forbidden(
        &self,
        at: &Waypoint,
        object: &Object,
        decision: &Decision,
        want: u8,
        what: &str,
    ) -> Ended {
        let owner = self.site.owner_text(&at.seen_on, &object.meta);
        let why = format!(
            "{} does not let {} {what} (mode {:04o} {owner})",
            decision.entry(object),
            at.subject,
            object.meta.mode
        );
        let subject = at.subject.clone();
        let refusal = seen(at).map(|of| Refusal::Permission { of, subject, want });
        self.refused(at, why, Errno::Access, refusal.unwrap_or(Refusal::Other))
    }

    fn barred(&self, at: &Waypoint, meta: &Meta, errno: Errno) -> Ended {
        let owner = self.site.owner_text(&at.seen_on, meta);
        let why = format!(
            "the idmapped mount does not map its owner or group ({owner}), so nobody can change it"
        );
        self.refused(at, why, errno, Refusal::Other)
    }

    /// What even root is refused (`ioctl_iflags(2)`).
    fn flagged(&self, at: &Waypoint, why: &str) -> Ended {
        let refusal = seen(at).map_or(Refusal::Other, Refusal::Flag);
        self.refused(at, why, Errno::Permission, refusal)
    }

    /// One request on the object itself. What comes first is what the kernel comes to first (`fs/namei.c`, `may_open`,
    /// `may_create`): creating asks for a writable mount before anything else, opening for writing asks for it last.
    fn object(&self, at: &Waypoint, object: &Object, want: u8) -> Result<Answer, Ended> {
        let folder = object.is_folder();
        let writes = want & W != 0;
        // FIFOs, sockets and devices stay writable on a read-only filesystem: their contents are elsewhere.
        let stored = writes && (folder || object.meta.kind == EntryKind::File);
        // A name in a folder is looked up there before anything is made.
        if writes && folder {
            self.asks(at, object, X, "enter it")?;
            if let Some(mount) = at.mount_in(self.site).filter(|mount| mount.source_deleted())
                && mount.point == at.at.path
            {
                let why = "the folder that is bound here was removed from its place (deleted)";
                return Err(self.refused(at, why, Errno::NoEntry, Refusal::Other));
            }
        }
        if stored {
            self.writable(&self.route.layers, at, |layer| folder || layer.filesystem)?;
        }
        let what = match (writes, folder) {
            (true, true) => "add to it",
            (true, false) => "write it",
            (false, true) if want == X => "enter it",
            (false, true) => "list it",
            (false, false) => "read it",
        };
        let decision = self.asks(at, object, want, what)?;
        if stored {
            self.writable(&self.route.layers, at, |_| true)?;
        }
        Ok(self.allowed(at, decision.entry(object)))
    }

    /// Whether none of these layers is read-only.
    fn writable(
        &self,
        layers: &[Layer],
        at: &Waypoint,
        which: impl Fn(&Layer) -> bool,
    ) -> Result<(), Ended> {
        let read_only = |layer: &&Layer| layer.access == Access::ReadOnly && which(layer);
        let certain = |layer: &&Layer| read_only(layer) && layer.nested.is_none();
        let Some(layer) = layers.iter().find(certain).or_else(|| layers.iter().find(read_only))
        else {
            return Ok(());
        };
        if let Some(nested) = &layer.nested {
            let why = format!(
                "{layer} is read-only, but this lies on what is mounted at {nested} below it, and engines differ in whether \
                 read-only reaches there"
            );
            return Err(self.unknown(at, why));
        }
        let why = format!("{layer} is read-only");
        let refusal = Refusal::ReadOnly(layer.clone());
        let mut answer = self.refused(at, why, Errno::ReadOnly, refusal);
        answer.decided_at = layer.at.clone();
        Err(answer)
    }

    /// The kernel's order (`fs/namei.c`, `may_delete`): the mount, the entries, what is attached.
    fn remove(
        &self,
        objects: Objects,
        last: &Waypoint,
        parent: Option<&Waypoint>,
    ) -> Result<Answer, Ended> {
        let other =
            |at: &Waypoint, why: &str, errno| Err(self.refused(at, why, errno, Refusal::Other));
        let (Some((above, folder)), Some(node)) =
            (parent.and_then(|above| Some((above, above.node?))), last.node)
        else {
            return other(last, "it is the root of the view", Errno::Busy);
        };
        match self.route.written.rsplit(|&byte| byte == b'/').next() {
            Some(b".") => return other(last, "a path that ends in . is no name", Errno::Busy),
            Some(b"..") => return other(last, "a path that ends in .. is no name", Errno::Busy),
            _ => {}
        }
        // What is attached exactly here is no part of the folder that it would be removed from.
        let outside = self
            .route
            .asked
            .parent()
            .filter(|_| last.attached)
            .map(|parent| follow(self.site, &self.route.view, &parent, &self.route.subject));
        let layers = outside.as_ref().map_or(&self.route.layers, |outside| &outside.layers);
        let Some(above_objects) = self.site.objects(&above.seen_on) else {
            return Err(self.unknown(above, format!("nothing is known of {}", above.seen_on)));
        };
        let covered = last.covers.as_ref().and_then(|(host, node)| self.site.object(host, *node));
        let target = covered.unwrap_or_else(|| objects.of(node));
        if !target.is_folder() && self.route.written.ends_with(b"/") {
            self.writable(layers, above, |_| true)?;
            return other(last, "it is not a folder", Errno::NotAFolder);
        }
        let answer = self.taken_out(layers, above, &above_objects.of(folder), last, &target)?;
        if last.attached || is_mount_point(self.site, self.route, last) {
            return other(last, "something is mounted or mapped here", Errno::Busy);
        }
        // What is not empty can still be moved away (rename(2)), and emptied first it can be removed.
        let remark = match objects.tree.listing(node) {
            _ if !target.is_folder() => return Ok(answer),
            _ if objects.tree.children(node).len() > 0 => "it is not empty",
            Listing::Complete => return Ok(answer),
            _ => "whether it is empty was not seen",
        };
        Ok(self.allowed(above, format!("{}; {remark}", answer.reason())))
    }

    /// Whether the name of an entry may be taken out of a folder, as far as the two of them and what they lie on decide.
    pub(super) fn taken_out(
        &self,
        layers: &[Layer],
        above: &Waypoint,
        folder: &Object,
        last: &Waypoint,
        target: &Object,
    ) -> Result<Answer, Ended> {
        self.writable(layers, above, |_| true)?;
        let may = may_remove(target, folder, &above.subject);
        let early =
            matches!(may, Err(Kept::EntryBarred | Kept::FolderImmutable | Kept::FolderBarred));
        if !early {
            self.certain(above, folder, W | X, "remove from it")?;
        }
        match may {
            Ok(Permitted::Folder(decision)) => Ok(self.allowed(above, decision.entry(folder))),
            Ok(Permitted::Ace(of, n)) => Ok(self.allowed(above, ace(of, n, target, folder))),
            Err(kept) => Err(self.kept(kept, above, folder, last, target)),
        }
    }

    fn kept(
        &self,
        kept: Kept,
        above: &Waypoint,
        folder: &Object,
        last: &Waypoint,
        target: &Object,
    ) -> Ended {
        let subject = &above.subject;
        match kept {
            Kept::EntryBarred => self.barred(last, &target.meta, Errno::Overflow),
            Kept::FolderImmutable => self.flagged(above, "the folder is immutable (chattr +i)"),
            Kept::FolderBarred => self.barred(above, &folder.meta, Errno::Access),
            Kept::Permission(decision) => {
                self.forbidden(above, folder, &decision, W | X, "remove from it")
            }
            Kept::Ace(of, n) => {
                let entry = ace(of, n, target, folder);
                let why = format!("{entry} does not let {subject} remove it");
                self.refused(above, why, Errno::Access, Refusal::Other)
            }
            Kept::Sticky => {
                let owner = target.meta.uid;
                let why = format!(
                    "the folder is sticky, and {subject} owns neither it nor the entry (uid {owner})"
                );
                let refusal = seen(above).map_or(Refusal::Other, Refusal::Sticky);
                self.refused(above, why, Errno::Permission, refusal)
            }
            Kept::FolderAppend => self.flagged(above, "the folder may only grow (chattr +a)"),
            Kept::EntryFlags(flags) => {
                let which = if flags.immutable { "+i" } else { "+a" };
                self.flagged(last, &format!("it may not be removed (chattr {which})"))
            }
        }
    }
}

fn seen(at: &Waypoint) -> Option<Seen> {
    Some(Seen { host: at.seen_on.clone(), node: at.node? })
}

/// The text of an entry of an NFSv4 ACL.
fn ace(of: Of, n: usize, target: &Object, folder: &Object) -> String {
    let object = if of == Of::Entry { target } else { folder };
    let entry = object.nfs4.as_ref().and_then(|acl| acl.entries().get(n));
    entry.map(ToString::to_string).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::kernel::subject::Subject;
    use crate::tests::{Scene, mounts, route_of, route_on};
    use crate::words::options::MountOptions;
    use crate::words::terms::Protocol;
    use crate::words::word::Word;

    /// `read+ enter+ add-EROFS remove?`.
    fn told(site: &Site, route: &Route) -> String {
        let one = |need: &Need| {
            let answer = judge(site, route, *need);
            let errno = answer.errno().map(|errno| errno.to_string()).unwrap_or_default();
            let sign = match answer.allowed() {
                Some(true) => "+",
                Some(false) => "-",
                None => "?",
            };
            format!("{}{sign}{errno}", need.word())
        };
        Need::ALL.iter().map(one).collect::<Vec<_>>().join(" ")
    }

    fn scene() -> Scene {
        let mut scene = Scene::local();
        scene.tree(
            "granary",
            "d 0700 1101:1101 /loft/locked
             f 0644 1101:1101 /loft/locked/film.mkv
             d 1777 0:0 /loft/sticky
             f 0644 1101:1101 /loft/sticky/hers.mkv
             f 0644 840:840 /loft/sticky/its.mkv
             d 0755 840:840 /loft/own
             d 0755 840:840 /loft/own/full
             f 0644 0:0 /loft/own/full/x
             d 0755 840:840 /loft/own/empty
             d 0755 840:840 /loft/own/frozen
             f 0644 840:840 /loft/own/frozen/x
             f 0666 0:0 /loft/own/growing.log
             d 0755 840:840 /loft/own/growing
             f 0644 840:840 /loft/own/growing/x
             l 0777 0:0 /loft/own/link -> /loft/locked
             d 0755 840:840 /loft/own/unread",
        );
        scene.flags("granary", "/loft/own/frozen", "i").flags("granary", "/loft/own/growing", "a");
        scene.flags("granary", "/loft/own/growing.log", "a").unread("granary", "/loft/own/unread");
        scene
    }

    #[test]
    fn each_need_is_met_or_refused_as_the_kernel_would() {
        let site = scene().site();
        for (path, expected) in [
            ("/loft/own", "read+ write+ enter+ add+ remove-EACCES"),
            // Nothing below a folder that can't be searched is reached, whether it is there or not.
            ("/loft/locked", "read-EACCES write-EACCES enter-EACCES add-EACCES remove-EACCES"),
            (
                "/loft/locked/film.mkv",
                "read-EACCES write-EACCES enter-EACCES add-EACCES remove-EACCES",
            ),
            ("/loft/locked/none", "read-EACCES write-EACCES enter-EACCES add-EACCES remove-EACCES"),
            ("/loft/own/none", "read-ENOENT write-ENOENT enter-ENOENT add-ENOENT remove-ENOENT"),
            // In a sticky folder only the owner of the entry or of the folder takes a name away.
            ("/loft/sticky/hers.mkv", "read+ write-EACCES enter-ENOTDIR add-ENOTDIR remove-EPERM"),
            ("/loft/sticky/its.mkv", "read+ write+ enter-ENOTDIR add-ENOTDIR remove+"),
            // It can be moved away.
            ("/loft/own/full", "read+ write+ enter+ add+ remove+"),
            ("/loft/own/empty", "read+ write+ enter+ add+ remove+"),
            ("/loft/own/unread", "read+ write+ enter+ add+ remove+"),
            ("/loft/own/frozen", "read+ write-EPERM enter+ add-EPERM remove-EPERM"),
            ("/loft/own/frozen/x", "read+ write+ enter-ENOTDIR add-ENOTDIR remove-EPERM"),
            ("/loft/own/growing", "read+ write+ enter+ add+ remove-EPERM"),
            ("/loft/own/growing/x", "read+ write+ enter-ENOTDIR add-ENOTDIR remove-EPERM"),
            ("/loft/own/growing.log", "read+ write-EPERM enter-ENOTDIR add-ENOTDIR remove-EPERM"),
            // The name is removed, and what it leads to is read.
            ("/loft/own/link", "read-EACCES write-EACCES enter-EACCES add-EACCES remove+"),
            ("/", "read+ write-EACCES enter+ add-EACCES remove-EBUSY"),
        ] {
            let route = route_on(&site, "granary", path, &Subject::new(840, 840, []));
            assert_eq!(told(&site, &route), expected, "{path}");
        }
    }

    #[test]
    fn layers_that_are_read_only_refuse_what_changes() {
        let site = scene().site();
        // Through a mapping that is read-only; its own root is attached, and so stays.
        let route = route_of(&site, "lantern", "/media/films");
        assert_eq!(told(&site, &route), "read+ write-EROFS enter+ add-EROFS remove-EROFS");
        let route = route_of(&site, "lantern", "/media");
        assert_eq!(told(&site, &route), "read+ write-EROFS enter+ add-EROFS remove-EBUSY");
        let mut scene = scene();
        let table = "1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 8:2 / /loft/own ext4 /dev/sdb1 rw,ro";
        scene.facts("granary").mounts = Some(mounts(table));
        let site = scene.site();
        let owner = Subject::new(840, 840, []);
        let inside = route_on(&site, "granary", "/loft/own/empty", &owner);
        assert_eq!(told(&site, &inside), "read+ write-EROFS enter+ add-EROFS remove-EROFS");
        let point = route_on(&site, "granary", "/loft/own", &owner);
        assert_eq!(told(&site, &point), "read+ write-EROFS enter+ add-EROFS remove-EACCES");
    }

    #[test]
    fn an_smb_client_checks_at_the_mount_point_too() {
        for (options, at_the_point, below) in [
            (
                "rw,uid=840",
                "read+ write+ enter+ add+ remove-EACCES",
                "read+ write+ enter+ add+ remove+",
            ),
            (
                "rw,uid=7",
                "read+ write-EACCES enter+ add-EACCES remove-EACCES",
                "read+ write-EACCES enter+ add-EACCES remove-EACCES",
            ),
            (
                "rw,uid=7,dir_mode=0700",
                "read-EACCES write-EACCES enter-EACCES add-EACCES remove-EACCES",
                "read-EACCES write-EACCES enter-EACCES add-EACCES remove-EACCES",
            ),
        ] {
            let mut scene = Scene::over(Protocol::Smb);
            scene.tree("granary", "d 0777 840:840 /loft/media\nd 0777 840:840 /loft/media/films");
            scene.layout.shares[0].smb.as_mut().unwrap().writable = true;
            scene.layout.mounts[0].options = MountOptions::read(options);
            scene.facts("millrace").mounts = Some(mounts(&format!(
                "1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 0:9 / /mnt/media cifs //granary.lan/media {options}"
            )));
            let site = scene.site();
            for (path, expected) in [("/mnt/media", at_the_point), ("/mnt/media/films", below)] {
                let route = route_on(&site, "millrace", path, &Subject::new(840, 840, []));
                assert_eq!(told(&site, &route), expected, "{path} with {options}");
            }
        }
    }

    #[test]
    fn what_was_not_seen_is_unknown() {
        let mut scene = Scene::over(Protocol::Nfs);
        scene.unseen("granary");
        let site = scene.site();
        let route = route_of(&site, "lantern", "/media/films");
        assert_eq!(told(&site, &route), "read? write? enter? add? remove?");
        assert_eq!(absent(&site, &route), None);
        let site = Scene::local().site();
        let gone = route_of(&site, "lantern", "/media/series");
        assert_eq!(absent(&site, &gone).as_deref(), Some("/loft/media has no \"series\""));
    }
}
