//! A need, judged along a route: search on every folder on the way, read-only layers, then the need
//! itself.

use std::sync::Arc;

use crate::facts::tree::Listing;
use crate::judge::verdict::{Answer, Need, Refusal, SeenEntry, Verdict};
use crate::kernel::decide::{Decision, R, W, X};
use crate::kernel::entry::{EntryKind, Meta};
use crate::kernel::object::Object;
use crate::kernel::request::{AceOn, Denied, Kept, Permitted, may, may_remove};
use crate::kernel::sticky::protects;
use crate::route::attached::is_mount_point;
use crate::route::end::End;
use crate::route::hops::{HopKind, Route, Waypoint};
use crate::route::{follow_again, follow_to_name, follow_written};
use crate::site::join::Site;
use crate::site::layer::Layer;
use crate::site::suppose::Objects;
use crate::words::errno::Errno;
use crate::words::evidence::Evidence;
use crate::words::terms::Access;

/// Judges one need at the end of a route. Of somebody who may be root or nobody an answer is told
/// if both get the same one.
pub fn judge(site: &Site, route: &Route, need: Need) -> Answer {
    let answer = judge_as_followed(site, route, need);
    let Some((other, why)) = route.subject.otherwise() else { return answer };
    let other = judge_as_followed(site, &follow_again(site, route, &other), need);
    if other.allowed() == answer.allowed() { answer } else { answer.or_as_nobody(other, why) }
}

fn judge_as_followed(site: &Site, route: &Route, need: Need) -> Answer {
    // What is removed is the name, also where it is a symlink's (unlink(2)).
    let linked = route.hops.iter().any(|hop| hop.kind == HopKind::Symlink);
    if need == Need::Remove && (linked || route.end != End::Reached) {
        let end = route.written.iter().rposition(|&byte| byte != b'/').map_or(0, |last| last + 1);
        let mut name = follow_to_name(site, &route.view, &route.written[..end], &route.subject);
        name.written.clone_from(&route.written);
        return AccessCheck { site, route: &name, need }.answer();
    }
    // What is made or looked up in a folder has the folder's symlink in the middle of its path,
    // where nothing protects it.
    if let (Need::Enter | Need::Add | Need::Write, End::ProtectedLink { .. }) = (need, &route.end) {
        let inside = [&route.written[..], b"/."].concat();
        let inside = follow_written(site, &route.view, &inside, &route.subject);
        if need != Need::Write || inside.end == End::Reached {
            return AccessCheck { site, route: &inside, need }.answer();
        }
    }
    AccessCheck { site, route, need }.answer()
}

/// Why nothing is at the end of a route, if it is certain that nothing is: a name is missing, and
/// no folder before it keeps whoever asks from seeing that.
pub fn absent(site: &Site, route: &Route) -> Option<String> {
    let missing = matches!(route.end, End::Missing(_));
    let name = || follow_to_name(site, &route.view, &route.written, &route.subject);
    // A symlink that leads nowhere is there itself.
    let missing = missing && matches!(name().end, End::Missing(_));
    let met = missing && judge(site, route, Need::Read).errno() == Some(Errno::NoEntry);
    met.then(|| route.end.words())
}

/// What keeps whoever asks from coming to the end of a route, or from knowing whether they can;
/// `None` if nothing does.
pub fn kept_from(site: &Site, route: &Route) -> Option<Answer> {
    AccessCheck { site, route, need: Need::Enter }.way().err().map(|answer| *answer)
}

/// An answer that ends the search for one; boxed, since it is large and most requests pass.
type Ended = Box<Answer>;

pub(super) struct AccessCheck<'a> {
    pub(super) site: &'a Site,
    pub(super) route: &'a Route,
    pub(super) need: Need,
}

impl AccessCheck<'_> {
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

    /// The end, and the entries before it, if whoever asks comes there.
    fn way(&self) -> Result<(&Waypoint, &[Waypoint]), Ended> {
        let Some((last, above)) = self.route.trail.split_last() else {
            let end = &self.route.end;
            let (why, errno) = (end.words(), end.errno());
            return Err(Box::new(Answer {
                need: self.need,
                verdict: match end {
                    // A volume is the engine's own; nobody looked into it.
                    End::Unseen { .. } | End::Volume { .. } => Verdict::Unknown { why },
                    _ => Verdict::Refused { why, errno, refusal: Refusal::Other },
                },
                evidence: Evidence::Declared,
                decided_at: self.route.here().clone(),
            }));
        };
        if self.route.end != End::Reached {
            return Err(self.broken(last));
        }
        self.search(above)?;
        Ok((last, above))
    }

    fn end(&self) -> Result<Answer, Ended> {
        let (last, above) = self.way()?;
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
            Need::Remove => {
                let folders = above.get(self.route.passed..).unwrap_or_default();
                self.remove(objects, last, folders.last())
            }
            need => {
                let answer = self.has(last, &object, need)?;
                let folder = above.get(self.route.passed..).and_then(<[Waypoint]>::last);
                Ok(match folder.filter(|_| need == Need::Write) {
                    Some(folder) => self.unless_created(answer, folder, last, &object),
                    None => answer,
                })
            }
        }
    }

    /// What may be written may still be refused to those who open it as if they made it.
    fn unless_created(
        &self,
        answer: Answer,
        folder: &Waypoint,
        at: &Waypoint,
        object: &Object,
    ) -> Answer {
        let above = folder.node.and_then(|node| self.site.object(&folder.seen_on, node));
        let protects = above.and_then(|above| protects(&above.meta, &object.meta, &at.subject));
        let (Some((setting, from)), Verdict::Allowed { by }) = (protects, &answer.verdict) else {
            return answer;
        };
        let host = self.route.view.machine(self.site);
        let value = self.site.facts(&host).and_then(|facts| facts.told.sysctl(setting));
        let remark = match value {
            Some(value) if value < from => return answer,
            Some(_) => format!("opened with O_CREAT it is refused (EACCES): {setting} is on"),
            None => format!(
                "whether {setting} refuses to open it with O_CREAT (EACCES) was not seen on {host}"
            ),
        };
        let by = format!("{by}; {remark}");
        Answer { verdict: Verdict::Allowed { by }, ..answer }
    }

    /// A folder that the engine makes, so that mappings have a place: everybody can list and enter
    /// it.
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
                // Listing and entering a folder are two requests, each of which another group may
                // grant.
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
            && let Err(answer) = self.writable(&self.route.layers, last, Layer::is_of_mount)
        {
            return answer;
        }
        match &self.route.end {
            end @ (End::Unseen { .. } | End::Volume { .. }) => self.unknown(last, end.words()),
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

    /// One request for an entry, of all who have a say: what a client's mount options allow, then
    /// the entry itself.
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

    /// What the options of SMB mounts on the way allow on their clients, and whether it is certain
    /// who asks and what the entry says.
    fn certain(&self, at: &Waypoint, object: &Object, want: u8, what: &str) -> Result<(), Ended> {
        if let Some(mount) = at.mount_in(self.site)
            && mount.keeps_out(&at.subject)
        {
            let why = format!(
                "the FUSE mount at {} lets nobody in but its mounter (no allow_other), not even \
                 root",
                mount.point
            );
            return Err(self.refused(at, why, Errno::Access, Refusal::Other));
        }
        if let Some(mount) = at.mount_in(self.site)
            && mount.leaves_access_to_its_program()
        {
            let why = format!(
                "the FUSE mount at {} has no default_permissions: its program decides about access, \
                 and no mode tells how; --prove asks it",
                mount.point
            );
            return Err(self.unknown(at, why));
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
        let refusal = seen_entry(at).map(|of| Refusal::Permission { of, subject, want });
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
        let refusal = seen_entry(at).map_or(Refusal::Other, Refusal::Flag);
        self.refused(at, why, Errno::Permission, refusal)
    }

    /// One request on the object itself. What comes first is what the kernel comes to first
    /// (`fs/namei.c`, `may_open`, `may_create`): creating asks for a writable mount before anything
    /// else, opening for writing asks for it last.
    fn object(&self, at: &Waypoint, object: &Object, want: u8) -> Result<Answer, Ended> {
        let folder = object.is_folder();
        let writes = want & W != 0;
        // FIFOs, sockets and devices stay writable on a read-only filesystem: their contents are
        // elsewhere.
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
                "{layer} is read-only, but this lies on what is mounted at {nested} below it, and \
                 engines differ in whether \
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
        // Nor is the top of a subvolume part of what it holds.
        let on_btrfs = last.mount_in(self.site).is_some_and(|mount| mount.filesystem == "btrfs");
        let is_outside = last.attached || on_btrfs;
        let outside = self.route.asked.parent().filter(|_| is_outside).map(|parent| {
            // A symlink that the folder is reached by stands in the middle of the way, where
            // nothing protects it.
            let inside = [parent.as_bytes(), b"/."].concat();
            follow_written(self.site, &self.route.view, &inside, &self.route.subject)
        });
        let layers = outside.as_ref().map_or(&self.route.layers, |outside| &outside.layers);
        let Some(above_objects) = self.site.objects(&above.seen_on) else {
            return Err(self.unknown(above, format!("nothing is known of {}", above.seen_on)));
        };
        let covered = last.covers.as_ref().and_then(|(host, node)| self.site.object(host, *node));
        // Nothing is held against anybody of what is covered, where it was not seen: that it is
        // covered is enough.
        let nobodys = Meta { uid: above.subject.uid, flags: None, ..objects.of(node).meta };
        let target = match covered {
            None if last.attached => Object::plain(nobodys),
            covered => covered.unwrap_or_else(|| objects.of(node)),
        };
        if !target.is_folder() && self.route.written.ends_with(b"/") {
            self.writable(layers, above, Layer::is_of_mount)?;
            return other(last, "it is not a folder", Errno::NotAFolder);
        }
        let answer = self.taken_out(layers, above, &above_objects.of(folder), last, &target)?;
        if last.attached || is_mount_point(self.site, self.route, last) {
            return other(last, "something is mounted or mapped here", Errno::Busy);
        }
        // What is not empty can still be moved away (rename(2)), and emptied first it can be
        // removed.
        let remark = match objects.tree.listing(node) {
            _ if !target.is_folder() => return Ok(answer),
            _ if objects.tree.children(node).len() > 0 => "it is not empty",
            Listing::Complete => return Ok(answer),
            _ => "whether it is empty was not seen",
        };
        Ok(self.allowed(above, format!("{}; {remark}", answer.reason())))
    }

    /// Whether the name of an entry may be taken out of a folder, as far as the two of them and
    /// what they lie on decide.
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
                    "the folder is sticky, and {subject} owns neither it nor the entry (uid \
                     {owner})"
                );
                let refusal = seen_entry(above).map_or(Refusal::Other, Refusal::Sticky);
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

fn seen_entry(at: &Waypoint) -> Option<SeenEntry> {
    Some(SeenEntry { host: at.seen_on.clone(), node: at.node? })
}

/// The text of an entry of an NFSv4 ACL.
fn ace(of: AceOn, n: usize, target: &Object, folder: &Object) -> String {
    let object = if of == AceOn::Entry { target } else { folder };
    let entry = object.nfs4.as_ref().and_then(|acl| acl.entries().get(n));
    entry.map(ToString::to_string).unwrap_or_default()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::facts::host_report::Subvolume;
    use crate::kernel::subject::Subject;
    use crate::layout::mapping::MapSource;
    use crate::route::hops::View;
    use crate::tests::{Scene, abs, mapping, mounts, route_of, route_on};
    use crate::words::options::MountOptions;
    use crate::words::terms::Protocol;
    use crate::words::word::Word;

    /// `read+ enter+ add-EROFS remove?`.
    fn summary(site: &Site, route: &Route) -> String {
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
            assert_eq!(summary(&site, &route), expected, "{path}");
        }
    }

    #[test]
    fn a_folder_that_is_removed_has_to_be_empty() {
        let site = scene().site();
        for (path, remark) in [
            ("/loft/own/full", "user::rwx as the owner, uid 840; it is not empty"),
            ("/loft/own/empty", "user::rwx as the owner, uid 840"),
            (
                "/loft/own/unread",
                "user::rwx as the owner, uid 840; whether it is empty was not seen",
            ),
        ] {
            let route = route_on(&site, "granary", path, &Subject::new(840, 840, []));
            assert_eq!(judge(&site, &route, Need::Remove).reason(), remark, "{path}");
        }
    }

    #[test]
    fn layers_that_are_read_only_refuse_what_changes() {
        let site = scene().site();
        // Through a mapping that is read-only; its own root is attached, and so stays.
        let route = route_of(&site, "lantern", "/media/films");
        assert_eq!(summary(&site, &route), "read+ write-EROFS enter+ add-EROFS remove-EROFS");
        let route = route_of(&site, "lantern", "/media");
        assert_eq!(summary(&site, &route), "read+ write-EROFS enter+ add-EROFS remove-EBUSY");
        let mut scene = scene();
        let table = "1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 8:2 / /loft/own ext4 /dev/sdb1 rw,ro";
        scene.facts("granary").mounts = Some(mounts(table));
        let site = scene.site();
        let owner = Subject::new(840, 840, []);
        let inside = route_on(&site, "granary", "/loft/own/empty", &owner);
        assert_eq!(summary(&site, &inside), "read+ write-EROFS enter+ add-EROFS remove-EROFS");
        let point = route_on(&site, "granary", "/loft/own", &owner);
        assert_eq!(summary(&site, &point), "read+ write-EROFS enter+ add-EROFS remove-EACCES");
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
                "1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 0:9 / /mnt/media cifs //granary.lan/media \
                 {options}"
            )));
            let site = scene.site();
            for (path, expected) in [("/mnt/media", at_the_point), ("/mnt/media/films", below)] {
                let route = route_on(&site, "millrace", path, &Subject::new(840, 840, []));
                assert_eq!(summary(&site, &route), expected, "{path} with {options}");
            }
        }
    }

    /// What 840 is told of a path that was written from a view.
    fn asked(scene: &Scene, view: &View, written: &str) -> String {
        let site = scene.site();
        let subject = Subject::new(840, 840, []);
        summary(&site, &follow_written(&site, view, written.as_bytes(), &subject))
    }

    const ALL: &str = "read+ write+ enter+ add+ remove+";
    const SHUT: &str = "read-EACCES write-EACCES enter-EACCES add-EACCES remove-EACCES";

    #[test]
    fn dots_and_slashes_mean_what_they_mean_to_the_kernel() {
        let mut scene = scene();
        scene.tree(
            "granary",
            "f 0644 840:840 /loft/own/film.mkv
             l 0777 0:0 /loft/own/to-film -> film.mkv
             l 0777 0:0 /loft/own/to-empty -> empty
             l 0777 0:0 /loft/own/nowhere -> gone
             d 0700 1101:1101 /loft/own/shut
             l 0777 0:0 /loft/own/past-shut -> shut/../empty
             l 0777 0:0 /loft/out -> own/empty",
        );
        let dangles = "read-ENOENT write-ENOENT enter-ENOENT add-ENOENT remove+";
        let no_folder = "read-ENOTDIR write-ENOTDIR enter-ENOTDIR add-ENOTDIR remove-ENOTDIR";
        let no_name = "read+ write+ enter+ add+ remove-EBUSY";
        let long = format!("/loft/own/{}", "x".repeat(256));
        let too_long = "read-ENAMETOOLONG write-ENAMETOOLONG enter-ENAMETOOLONG add-ENAMETOOLONG \
                        remove-ENAMETOOLONG";
        for (path, expected) in [
            // The folder that `..` leaves is searched, in an argument as in a symlink.
            ("/loft/own/shut/../empty", SHUT),
            ("/loft/own/past-shut", "read-EACCES write-EACCES enter-EACCES add-EACCES remove+"),
            ("/loft/locked/..", "read-EACCES write-EACCES enter-EACCES add-EACCES remove-EACCES"),
            ("/loft/own/empty/../full", ALL),
            // After a symlink it leads up from where that leads.
            ("/loft/own/to-empty/../full", ALL),
            ("/loft/own/film.mkv/../full", no_folder),
            ("/loft/own/empty/.", no_name),
            ("/loft/own/empty/", ALL),
            ("/loft/own/film.mkv/", no_folder),
            ("/loft/own/to-film/", no_folder),
            ("/loft/own/to-empty/", "read+ write+ enter+ add+ remove-ENOTDIR"),
            // The name that goes is the symlink's, from the folder that it lies in.
            ("/loft/out", "read+ write+ enter+ add+ remove-EACCES"),
            ("/loft/own/nowhere", dangles),
            (long.as_str(), too_long),
        ] {
            assert_eq!(asked(&scene, &View::host("granary"), path), expected, "{path}");
        }
        let dotted = format!("/loft/own{}", "/.".repeat(2100));
        assert_eq!(asked(&scene, &View::host("granary"), &dotted), too_long);
    }

    #[test]
    fn forty_symlinks_are_followed_and_mappings_are_none() {
        for (links, end) in [(40, "+"), (41, "-ELOOP")] {
            let mut scene = scene();
            for n in 0..links {
                let next = if n + 1 == links { "own".to_owned() } else { format!("c{}", n + 1) };
                scene.tree("granary", &format!("l 0777 0:0 /loft/c{n} -> {next}"));
            }
            let maps = vec![mapping("/loft", "/data", Access::ReadWrite)];
            scene.service("lantern").map = Some(maps);
            for (view, path) in
                [(View::host("granary"), "/loft/c0"), (View::service("lantern"), "/data/c0")]
            {
                let read = asked(&scene, &view, path);
                assert!(read.starts_with(&format!("read{end} ")), "{links} from {view}: {read}");
            }
        }
    }

    #[test]
    fn a_mapping_inside_another_is_reached_through_the_outer_ones_folders() {
        let mut scene = scene();
        scene.tree(
            "granary",
            "d 0755 0:0 /tank
             d 0755 0:0 /tank/priv
             d 0755 0:0 /tank/priv/films
             d 0777 0:0 /other",
        );
        let data = View::service("lantern");
        let maps = |inner: &str| {
            Some(vec![
                mapping("/other", inner, Access::ReadWrite),
                mapping("/tank", "/data", Access::ReadWrite),
            ])
        };
        scene.service("lantern").map = maps("/data/priv/films");
        // Its mount point stays: but who may not take a name out of the folder meets that first.
        let inner = "read+ write+ enter+ add+ remove-EACCES";
        assert_eq!(asked(&scene, &data, "/data/priv/films"), inner);
        scene.change("granary", "/tank/priv", |meta| meta.mode = 0o777);
        let inner = "read+ write+ enter+ add+ remove-EBUSY";
        assert_eq!(asked(&scene, &data, "/data/priv/films"), inner);
        scene.change("granary", "/tank/priv", |meta| meta.mode = 0o700);
        assert_eq!(asked(&scene, &data, "/data/priv/films"), SHUT);
        // A folder that is not there yet, the engine makes.
        scene.service("lantern").map = maps("/data/new/films");
        assert_eq!(asked(&scene, &data, "/data/new"), "read+ write? enter+ add? remove?");
        let made = "read+ write+ enter+ add+ remove-EBUSY";
        assert_eq!(asked(&scene, &data, "/data/new/films"), made);
        // Folders above a source are not searched.
        scene.tree("granary", "d 0700 0:0 /shut\nd 0755 840:840 /shut/films");
        scene.service("lantern").map =
            Some(vec![mapping("/shut/films", "/data/films", Access::ReadWrite)]);
        assert_eq!(asked(&scene, &data, "/data/films"), "read+ write+ enter+ add+ remove-EBUSY");
        // A folder that only holds mappings can be listed; inside a volume they are seen as well.
        assert_eq!(asked(&scene, &data, "/data"), "read+ write? enter+ add? remove?");
        let mut volume = mapping("/x", "/data", Access::ReadWrite);
        volume.source = MapSource::Volume("kept".into());
        scene.service("lantern").map.as_mut().unwrap().push(volume);
        assert_eq!(asked(&scene, &data, "/data/films"), "read+ write+ enter+ add+ remove-EBUSY");
    }

    #[test]
    fn what_lies_in_a_services_own_storage_is_not_passed_over() {
        let mut scene = scene();
        scene.tree("granary", "d 0755 0:0 /tank\nl 0777 0:0 /tank/up -> ../../of-its-own");
        let mut volume = mapping("/x", "/kept", Access::ReadWrite);
        volume.source = MapSource::Volume("kept".into());
        let maps = vec![mapping("/tank", "/only/maps/data", Access::ReadWrite), volume];
        scene.service("lantern").map = Some(maps);
        let data = View::service("lantern");
        let absent = "read-ENOENT write-ENOENT enter-ENOENT add-ENOENT remove-ENOENT";
        let unknown = "read? write? enter? add? remove?";
        for (path, expected) in [
            ("/of-its-own/../only/maps", absent),
            ("/only/maps/data/up/..", absent),
            ("/kept/new/../../only", unknown),
        ] {
            assert_eq!(asked(&scene, &data, path), expected, "{path}");
        }
        // Folders that the engine makes for a mapping stand.
        let made = "read+ write? enter+ add? remove?";
        for path in ["/only/maps", "/only/maps/..//maps/data/../../maps", "/kept/../only/maps"] {
            assert_eq!(asked(&scene, &data, path), made, "{path}");
        }
    }

    #[test]
    fn a_mount_point_stays_by_whatever_way_one_comes() {
        let mut scene = scene();
        scene.tree(
            "granary",
            "d 0777 0:0 /pool\nd 0777 0:0 /pool/films\nd 0777 0:0 /again\nd 0777 0:0 /again/films",
        );
        let table = |more: &str| {
            let table = "1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 8:2 / /pool ext4 /dev/sdb1 rw\n3 1 8:2 \
                         / /again ext4 /dev/sdb1 rw";
            Some(mounts(&format!("{table}{more}")))
        };
        scene.facts("granary").mounts = table("");
        assert_eq!(asked(&scene, &View::host("granary"), "/again/films"), ALL);
        scene.facts("granary").mounts = table("\n4 2 8:3 / /pool/films ext4 /dev/sdc1 rw");
        let stays = "read+ write+ enter+ add+ remove-EBUSY";
        assert_eq!(asked(&scene, &View::host("granary"), "/again/films"), stays);
        // Whose the folder is that it covers, nobody saw: not who owns what is mounted there.
        scene.change("granary", "/pool", |meta| meta.mode = 0o1777);
        assert_eq!(asked(&scene, &View::host("granary"), "/pool/films"), stays);
        // Nor what its inode says.
        scene.flags("granary", "/pool/films", "i");
        let stays_frozen = "read+ write-EPERM enter+ add-EPERM remove-EBUSY";
        assert_eq!(asked(&scene, &View::host("granary"), "/pool/films"), stays_frozen);
        scene.flags("granary", "/pool/films", "");
        // In a service's namespace the mount is only if it came along.
        let data = View::service("lantern");
        scene.service("lantern").map = Some(vec![mapping("/again", "/data", Access::ReadWrite)]);
        assert_eq!(asked(&scene, &data, "/data/films"), ALL);
        scene.service("lantern").map = Some(vec![
            mapping("/again", "/data", Access::ReadWrite),
            mapping("/pool", "/pool", Access::ReadWrite),
        ]);
        assert_eq!(asked(&scene, &data, "/data/films"), stays);
    }

    #[test]
    fn mount_options_that_decide_are_asked() {
        let mut scene = scene();
        scene.tree(
            "granary",
            "d 0777 0:0 /pool\nd 0777 0:0 /pool/films\nl 0777 0:0 /pool/link -> films
             d 1777 0:0 /open\nl 0777 1101:1101 /open/hers -> /loft/own\nl 0777 840:840 /open/its \
             -> /loft/own
             l 0777 0:0 /open/roots -> /loft/own
             l 0777 1101:1101 /open/film -> /loft/sticky/its.mkv",
        );
        let host = View::host("granary");
        let with = |scene: &mut Scene, mount: &str| {
            let table = format!("1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 8:2 / /pool {mount}");
            scene.facts("granary").mounts = Some(mounts(&table));
            asked(scene, &host, "/pool/link")
        };
        assert_eq!(with(&mut scene, "ext4 /dev/sdb1 rw"), ALL);
        let none = "read-ELOOP write-ELOOP enter-ELOOP add-ELOOP remove+";
        assert_eq!(with(&mut scene, "ext4 /dev/sdb1 rw,nosymfollow"), none);
        let fuse = "fuse.mirror mirror rw,user_id=1101,group_id=1101";
        assert_eq!(with(&mut scene, fuse), SHUT, "not even root is let in");
        assert_eq!(with(&mut scene, &format!("{fuse},allow_other,default_permissions")), ALL);
        let own = "fuse.mirror mirror rw,user_id=840,group_id=840";
        assert_eq!(with(&mut scene, own), ALL);
        // A setting of the kernel, which may be known or not.
        let protected = "read-EACCES write+ enter+ add+ remove-EPERM";
        let unknown = "read? write? enter? add? remove-EPERM";
        let plain = "read+ write+ enter+ add+ remove-EPERM";
        for (value, hers) in [(Some(1), protected), (Some(0), plain), (None, unknown)] {
            let sysctls = value.map(|value| ("fs.protected_symlinks".to_owned(), value));
            scene.facts("granary").told.sysctls = sysctls.into_iter().collect();
            assert_eq!(asked(&scene, &host, "/open/hers"), hers, "{value:?}");
            let film = asked(&scene, &host, "/open/film");
            let write = if value == Some(1) { "write-EACCES" } else { &hers[6..12] };
            assert!(film.contains(write), "{value:?}: {film}");
            assert!(asked(&scene, &host, "/open/its").starts_with("read+ write+ enter+ add+"));
            assert!(asked(&scene, &host, "/open/roots").starts_with("read+ write+ enter+ add+"));
        }
    }

    #[test]
    fn what_others_made_in_a_sticky_folder_is_written_but_not_made() {
        let mut scene = scene();
        scene.tree("granary", "f 0666 1101:1101 /loft/sticky/shared.log");
        let mut write = |value: Option<i64>| {
            let sysctls = value.map(|value| ("fs.protected_regular".to_owned(), value));
            scene.facts("granary").told.sysctls = sysctls.into_iter().collect();
            let site = scene.site();
            let route =
                route_on(&site, "granary", "/loft/sticky/shared.log", &Subject::new(840, 840, []));
            judge(&site, &route, Need::Write)
        };
        for (value, reason) in [
            (Some(0), "other::rw-"),
            (
                Some(1),
                "other::rw-; opened with O_CREAT it is refused (EACCES): fs.protected_regular is \
                 on",
            ),
            (
                None,
                "other::rw-; whether fs.protected_regular refuses to open it with O_CREAT (EACCES) \
                 was not seen on granary",
            ),
        ] {
            let answer = write(value);
            assert!(answer.is_allowed() && answer.reason() == reason, "{answer:?}");
        }
    }

    #[test]
    fn what_lies_on_a_mount_below_a_read_only_mapping_is_not_certain() {
        let mut scene = scene();
        scene.tree(
            "granary",
            "d 0777 0:0 /pool\nd 0777 0:0 /pool/in\nd 0777 0:0 /pool/in/x\nd 0777 0:0 /pool/y",
        );
        let table = "1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 8:2 / /pool ext4 /dev/sdb1 rw\n3 2 8:3 / \
                     /pool/in ext4 /dev/sdc1 rw";
        scene.facts("granary").mounts = Some(mounts(table));
        scene.service("lantern").map = Some(vec![mapping("/pool", "/data", Access::ReadOnly)]);
        let data = View::service("lantern");
        assert_eq!(
            asked(&scene, &data, "/data/y"),
            "read+ write-EROFS enter+ add-EROFS remove-EROFS"
        );
        assert_eq!(asked(&scene, &data, "/data/in/x"), "read+ write? enter+ add? remove?");
        let read_only = "read+ write-EROFS enter+ add-EROFS remove-EROFS";
        for (nested, told) in [(Access::ReadOnly, read_only), (Access::ReadWrite, ALL)] {
            scene.service("lantern").map.as_mut().unwrap()[0].nested = Some(nested);
            assert_eq!(asked(&scene, &data, "/data/in/x"), told);
        }
    }

    #[test]
    fn nothing_is_made_in_a_folder_that_was_removed_from_its_place() {
        let mut scene = scene();
        scene.tree("granary", "d 0777 0:0 /bound");
        let table = "1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 8:2 /old//deleted /bound ext4 /dev/sdb1 rw";
        scene.facts("granary").mounts = Some(mounts(table));
        let gone = "read+ write-ENOENT enter+ add-ENOENT remove-EACCES";
        assert_eq!(asked(&scene, &View::host("granary"), "/bound"), gone);
    }

    #[test]
    fn what_was_not_seen_is_unknown() {
        let mut scene = Scene::over(Protocol::Nfs);
        scene.unseen("granary");
        let site = scene.site();
        let route = route_of(&site, "lantern", "/media/films");
        assert_eq!(summary(&site, &route), "read? write? enter? add? remove?");
        assert_eq!(absent(&site, &route), None);
        let site = Scene::local().site();
        let gone = route_of(&site, "lantern", "/media/series");
        assert_eq!(absent(&site, &gone).as_deref(), Some("/loft/media has no \"series\""));
    }

    /// What lies in a read-only subvolume refuses even root, in whatever mount it is seen; a
    /// writable one in it does not, and its own name stands in the folder above.
    #[test]
    fn a_read_only_subvolume_is_read_only() {
        let mut scene = Scene::local();
        scene.tree("granary", "d 0777 0:0 /loft/media/films/open");
        let facts = scene.facts("granary");
        facts.mounts = Some(mounts(
            "1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 0:4 / /loft/media btrfs /dev/sdb rw\n\
             3 1 0:4 /films /srv btrfs /dev/sdb rw",
        ));
        let subvolume = |path: &str, read_only| Subvolume {
            point: abs("/loft/media"),
            path: abs(path),
            read_only,
        };
        facts.told.subvolumes = vec![
            subvolume("/films", false),
            subvolume("/films/open", false),
            subvolume("/films", true),
        ];
        scene.tree("granary", "d 0777 0:0 /srv");
        let site = scene.site();
        let root = Subject::new(0, 0, []);
        let add = |path: &str, need| {
            let answer = judge(&site, &route_on(&site, "granary", path, &root), need);
            answer.errno().map_or("ok".to_owned(), |errno| format!("{errno}: {}", answer.reason()))
        };
        let refused = "EROFS: the subvolume at /loft/media/films is read-only";
        assert_eq!(add("/loft/media/films", Need::Add), refused);
        assert_eq!(add("/loft/media/films/Low Water (2003)", Need::Remove), refused);
        assert_eq!(add("/srv", Need::Add), "EROFS: the subvolume at /srv is read-only");
        assert_eq!(add("/loft/media/films/open", Need::Add), "ok");
        assert_eq!(add("/loft/media/films/open", Need::Remove), refused);
        assert_eq!(add("/loft/media", Need::Add), "ok");
    }

    /// Without `default_permissions` the kernel looks at no mode, neither to allow nor to refuse.
    #[test]
    fn the_program_of_a_fuse_mount_decides_unless_the_kernel_does() {
        let mut scene = Scene::local();
        scene.tree("granary", "d 0700 0:0 /loft/media/films");
        let mut answer = |options: &str, uid: u32| {
            scene.facts("granary").mounts = Some(mounts(&format!(
                "1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 0:4 / /loft/media fuse.pool pool {options}"
            )));
            let site = scene.site();
            let who = Subject::new(uid, uid, []);
            let route = route_on(&site, "granary", "/loft/media/films", &who);
            judge(&site, &route, Need::Read).allowed()
        };
        let own = "rw,user_id=0,group_id=0";
        assert_eq!(answer(&format!("{own},allow_other,default_permissions"), 840), Some(false));
        assert_eq!(answer(&format!("{own},allow_other,default_permissions"), 0), Some(true));
        assert_eq!(answer(&format!("{own},allow_other"), 840), None);
        assert_eq!(answer(&format!("{own},allow_other"), 0), None);
        assert_eq!(answer(own, 840), Some(false), "nobody but its mounter comes in");
    }
}
