//! `link(2)`.

use crate::facts::mounts::MountEntry;
use crate::kernel::decide::{R, W};
use crate::kernel::entry::EntryKind;
use crate::kernel::object::Object;
use crate::kernel::request::{Denied, may};
use crate::kernel::subject::Subject;
use crate::link::filesystem::{Links, links_for_owners_only};
use crate::link::link_paths::LinkPaths;
use crate::link::mount_placement::MountPlacement;
use crate::link::steps::{Step, Steps, by_whoever_it_is};
use crate::link::verdict::{Reason, Stop, Verdict};
use crate::route::end::End;
use crate::route::hops::Route;
use crate::site::join::Site;
use crate::words::errno::Errno;
use crate::words::name::Name;
use crate::words::terms::Protocol;

/// Whether the source can be given the name.
pub fn hardlink(ends: &LinkPaths) -> Verdict {
    by_whoever_it_is(ends, |ends| {
        let mut steps = Steps::new(ends);
        let came = steps.hardlink();
        let fine = "one mount and one filesystem, and whoever does it may".to_owned();
        steps.verdict(came, fine)
    })
}

impl Steps<'_> {
    fn hardlink(&mut self) -> Step {
        let ends = self.ends;
        let source = ends.source.route();
        self.comes_to(source, Reason::SourceUnreachable)?;
        self.comes_to(&ends.target.folder, Reason::TargetUnwritable)?;
        self.folder_is_there()?;
        self.name_is_free()?;
        self.mount_is_writable(&ends.target.folder)?;
        self.one_mount(source, &ends.target.folder)?;
        self.protected(source)?;
        self.may_create()?;
        let links = self.file_takes_names()?;
        self.owner_does_it(source)?;
        // Which of the two a filesystem asks first, its own code says.
        let most = match links {
            Links::UpTo(most) => most,
            _ => u32::MAX,
        };
        let many = self.object().is_some_and(|object| object.meta.links >= most);
        let too_many = || {
            let detail = format!("the file has {most} names, and the filesystem takes no more");
            Stop::new(Reason::TooManyLinks, Errno::TooManyLinks, detail)
        };
        if many && most != 65_535 {
            return Err(too_many());
        }
        self.one_tree(source, false)?;
        if many { Err(too_many()) } else { Ok(()) }
    }

    fn name_is_free(&mut self) -> Step {
        let target = &self.ends.target;
        let exists = |detail: String| Err(Stop::new(Reason::TargetExists, Errno::Exists, detail));
        if !target.is_name {
            return exists("the target path ends in no name".to_owned());
        }
        let Some(name) = &target.name else { return Ok(()) };
        self.length_is_known();
        match &name.end {
            End::Reached => exists(format!("{} is there already", name.asked)),
            End::Missing(_) if target.slash => Err(Stop::new(
                Reason::NotAFolder,
                Errno::NoEntry,
                format!("{} is not there, and a file's name has no slash behind it", name.asked),
            )),
            End::TooLong { .. } => {
                Err(Stop::new(Reason::TargetUnwritable, Errno::NameTooLong, name.end.words()))
            }
            End::Unseen { .. } if target.folder.entry().is_some() => {
                self.doubts(format!("whether {} is there already was not seen", name.asked));
                Ok(())
            }
            _ => Ok(()),
        }
    }

    /// `may_linkat` in `fs/namei.c`: `fs.protected_hardlinks` (proc_sys_fs(5)).
    fn protected(&mut self, source: &Route) -> Step {
        let Some(object) = self.object() else { return Ok(()) };
        let meta = &object.meta;
        let there = source.arrived();
        if there.bars_change(meta.uid, meta.gid) {
            return Err(Stop::new(
                Reason::SourceProtected,
                Errno::Overflow,
                "the idmapped mount does not map its owner or group, so nobody can link it",
            ));
        }
        // An SMB client shows owners of its own; what comes of a link there only the server tells.
        if MountPlacement::of(self.ends.site, source).through() == Some(Protocol::Smb) {
            return Ok(());
        }
        let here = at_the_client(source);
        let owns =
            here.uid == meta.uid || here.capabilities.fowner && here.rules_over_owner(meta.uid);
        if owns {
            return Ok(());
        }
        // It has to be readable and writable, and writing is refused there (`safe_hardlink_source`).
        let is_kept = source.layers.iter().any(|layer| !layer.is_of_mount())
            && MountPlacement::of(self.ends.site, source).through().is_none();
        let kept = is_kept.then(|| "it lies in a read-only subvolume".to_owned());
        let of_program = source.trail.last().and_then(|last| last.mount_in(self.ends.site));
        let of_program = of_program.is_some_and(MountEntry::leaves_access_to_its_program);
        let Some(why) = unsafe_source(object, there, of_program).or(kept) else {
            if let Some(doubt) = &there.doubt {
                self.doubts(&**doubt);
            }
            return Ok(());
        };
        let host = source.view.machine(self.ends.site);
        match protected_hardlinks(self.ends.site, &host) {
            Some(0) => Ok(()),
            Some(_) if object.is_folder() => Err(is_folder()),
            Some(_) => {
                let detail = format!(
                    "fs.protected_hardlinks is on, {here} does not own the source (uid {}), and \
                     {why}",
                    meta.uid
                );
                Err(Stop::new(Reason::SourceProtected, Errno::Permission, detail))
            }
            None => {
                self.doubts(format!(
                    "whether fs.protected_hardlinks refuses it was not seen on {host} (sysctl \
                     fs.protected_hardlinks tells): {here} \
                     does not own the source (uid {}), and {why}",
                    meta.uid
                ));
                Ok(())
            }
        }
    }

    /// What some filesystems ask for by themselves.
    fn owner_does_it(&mut self, source: &Route) -> Step {
        let kind = MountPlacement::of(self.ends.site, &self.ends.target.folder).kind();
        let who = source.arrived();
        let Some(object) = self.object().filter(|_| kind.is_some_and(links_for_owners_only)) else {
            return Ok(());
        };
        if who.uid == object.meta.uid || who.uid == 0 {
            return Ok(());
        }
        let detail = format!(
            "this filesystem gives further names to the owner only, and {who} does not own the \
             source (uid {})",
            object.meta.uid
        );
        Err(Stop::new(Reason::SourceProtected, Errno::Permission, detail))
    }

    /// What the file itself refuses (`vfs_link`), and how many names its filesystem takes.
    fn file_takes_names(&mut self) -> Result<Links, Stop> {
        if let Some(object) = self.object() {
            let flags = object.meta.flags.unwrap_or_default();
            if flags.immutable || flags.append {
                let which = if flags.immutable {
                    "immutable (chattr +i)"
                } else {
                    "append-only (chattr +a)"
                };
                let detail = format!("the source is {which}, and takes no further name");
                return Err(Stop::new(Reason::Flagged, Errno::Permission, detail));
            }
            if object.is_folder() {
                return Err(is_folder());
            }
        }
        let links = self.links();
        if links == Links::None {
            return Err(Stop::new(
                Reason::UnsupportedFilesystem,
                Errno::Permission,
                format!("{} has no hard links", self.target_filesystem()),
            ));
        }
        Ok(links)
    }
}

fn is_folder() -> Stop {
    let detail = "the source is a folder, and only files have further names";
    Stop::new(Reason::IsFolder, Errno::Permission, detail)
}

/// Who acts where paths are resolved, before any server makes somebody else of them.
fn at_the_client(route: &Route) -> &Subject {
    let own = route.levels.iter().take_while(|level| level.through.is_none());
    own.last().map_or(&route.subject, |level| &level.subject)
}

/// Why linking a source that is not one's own is taken to be dangerous (`safe_hardlink_source` in
/// `fs/namei.c`); `None` if it is not.
fn unsafe_source(object: &Object, subject: &Subject, any_mode: bool) -> Option<String> {
    let mode = object.meta.mode;
    if object.meta.kind != EntryKind::File {
        return Some(format!("it is a {}", object.meta.kind.word()));
    }
    if mode & 0o4000 != 0 {
        return Some("it is setuid".to_owned());
    }
    if mode & 0o2010 == 0o2010 {
        return Some("it is setgid and executable".to_owned());
    }
    match may(object, subject, R | W) {
        _ if any_mode => None,
        // That a file may only grow is asked when it is opened, and not here.
        Ok(_) | Err(Denied::Append) => None,
        Err(_) => Some(format!("may not both read and write it (mode {mode:04o})")),
    }
}

/// `fs.protected_hardlinks` of the kernel under which a host runs: a system container has that of
/// the host around it.
pub(crate) fn protected_hardlinks(site: &Site, host: &Name) -> Option<i64> {
    let mut host = host.clone();
    for _ in 0..site.layout.hosts.len() + 2 {
        let told = site.facts(&host).and_then(|facts| facts.told.sysctl("fs.protected_hardlinks"));
        if told.is_some() {
            return told;
        }
        let around = site.layout.host(&host).and_then(|host| host.inside.clone());
        host = around.or_else(|| site.runs_on(&host).cloned())?;
    }
    None
}

#[cfg(test)]
mod tests {
    use crate::kernel::subject::Subject;
    use crate::layout::mapping::MapSource;
    use crate::link::hard::hardlink;
    use crate::link::link_paths::LinkPaths;
    use crate::link::moved::rename;
    use crate::route::hops::View;
    use crate::site::join::Site;
    use crate::tests::{Scene, mapping, mounts};
    use crate::words::terms::{Access, Protocol};

    /// `link+ok rename-different-mount/EXDEV`.
    fn summary(site: &Site, view: &View, who: &Subject, from: &str, to: &str) -> String {
        let ends = LinkPaths::of(site, view, who, from.as_bytes(), to.as_bytes());
        let one = |deed: &str, verdict: crate::link::verdict::Verdict| {
            let sign = match verdict.possible {
                Some(true) => "+",
                Some(false) => "-",
                None => "?",
            };
            let errno = verdict.errno.map(|errno| format!("/{errno}")).unwrap_or_default();
            format!("{deed}{sign}{}{errno}", verdict.reason.word())
        };
        format!("{} {}", one("link", hardlink(&ends)), one("rename", rename(&ends)))
    }

    const FILM: &str = "/media/films/Low Water (2003)/Low Water (2003).mkv";

    /// lantern's share, which it may write, with fs.protected_hardlinks on at the client.
    fn over(protocol: Protocol) -> Scene {
        let mut scene = Scene::over(protocol);
        let source = if protocol == Protocol::Smb {
            "cifs //granary.lan/media rw,uid=840"
        } else {
            "nfs4 granary.lan:/loft/media rw"
        };
        let table = format!("1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 0:9 / /mnt/media {source}");
        scene.facts("millrace").mounts = Some(mounts(&table));
        scene.facts("granary").mounts =
            Some(mounts("1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 0:50 / /loft/media zfs loft/media rw"));
        scene.facts("millrace").told.sysctls.push(("fs.protected_hardlinks".to_owned(), 1));
        let share = &mut scene.layout.shares[0];
        share.nfs.iter_mut().for_each(|export| export.access = Access::ReadWrite);
        share.smb.iter_mut().for_each(|offer| offer.writable = true);
        scene.layout.mounts[0].options =
            crate::words::options::MountOptions::read("rw,nofail,uid=840");
        scene.service("lantern").map =
            Some(vec![mapping("/mnt/media", "/media", Access::ReadWrite)]);
        scene.tree(
            "granary",
            "d 0777 0:0 /loft/media/films/new\nd 0777 0:0 /loft/media/films/Low Water (2003)",
        );
        scene
    }

    #[test]
    fn over_nfs_the_client_asks_who_owns_and_the_server_who_may() {
        let view = View::service("lantern");
        let ask = |scene: &mut Scene, who: &Subject| {
            summary(&scene.site(), &view, who, FILM, "/media/films/new")
        };
        let (lantern, mira, root) =
            (Subject::new(840, 840, []), Subject::new(1101, 1101, []), Subject::new(0, 0, []));
        let mut scene = over(Protocol::Nfs);
        assert_eq!(ask(&mut scene, &lantern), "link-source-protected/EPERM rename+ok");
        assert_eq!(ask(&mut scene, &mira), "link+ok rename+ok");
        // Root passes at the client, where it is root; what it may do on the server is what nobody
        // may there.
        assert_eq!(ask(&mut scene, &root), "link+ok rename+ok");
        scene.tree("granary", "d 0755 1101:1101 /loft/media/films/new");
        assert_eq!(
            ask(&mut scene, &root),
            "link-target-unwritable/EACCES rename-target-unwritable/EACCES"
        );
        assert_eq!(ask(&mut scene, &mira), "link+ok rename+ok");
        // A read-only export answers as a read-only mount does.
        scene.layout.shares[0].nfs[0].access = Access::ReadOnly;
        assert_eq!(ask(&mut scene, &mira), "link-read-only/EROFS rename-read-only/EROFS");
        // Two exports of one dataset are two mounts; two datasets are two filesystems.
        scene.layout.shares[0].nfs[0].access = Access::ReadWrite;
        let map = mapping("/mnt/media/films", "/films", Access::ReadWrite);
        scene.service("lantern").map.as_mut().unwrap().push(map);
        let other = summary(&scene.site(), &view, &mira, FILM, "/films/new");
        assert_eq!(other, "link-different-mount/EXDEV rename-different-mount/EXDEV");
    }

    #[test]
    fn what_only_the_server_knows_is_unknown() {
        let view = View::service("lantern");
        let lantern = Subject::new(840, 840, []);
        let smb = over(Protocol::Smb).site();
        let ends = summary(&smb, &view, &lantern, FILM, "/media/films/new");
        assert!(ends.starts_with("link?unknown "), "{ends}");
        let mut foreign = over(Protocol::Nfs);
        foreign.layout.shares.clear();
        foreign.layout.mounts.clear();
        foreign.tree(
            "millrace",
            &format!(
                "f 0666 840:840 /mnt{FILM}\nd 0777 0:0 /mnt/media/films/Low Water (2003)\nd \
                      0777 0:0 /mnt/media/films/new"
            ),
        );
        foreign.facts("millrace").mounts = Some(mounts(
            "1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 0:9 / /mnt/media nfs4 elsewhere.lan:/x rw",
        ));
        assert_eq!(
            summary(&foreign.site(), &view, &lantern, FILM, "/media/films/new"),
            "link?unknown rename?unknown"
        );
    }

    #[test]
    fn a_service_sees_a_mount_per_mapping_and_its_own_storage() {
        let mut scene = Scene::local().with_intake();
        scene.tree("granary", "f 0664 842:2100 /loft/media/intake/done/a.mkv");
        let view = View::service("joiner");
        let joiner = Subject::new(842, 2100, []);
        let ask = |scene: &mut Scene, to: &str| {
            summary(&scene.site(), &view, &joiner, "/data/intake/done/a.mkv", to)
        };
        assert_eq!(ask(&mut scene, "/data/films"), "link+ok rename+ok");
        // Outside of every mapping lies what the service keeps for itself.
        assert_eq!(
            ask(&mut scene, "/tmp/x"),
            "link-different-filesystem/EXDEV rename-different-filesystem/EXDEV"
        );
        let volume = mapping("/x", "/kept", Access::ReadWrite);
        scene.service("joiner").map.as_mut().unwrap().push(volume);
        scene.service("joiner").map.as_mut().unwrap()[1].source = MapSource::Volume("kept".into());
        assert!(
            ask(&mut scene, "/kept").starts_with("link-different-"),
            "{}",
            ask(&mut scene, "/kept")
        );
        // Below a read-only mapping engines differ about what is mounted there.
        scene.service("joiner").map.as_mut().unwrap()[0].access = Access::ReadOnly;
        assert_eq!(ask(&mut scene, "/data/films"), "link-read-only/EROFS rename-read-only/EROFS");
        scene.facts("granary").mounts = Some(mounts(
            "1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 8:2 / /loft xfs /dev/sdb1 rw\n3 2 8:3 / \
             /loft/media/intake xfs /dev/sdc1 rw",
        ));
        let below = summary(
            &scene.site(),
            &view,
            &joiner,
            "/data/intake/done/a.mkv",
            "/data/intake/partial",
        );
        assert_eq!(below, "link?unknown rename?unknown");
    }
}
