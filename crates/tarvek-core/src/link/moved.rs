//! `rename(2)`.

use crate::facts::tree::Listing;
use crate::judge::access_check::judge;
use crate::judge::made::judge_within;
use crate::judge::verdict::{Answer, Need};
use crate::kernel::decide::W;
use crate::kernel::object::Object;
use crate::kernel::request::may;
use crate::link::filesystem::{Links, has_subvolumes, links};
use crate::link::link_paths::LinkPaths;
use crate::link::mount_placement::MountPlacement;
use crate::link::steps::{Step, Steps, by_whoever_it_is};
use crate::link::verdict::{Reason, Stop, Verdict};
use crate::route::end::End;
use crate::route::follow_to_name;
use crate::route::hops::Route;
use crate::words::errno::Errno;

/// Whether the source can be moved to the name.
pub fn rename(ends: &LinkPaths) -> Verdict {
    by_whoever_it_is(ends, |ends| {
        let mut steps = Steps::new(ends);
        let fine = if one_file(ends) == Some(true) {
            "both are names of one file already, and nothing would happen"
        } else {
            "one mount and one filesystem, and whoever does it may"
        };
        let came = steps.rename();
        steps.verdict(came, fine.to_owned())
    })
}

/// Whether the source and what has the target name are one inode; `None` if mounts cover it, and
/// what they cover was not seen.
fn one_file(ends: &LinkPaths) -> Option<bool> {
    let (Some(source), Some(target)) = (&ends.source.name, &ends.target.name) else {
        return Some(false);
    };
    if target.end != End::Reached {
        return Some(false);
    }
    let folder = |route: &Route| route.entry().map(|(at, node)| (at.seen_on.clone(), node));
    let names = (source.view_path().name(), target.view_path().name());
    let of_source = folder(&ends.source.folder);
    if of_source.is_some() && of_source == folder(&ends.target.folder) && names.0 == names.1 {
        return Some(true);
    }
    // What is mounted there is not what would be moved.
    let id = |route: &Route| {
        let (at, node) = route.entry()?;
        let (host, node) = match &at.covers {
            _ if !at.attached => (&at.seen_on, node),
            Some((host, node)) => (host, *node),
            None => return None,
        };
        let meta = ends.site.tree(host)?.meta(node);
        Some((host.clone(), meta.is_folder(), meta.device, meta.inode))
    };
    let is_folder = |route: &Route| {
        let (at, node) = route.entry()?;
        Some(ends.site.tree(&at.seen_on)?.meta(node).is_folder())
    };
    match (id(source), id(target)) {
        (Some(one), Some(other)) => Some(one == other && one.2.is_some() && one.3.is_some()),
        // A folder has one name.
        _ if is_folder(source) == Some(true) || is_folder(target) == Some(true) => Some(false),
        _ => None,
    }
}

impl Steps<'_> {
    fn rename(&mut self) -> Step {
        let ends = self.ends;
        let (source, target) = (&ends.source, &ends.target);
        self.comes_to(&source.folder, Reason::SourceUnreachable)?;
        self.comes_to(&target.folder, Reason::TargetUnwritable)?;
        self.one_mount(&source.folder, &target.folder)?;
        if !source.is_name || !target.is_name {
            return Err(Stop::new(
                Reason::Busy,
                Errno::Busy,
                "a path that ends in . or .. or at the root is no name",
            ));
        }
        self.mount_is_writable(&target.folder)?;
        self.folder_is_there()?;
        self.names_fit()?;
        self.not_into_itself()?;
        match one_file(ends) {
            Some(true) => return Ok(()),
            Some(false) => {}
            None => {
                self.doubts(
                    "whether a mount there covers another name of the same file was not seen",
                );
                return Ok(());
            }
        }
        let removed = self.source_may_go();
        let attached = removed.errno() == Some(Errno::Busy);
        self.takes(Some(removed).filter(|_| !attached), Reason::SourceFolderUnwritable)?;
        let covered = self.target_may_be_taken()?;
        self.folder_may_move()?;
        if attached || covered {
            let detail = "something is mounted there, and what is mounted on is not moved";
            return Err(Stop::new(Reason::Busy, Errno::Busy, detail));
        }
        self.filesystem_moves()?;
        self.replaced_is_empty()
    }

    /// Whether what is asked for is a file where a slash stands behind it, and short enough.
    fn names_fit(&mut self) -> Step {
        let ends = self.ends;
        let Some(name) = &ends.source.name else { return Ok(()) };
        if let End::TooLong { .. } = name.end {
            return Err(Stop::new(Reason::SourceUnreachable, Errno::NameTooLong, name.end.words()));
        }
        self.length_is_known();
        if let Some(End::TooLong { .. }) = ends.target.name.as_ref().map(|name| &name.end) {
            let detail = "the new name is longer than a filesystem takes";
            return Err(Stop::new(Reason::TargetUnwritable, Errno::NameTooLong, detail));
        }
        // A slash leads link(2) on to what a symlink points at; rename(2) looks at the symlink
        // itself.
        let slash = name.written.ends_with(b"/");
        let folder = match slash.then(|| self.without_slash(name)) {
            Some(itself) => itself.is_some_and(|object| object.is_folder()),
            None => self.object().is_some_and(|object| object.is_folder()),
        };
        if !folder && (slash || ends.target.slash) {
            let detail = "a slash stands behind a name that is no folder's";
            return Err(Stop::new(Reason::NotAFolder, Errno::NotAFolder, detail));
        }
        Ok(())
    }

    /// What has the name of a route whose path ends in slashes.
    fn without_slash(&self, name: &Route) -> Option<Object<'_>> {
        let end = name.written.iter().rposition(|&byte| byte != b'/').map_or(0, |last| last + 1);
        let site = self.ends.site;
        let itself = follow_to_name(site, &name.view, &name.written[..end], &name.subject);
        let (at, node) = itself.entry()?;
        site.object(&at.seen_on, node)
    }

    fn not_into_itself(&mut self) -> Step {
        let ends = self.ends;
        let Some(name) = &ends.source.name else { return Ok(()) };
        let (source, into) = (name.view_path(), ends.target.folder.view_path());
        let folder = self.object().is_some_and(|object| object.is_folder());
        let above = name.levels.last().map(|level| (&level.view, level.mount));
        let same =
            above == ends.target.folder.levels.last().map(|level| (&level.view, level.mount));
        if folder && same && into.within(source) {
            let detail = "a folder can't be moved into itself";
            return Err(Stop::new(Reason::IsFolder, Errno::Invalid, detail));
        }
        if let Some(target) = &ends.target.name
            && target.end == End::Reached
            && ends.source.folder.view_path().within(target.view_path())
        {
            let detail = "the source lies in what it would replace";
            return Err(Stop::new(Reason::IsFolder, Errno::NotEmpty, detail));
        }
        Ok(())
    }

    /// Whether the source's name may be taken away.
    fn source_may_go(&self) -> Answer {
        let (site, source) = (self.ends.site, &self.ends.source);
        match (&source.name, &source.object) {
            (None, Some(object)) => judge_within(site, &source.folder, object, Need::Remove),
            (None, None) => judge(site, &source.folder, Need::Add),
            (Some(name), _) => judge(site, name, Need::Remove),
        }
    }

    /// Whether the name may be made, or what has it be replaced; and whether something is mounted
    /// there.
    fn target_may_be_taken(&mut self) -> Result<bool, Stop> {
        let ends = self.ends;
        let Some(name) = &ends.target.name else {
            self.may_create()?;
            return Ok(false);
        };
        match &name.end {
            End::Reached => {}
            End::Unseen { .. } => {
                self.may_create()?;
                self.doubts(format!("what {} is was not seen", name.asked));
                return Ok(false);
            }
            _ => {
                self.may_create()?;
                return Ok(false);
            }
        }
        let removed = judge(ends.site, name, Need::Remove);
        let attached = removed.errno() == Some(Errno::Busy);
        self.takes(Some(removed).filter(|_| !attached), Reason::TargetUnwritable)?;
        let is_folder = |route: &Route| {
            let (at, node) = route.entry()?;
            Some(ends.site.tree(&at.seen_on)?.meta(node).is_folder())
        };
        match (self.object().map(|object| object.is_folder()), is_folder(name)) {
            (Some(true), Some(false)) => {
                let detail =
                    format!("{} is no folder, and a folder takes no file's place", name.asked);
                Err(Stop::new(Reason::NotAFolder, Errno::NotAFolder, detail))
            }
            (Some(false), Some(true)) => {
                let detail =
                    format!("{} is a folder, and a file takes no folder's place", name.asked);
                Err(Stop::new(Reason::IsFolder, Errno::IsAFolder, detail))
            }
            _ => Ok(attached),
        }
    }

    /// A folder that gets another parent is written to: its `..` changes.
    fn folder_may_move(&mut self) -> Step {
        let ends = self.ends;
        let Some(object) = self.object().filter(|object| object.is_folder()) else { return Ok(()) };
        let place = |route: &Route| route.entry().map(|(at, node)| (at.seen_on.clone(), node));
        if place(&ends.source.folder) == place(&ends.target.folder) {
            return Ok(());
        }
        let Some(name) = &ends.source.name else { return Ok(()) };
        // Of a mount point it is what the mount covers.
        let last = name.trail.last().filter(|last| last.attached);
        let covered = last.and_then(|last| last.covers.as_ref());
        let covered = covered.and_then(|(host, node)| ends.site.object(host, *node));
        let object = match (last, &covered) {
            (Some(_), None) => return Ok(()),
            (_, covered) => covered.as_ref().unwrap_or(object),
        };
        if may(object, name.arrived(), W).is_ok() {
            return Ok(());
        }
        let detail = format!(
            "{} may not write the folder itself (mode {:04o}), which getting another parent needs",
            name.arrived(),
            object.meta.mode
        );
        Err(Stop::new(Reason::SourceFolderUnwritable, Errno::Access, detail))
    }

    /// What the filesystem's own operation refuses.
    fn filesystem_moves(&mut self) -> Step {
        let ends = self.ends;
        let standing = MountPlacement::of(ends.site, &ends.target.folder);
        let folder = self.object().filter(|object| object.is_folder());
        if let Some(why) = self.beyond(standing, "renaming") {
            self.doubts(why);
        }
        if let Some(kind) = standing.kind()
            && standing.through().is_none()
        {
            if links(kind) == Links::Unknown {
                self.doubts(format!(
                    "whether {kind} moves a name there without copying, only \
                                     trying tells: --prove does"
                ));
            }
            if kind == "overlay"
                && folder.is_some()
                && standing
                    .mount()
                    .is_none_or(|mount| mount.super_options.value("redirect_dir") != Some("on"))
            {
                self.doubts(
                    "a folder of a lower layer of an overlay is not moved (EXDEV) unless it has \
                     redirect_dir=on; in which layer it lies \
                     was not seen",
                );
            }
        }
        let whole_subvolume = folder.is_some_and(|folder| folder.meta.inode == Some(256))
            && standing.kind().is_some_and(has_subvolumes);
        self.one_tree(&ends.source.folder, whole_subvolume)
    }

    /// A folder is replaced only if it is empty.
    fn replaced_is_empty(&mut self) -> Step {
        let ends = self.ends;
        let Some((at, node)) = ends.target.name.as_ref().and_then(|name| name.entry()) else {
            return Ok(());
        };
        let Some(tree) = ends.site.tree(&at.seen_on) else { return Ok(()) };
        if !tree.meta(node).is_folder() {
            return Ok(());
        }
        // An overlay asks first in which layer the other one lies.
        if self.is_in_doubt() {
            return Ok(());
        }
        if tree.children(node).len() > 0 {
            // rename(2) allows both.
            let kind = MountPlacement::of(ends.site, &ends.target.folder).kind();
            let exists = kind.is_some_and(|kind| matches!(kind.raw(), "xfs" | "zfs" | "fuse.zfs"));
            let errno = if exists { Errno::Exists } else { Errno::NotEmpty };
            let detail = "the folder that would be replaced is not empty";
            return Err(Stop::new(Reason::IsFolder, errno, detail));
        }
        if tree.listing(node) != Listing::Complete {
            self.doubts("whether the folder that would be replaced is empty was not seen");
        }
        Ok(())
    }
}
