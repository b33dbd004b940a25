//! The route of a path: from where somebody sees it, through mappings, mounts and shares, to the
//! folder on the host that holds it, with the identity that arrives at each step.
//!
//! There is one builder, [`follow`]; checks, traces, access and forecasts all read what it returns.

pub mod address;
mod arrive;
mod attach;
pub mod attached;
pub mod end;
mod finish;
pub mod hops;
pub mod known_as;
pub mod near_miss;
pub(crate) mod nfs;
pub mod places;
pub mod seen_as;
pub mod smb;
pub(crate) mod source;
mod spot;
mod walk;

use crate::kernel::subject::Subject;
use crate::route::hops::{Route, View};
use crate::route::spot::Last;
use crate::route::walk::Walker;
use crate::site::join::Site;
use crate::words::path::AbsPath;

/// Follows a path from a viewpoint, as a subject.
pub fn follow(site: &Site, view: &View, asked: &AbsPath, subject: &Subject) -> Route {
    follow_written(site, view, asked.as_bytes(), subject)
}

/// As [`follow`], a path as somebody wrote it: `.`, `..` and a final slash mean what they mean to a
/// kernel (`path_resolution(7)`).
pub fn follow_written(site: &Site, view: &View, written: &[u8], subject: &Subject) -> Route {
    Walker::new(site).route(view, written, subject, Last::Followed)
}

/// As [`follow_written`], but a symlink at the very end is not followed: for those who want the
/// name, as `unlink(2)` does.
pub fn follow_to_name(site: &Site, view: &View, written: &[u8], subject: &Subject) -> Route {
    Walker::new(site).route(view, written, subject, Last::Itself)
}

/// The same way as somebody else goes it.
pub fn follow_again(site: &Site, route: &Route, subject: &Subject) -> Route {
    follow_written(site, &route.view, &route.written, subject)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::layout::mapping::MapSource;
    use crate::tests::{Scene, mapping, route_of, route_on};
    use crate::words::terms::{Access, Protocol};

    /// The way in one line: what each hop is, where it ends or why it does not, and who arrives.
    fn summary(route: &Route) -> String {
        let mut kinds: Vec<&str> = route.hops.iter().map(|hop| hop.kind.word()).collect();
        kinds.dedup();
        let absent: String =
            route.not_mounted.iter().map(|absent| format!(", {} not mounted", absent.at)).collect();
        let end = if route.complete() { "there".to_owned() } else { route.end.words() };
        format!("{}: {} as {}, {end}{absent}", kinds.join(" "), route.here(), route.arrived())
    }

    #[test]
    fn a_path_leads_where_the_host_and_its_mappings_take_it() {
        let mut scene = Scene::local();
        scene.tree(
            "granary",
            "l 0777 0:0 /loft/media/near -> films/Low Water (2003)
             l 0777 0:0 /loft/media/up -> films/../films
             l 0777 0:0 /loft/media/inside -> /media/films
             l 0777 0:0 /loft/media/outside -> /loft/media/films
             l 0777 0:0 /loft/media/round -> round
             d 0755 840:840 /srv/lantern/cache",
        );
        let map = scene.service("lantern").map.as_mut().unwrap();
        map.push(mapping("/srv/lantern/cache", "/media/cache", Access::ReadWrite));
        map.push(mapping("/loft/media", "/bin", Access::ReadOnly));
        map.last_mut().unwrap().source = MapSource::Volume("rest".into());
        let site = scene.site();
        for (path, expected) in [
            ("/media/films", "mapping folder: granary:/loft/media/films as 840:840, there"),
            ("/media", "mapping folder: granary:/loft/media as 840:840, there"),
            // The mapping that covers most of a path takes it.
            ("/media/cache", "mapping folder: granary:/srv/lantern/cache as 840:840, there"),
            (
                "/medial",
                "folder: granary:/medial as 840:840, no mapping covers it: it lies in the \
                 service's own storage",
            ),
            ("/media/films/.", "mapping folder: granary:/loft/media/films as 840:840, there"),
            (
                "/media/Films",
                "mapping folder: granary:/loft/media/Films as 840:840, /loft/media has \"films\", \
                 not \"Films\"",
            ),
            (
                "/media/series",
                "mapping folder: granary:/loft/media/series as 840:840, /loft/media has \
                 no \"series\"",
            ),
            (
                "/media/films/Low Water (2003)/Low Water (2003).mkv/x",
                "mapping folder: granary:/loft/media/films/Low Water (2003)/Low Water (2003).mkv \
                 as 840:840, \
                 /loft/media/films/Low Water (2003)/Low Water (2003).mkv is a file, not a folder",
            ),
            // A symlink is followed where it is met: inside, with the paths of inside.
            (
                "/media/near",
                "symlink mapping folder: granary:/loft/media/films/Low Water (2003) as 840:840, \
                 there",
            ),
            ("/media/up", "symlink mapping folder: granary:/loft/media/films as 840:840, there"),
            (
                "/media/inside",
                "symlink mapping folder: granary:/loft/media/films as 840:840, there",
            ),
            (
                "/media/outside",
                "symlink folder: granary:/loft/media/films as 840:840, no mapping covers it: it \
                 lies in the service's own storage",
            ),
            (
                "/media/round",
                "symlink mapping folder: granary:/loft/media/round as 840:840, more than 40 \
                 symlinks: they loop",
            ),
            ("/bin/x", "volume: granary:/bin/x as 840:840, it lies in the engine's volume rest"),
        ] {
            assert_eq!(summary(&route_of(&site, "lantern", path)), expected, "{path}");
        }
        let outside = route_on(&site, "granary", "/loft/media/outside", &Subject::new(7, 7, []));
        assert_eq!(summary(&outside), "symlink folder: granary:/loft/media/films as 7:7, there");
        let name =
            follow_to_name(&site, &View::host("granary"), &outside.written, &outside.subject);
        assert_eq!(summary(&name), "folder: granary:/loft/media/outside as 7:7, there");
    }

    #[test]
    fn a_path_leads_over_the_network_as_whoever_arrives_there() {
        for (protocol, arrives) in [(Protocol::Nfs, "840:840"), (Protocol::Smb, "840:840")] {
            let site = Scene::over(protocol).site();
            let whole = format!(
                "mapping mount share folder: granary:/loft/media/films as {arrives}, there"
            );
            assert_eq!(summary(&route_of(&site, "lantern", "/media/films")), whole);
        }
        // Root is nobody over NFS; over SMB everyone is the user of the mount.
        for (protocol, arrives) in [(Protocol::Nfs, "65534:65534"), (Protocol::Smb, "840:840")] {
            let site = Scene::over(protocol).site();
            let root = route_on(&site, "millrace", "/mnt/media/films", &Subject::new(0, 0, []));
            let whole =
                format!("mount share folder: granary:/loft/media/films as {arrives}, there");
            assert_eq!(summary(&root), whole);
        }
        // Without the mount it is the folder beneath, and that is said.
        let mut scene = Scene::over(Protocol::Nfs);
        scene.facts("millrace").mounts =
            Some(crate::tests::mounts("1 0 8:1 / / ext4 /dev/sda1 rw"));
        assert_eq!(
            summary(&route_of(&scene.site(), "lantern", "/media/films")),
            "mapping mount dataset folder: millrace:/mnt/media/films as 840:840, /mnt/media has \
             no \"films\", millrace:/mnt/media not mounted"
        );
        // What nobody looked at is as it is declared, and unknown beyond.
        let mut scene = Scene::over(Protocol::Nfs);
        scene.unseen("granary").unread("millrace", "/mnt/media");
        assert_eq!(
            summary(&route_of(&scene.site(), "lantern", "/media/films")),
            "mapping mount share folder: granary:/loft/media/films as 840:840, there"
        );
    }

    #[test]
    fn a_bind_shows_what_its_source_was_whatever_was_mounted_there_since() {
        let mut scene = Scene::local();
        scene.tree(
            "granary",
            "d 0755 0:0 /srv/bound\nd 0755 0:0 /srv/bound/films\nd 0755 0:0 /srv/bound/music",
        );
        let table = |root: &str| {
            let table = format!(
                "1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 8:2 / /loft ext4 /dev/sdb1 rw\n3 1 8:2 {root} \
                 /srv/bound ext4 /dev/sdb1 rw\n\
                 4 2 8:3 / /loft/media/films ext4 /dev/sdc1 rw"
            );
            Some(crate::tests::mounts(&table))
        };
        let asked = |scene: &Scene, path: &str| {
            let site = scene.site();
            let route = route_on(&site, "granary", path, &Subject::new(0, 0, []));
            let note =
                route.hops.iter().find(|hop| hop.kind.word() == "mount").unwrap().note.clone();
            format!("{}: {note}", route.here())
        };
        scene.facts("granary").mounts = table("/media");
        let plain = "granary:/loft/media/music: bind of /loft/media at /srv/bound";
        assert_eq!(asked(&scene, "/srv/bound/music"), plain);
        let covered = "granary:/srv/bound/films: bind of /loft/media at /srv/bound, of which this \
                       part is covered by another mount in its \
                       own place";
        assert_eq!(asked(&scene, "/srv/bound/films"), covered);
        scene.facts("granary").mounts = table("/old//deleted");
        let gone =
            "granary:/srv/bound/music: bind at /srv/bound of a folder that was removed since";
        assert_eq!(asked(&scene, "/srv/bound/music"), gone);
    }
}
