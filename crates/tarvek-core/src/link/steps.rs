//! What both deeds ask, one step after another, in the order in which a kernel comes to it
//! (`do_linkat`, `do_renameat2`, `vfs_link` and `vfs_rename` in `fs/namei.c`).

use crate::judge::access_check::{judge, kept_from};
use crate::judge::verdict::{Answer, Need, Refusal};
use crate::kernel::entry::EntryKind;
use crate::kernel::object::Object;
use crate::link::filesystem::{Links, has_subvolumes, links};
use crate::link::link_paths::{LinkPaths, of_folder};
use crate::link::mount_placement::MountPlacement;
use crate::link::verdict::{Reason, Stop, Verdict};
use crate::route::end::End;
use crate::route::hops::Route;
use crate::site::layer::{Layer, LayerKind};
use crate::words::errno::Errno;
use crate::words::evidence::Evidence;
use crate::words::name::Name;
use crate::words::terms::{Access, Protocol};

/// A step: it passes, or it stops the deed.
pub(super) type Step = Result<(), Stop>;

/// A deed that is judged.
pub(super) struct Steps<'a> {
    pub(super) ends: &'a LinkPaths<'a>,
    /// The first thing that was not known, and could refuse.
    doubt: Option<String>,
}

/// Judges a deed, of somebody who may be root or nobody as both: what both get is told.
pub(super) fn by_whoever_it_is(
    ends: &LinkPaths,
    judged: impl Fn(&LinkPaths) -> Verdict,
) -> Verdict {
    let subject = &ends.target.folder.subject;
    let Some((nobody, why)) = subject.otherwise() else { return judged(ends) };
    let root = judged(&ends.followed_by(&subject.settled()));
    let nobody = judged(&ends.followed_by(&nobody));
    if root.possible == nobody.possible { root } else { root.or_as_nobody(nobody, why) }
}

impl<'a> Steps<'a> {
    pub(super) fn new(ends: &'a LinkPaths<'a>) -> Self {
        Self { ends, doubt: None }
    }

    /// Notes what is not known.
    pub(super) fn doubts(&mut self, why: impl Into<String>) {
        self.doubt.get_or_insert(why.into());
    }

    /// Whether something was not known that could refuse.
    pub(super) fn is_in_doubt(&self) -> bool {
        self.doubt.is_some()
    }

    /// Notes that a name is longer than most filesystems take, where this one says for itself how
    /// long a name may be.
    pub(super) fn length_is_known(&mut self) {
        let Some(name) = &self.ends.target.name else { return };
        let length = name.asked.name().map_or(0, <[u8]>::len);
        if length > 255 && !matches!(name.end, End::TooLong { .. } | End::Reached) {
            self.doubts(format!(
                "whether the filesystem takes a name of {length} bytes, only trying tells"
            ));
        }
    }

    /// An answer as a step: what can't be told is noted, and the next step asked.
    pub(super) fn takes(&mut self, answer: Option<Answer>, reason: Reason) -> Step {
        let Some(answer) = answer else { return Ok(()) };
        match answer.allowed() {
            Some(true) => Ok(()),
            None => {
                self.doubts(format!("{}: {}", answer.decided_at.on(), answer.reason()));
                Ok(())
            }
            Some(false) => Err(Stop::of(&answer, self.reason_of(&answer, reason))),
        }
    }

    fn reason_of(&self, answer: &Answer, reason: Reason) -> Reason {
        match (answer.refusal(), answer.errno()) {
            (Some(Refusal::Flag(_)), _) => Reason::Flagged,
            (Some(Refusal::ReadOnly(_)), _) | (_, Some(Errno::ReadOnly)) => Reason::ReadOnly,
            (_, Some(Errno::NotAFolder)) if reason == Reason::TargetUnwritable => {
                Reason::NotAFolder
            }
            _ => reason,
        }
    }

    /// What came of all steps.
    pub(super) fn verdict(self, came: Step, fine: String) -> Verdict {
        let ends = [self.ends.source.route().evidence(), self.ends.target.folder.evidence()];
        let evidence = ends.into_iter().min().unwrap_or(Evidence::Declared);
        let may_be_refused_before = came.is_err() && self.doubt.is_some();
        let answer = |possible, reason, errno, detail| Verdict {
            possible,
            evidence,
            reason,
            errno,
            detail,
            may_be_refused_before,
        };
        match (came, self.doubt) {
            (Err(stop), doubt) => {
                let before = |doubt| format!("; unless this refuses before: {doubt}");
                let detail = stop.detail + &doubt.map(before).unwrap_or_default();
                answer(Some(false), stop.reason, Some(stop.errno), detail)
            }
            (Ok(()), Some(doubt)) => answer(None, Reason::Unknown, None, doubt),
            (Ok(()), None) => answer(Some(true), Reason::Ok, None, fine),
        }
    }

    /// The way to an end of it. A service's own storage is nothing that anybody looked into.
    pub(super) fn comes_to(&mut self, route: &Route, reason: Reason) -> Step {
        match &route.end {
            End::Uncovered { .. } => {
                self.doubts(format!("{}: {}", route.asked, route.end.words()));
                Ok(())
            }
            _ => self.takes(kept_from(self.ends.site, route), reason),
        }
    }

    /// Whether the mount at the target can be written, as the kernel of whoever does it knows
    /// (`mnt_want_write`).
    pub(super) fn mount_is_writable(&mut self, route: &Route) -> Step {
        let network = |layer: &Layer| matches!(layer.kind, LayerKind::Mount(by) if by.is_network());
        let own = route.layers.iter().position(network).map_or(route.layers.len(), |n| n + 1);
        let read_only = |layer: &&Layer| layer.access == Access::ReadOnly && layer.is_of_mount();
        let mut layers = route.layers[..own].iter().filter(read_only).peekable();
        let Some(first) = layers.peek().copied() else { return Ok(()) };
        match layers.find(|layer| layer.nested.is_none()) {
            Some(layer) => {
                let detail = format!("{}: {layer} is read-only", layer.at.on());
                Err(Stop::new(Reason::ReadOnly, Errno::ReadOnly, detail))
            }
            None => {
                self.doubts(format!(
                    "{first} is read-only, but the target lies on what is mounted below it, and \
                     engines differ in whether read-only \
                     reaches there; a look at the running process (--from process:PID) or --prove \
                     tells"
                ));
                Ok(())
            }
        }
    }

    /// In a folder that was removed since it was bound nothing is looked up (`IS_DEADDIR` in
    /// `fs/namei.c`).
    pub(super) fn folder_is_there(&mut self) -> Step {
        let ends = self.ends;
        let gone = ends.target_folder().is_some_and(|(at, _)| {
            let mount = at.mount_in(ends.site).filter(|mount| mount.source_deleted());
            mount.is_some_and(|mount| mount.point == at.at.path)
        });
        if gone {
            let detail = "the target folder was removed from its place since it was bound there";
            return Err(Stop::new(Reason::TargetUnwritable, Errno::NoEntry, detail));
        }
        Ok(())
    }

    /// Whether both lie on one mount of the process, and so far as the layout alone knows, on one
    /// filesystem.
    pub(super) fn one_mount(&mut self, source: &Route, folder: &Route) -> Step {
        let site = self.ends.site;
        let (from, to) = (MountPlacement::of(site, source), MountPlacement::of(site, folder));
        let filesystems = (from.filesystem(), to.filesystem());
        if !from.is_on_mount_of(to) {
            let same = matches!(&filesystems, (Some(a), Some(b)) if a == b)
                && self.one_subvolume(source, folder);
            let differ = matches!(&filesystems, (Some(a), Some(b)) if a != b)
                || from.is_own_storage() != to.is_own_storage();
            let both = format!("{} and {}", from.words(), to.words());
            return Err(if same {
                let detail = format!("one filesystem, by two mounts: {both}");
                Stop::new(Reason::DifferentMount, Errno::CrossDevice, detail)
            } else if differ || matches!(&filesystems, (Some(_), Some(_))) {
                let detail = format!("two filesystems: {both}");
                Stop::new(Reason::DifferentFilesystem, Errno::CrossDevice, detail)
            } else {
                let detail = format!("two mounts: {both}");
                Stop::new(Reason::DifferentMount, Errno::CrossDevice, detail)
            });
        }
        match filesystems {
            (Some(a), Some(b)) if a != b => {
                let detail = format!("two datasets: {} and {}", from.words(), to.words());
                return Err(Stop::new(Reason::DifferentFilesystem, Errno::CrossDevice, detail));
            }
            (Some(_), Some(_)) => {}
            _ if from.is_own_storage() => {}
            _ => self.doubts(format!(
                "whether both lie on one filesystem was not seen: nobody looked at the mounts of \
                 {}, and the layout declares no dataset \
                 there",
                folder.here().host
            )),
        }
        Ok(())
    }

    /// Whether both have one device number, where that is known and tells subvolumes apart.
    fn one_subvolume(&self, source: &Route, folder: &Route) -> bool {
        let site = self.ends.site;
        if !MountPlacement::of(site, folder).kind().is_some_and(has_subvolumes) {
            return true;
        }
        let device = |route: &Route| {
            let (at, node) = route.entry()?;
            site.tree(&at.seen_on)?.meta(node).device
        };
        match (device(source), device(folder)) {
            (Some(from), Some(to)) => from == to,
            _ => true,
        }
    }

    /// Whether a new name can be made in the target folder (`may_create`), by everyone on the way
    /// who has a say.
    pub(super) fn may_create(&mut self) -> Step {
        let ends = self.ends;
        let answer = judge(ends.site, &ends.target.folder, Need::Add);
        self.takes(Some(answer), Reason::TargetUnwritable)
    }

    /// What the filesystem's own operation refuses: another subvolume, another project.
    /// `whole_subvolume` says that a subvolume itself is moved, which goes from one to another.
    pub(super) fn one_tree(&mut self, source: &Route, whole_subvolume: bool) -> Step {
        let ends = self.ends;
        let site = ends.site;
        let kind = MountPlacement::of(site, &ends.target.folder).kind();
        if kind.is_some_and(has_subvolumes) && !whole_subvolume {
            let device = |route: &Route| {
                let (at, node) = route.entry()?;
                site.tree(&at.seen_on)?.meta(node).device
            };
            match (device(source), device(&ends.target.folder)) {
                (Some(from), Some(to)) if from != to => {
                    return Err(Stop::new(
                        Reason::DifferentFilesystem,
                        Errno::CrossDevice,
                        "two subvolumes of one Btrfs filesystem; a reflink copy (cp --reflink) \
                         shares the space all the same",
                    ));
                }
                (Some(_), Some(_)) => {}
                _ => self.doubts("whether both lie in one subvolume was not seen; --prove tells"),
            }
        }
        self.one_project(kind)
    }

    /// Project quota trees: the folder's mark decides, and the moved inode's own number.
    fn one_project(&mut self, kind: Option<&Name>) -> Step {
        let ends = self.ends;
        let Some((_, Some(folder))) = of_folder(ends.site, &ends.target.folder) else {
            let mount = MountPlacement::of(ends.site, &ends.target.folder).mount();
            let quota = |option: &&str| mount.is_some_and(|mount| mount.super_options.has(option));
            let unseen = ends.target_folder().is_some() && kind.is_some_and(|kind| kind == "xfs");
            if unseen && ["prjquota", "pquota"].iter().any(quota) {
                self.doubts(
                    "the filesystem has project quotas, and which project the folder belongs to \
                     was not seen (lsattr -pd tells)",
                );
            }
            return Ok(());
        };
        if !folder.inherits {
            return Ok(());
        }
        // Those get no project of their own there, and are let in without one (`xfs_link`,
        // `xfs_rename`).
        let special = |object: &Object| {
            use EntryKind::{File, Folder, Symlink};
            !matches!(object.meta.kind, File | Folder | Symlink)
        };
        let exempt = kind.is_some_and(|kind| kind == "xfs") && self.object().is_some_and(special);
        match ends.source.project {
            Some(project) if project.id == folder.id || exempt && project.id == 0 => Ok(()),
            Some(project) => Err(Stop::new(
                Reason::DifferentQuotaTree,
                Errno::CrossDevice,
                format!(
                    "the folder takes in nothing but project {} (chattr +P), and the source \
                     belongs to project {}",
                    folder.id, project.id
                ),
            )),
            None => {
                self.doubts(format!(
                    "the folder takes in nothing but project {} (chattr +P), and to which the \
                     source belongs was not seen",
                    folder.id
                ));
                Ok(())
            }
        }
    }

    /// What the filesystem makes of links; whether it can be told at all.
    pub(super) fn links(&mut self) -> Links {
        let standing = MountPlacement::of(self.ends.site, &self.ends.target.folder);
        if let Some(why) = self.beyond(standing, "hard links") {
            self.doubts(why);
            return Links::Unknown;
        }
        match standing.kind() {
            None => Links::Any,
            Some(kind) => {
                let links = links(kind);
                if links == Links::Unknown {
                    self.doubts(format!(
                        "whether {kind} gives a file a second name there, only \
                                         trying tells: --prove does"
                    ));
                }
                links
            }
        }
    }

    /// How the filesystem of the target is called.
    pub(super) fn target_filesystem(&self) -> String {
        let standing = MountPlacement::of(self.ends.site, &self.ends.target.folder);
        standing.kind().map_or_else(|| "the filesystem".to_owned(), ToString::to_string)
    }

    /// Why what lies on the far side of a mount can't be told from here.
    pub(super) fn beyond(&self, standing: MountPlacement, what: &str) -> Option<String> {
        match standing.through() {
            Some(Protocol::Smb) if what == "hard links" => Some(
                "whether an SMB server makes hard links, only trying tells: --prove on the host \
                 that has it mounted"
                    .to_owned(),
            ),
            Some(_) if standing.is_foreign() => Some(format!(
                "the server behind the mount is not in the layout, so whether it allows {what} \
                 there was not seen: --prove tells"
            )),
            _ => None,
        }
    }

    /// The source, if it was seen.
    pub(super) fn object(&self) -> Option<&'a Object<'a>> {
        self.ends.source.object.as_ref()
    }
}
