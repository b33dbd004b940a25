//! Remedies are promises: of every rule, what it advises is carried out to the letter on a small
//! site. Then the rule is silent, no other fires that did not before, and nobody has lost anything
//! that was not said.

use std::collections::BTreeSet;

use crate::facts::configured::{Configured, ExportFact, Fact, Flaw, MappingFact, ServiceFact};
use crate::facts::host::Document;
use crate::facts::host_report::{Beneath, Capacity, Listening, Property};
use crate::facts::media::Media;
use crate::facts::mounts::FstabEntry;
use crate::judge::everyone::everyone;
use crate::judge::verdict::Need;
use crate::kernel::acl::{Acl, AclEntry, Tag};
use crate::kernel::entry::{EntryKind, Project};
use crate::kernel::subject::{IdMap, IdRange};
use crate::layout::folder::{Folder, Right};
use crate::layout::intake::Want;
use crate::layout::mount::MountSource;
use crate::layout::service::{GroupRef, Library, RunAs, Translation, UserNs};
use crate::rules::registry;
use crate::tests::{Scene, abs, account, declared, folder, group, mapping, mounts, share};
use crate::words::finding::Finding;
use crate::words::offer::Squash;
use crate::words::options::MountOptions;
use crate::words::place::Place;
use crate::words::remedy::Step;
use crate::words::spot::Spot;
use crate::words::terms::{Access, Kind, Label, Protocol};

/// A rule, a site on which it fires, and what a person makes of those parts of its remedy that are
/// words.
struct Promise {
    rule: &'static str,
    scene: fn() -> Scene,
    by_hand: fn(&mut Scene),
}

fn nothing(_: &mut Scene) {}

/// For changes that hand the scene back.
fn done(_: &mut Scene) {}

fn local(change: impl Fn(&mut Scene)) -> Scene {
    let mut scene = Scene::local();
    change(&mut scene);
    scene
}

fn over(protocol: Protocol, change: impl Fn(&mut Scene)) -> Scene {
    let mut scene = Scene::over(protocol);
    change(&mut scene);
    scene
}

fn intake(change: impl Fn(&mut Scene)) -> Scene {
    let mut scene = Scene::local().with_intake();
    change(&mut scene);
    scene
}

const COPY: &str = "/loft/media/films/Low Water (2003)/Low Water (2003) - Copy.mkv";

/// A site with an intake, and the film once more: the survey knows that both hold the same bytes.
fn equal_files(other: &str) -> Scene {
    intake(|scene| {
        done(scene.tree("granary", &format!("f 0664 1101:2100 {other}")).equal_to_the_film(other));
    })
}

/// A file of the keepers among the films.
fn named(path: &str) -> Scene {
    local(|scene| done(scene.tree("granary", &format!("f 0664 1101:2100 {FILMS}/{path}"))))
}

fn renamed(scene: &mut Scene, old: &str, new: &str) {
    scene.without("granary", &format!("{FILMS}/{old}"));
    scene.tree("granary", &format!("f 0664 1101:2100 {FILMS}/{new}"));
}

fn shifted() -> UserNs {
    UserNs::Ranges(IdMap::both(vec![IdRange { inside: 0, outside: 100_000, count: 1000 }]))
}

const FILMS: &str = "/loft/media/films";
const FILM: &str = "/loft/media/films/Low Water (2003)/Low Water (2003).mkv";

fn promises() -> Vec<Promise> {
    let promise = |rule, scene, by_hand| Promise { rule, scene, by_hand };
    vec![
        promise(
            "layout/unknown-reference",
            || {
                local(|scene| {
                    scene
                        .layout
                        .folders
                        .push(Folder { group: Some("keeper".into()), ..folder(FILMS, &[]) })
                })
            },
            |scene| scene.layout.folders[0].group = Some("keepers".into()),
        ),
        promise(
            "layout/scattered-kinds",
            || {
                local(|scene| {
                    scene.tree("granary", "f 0644 0:0 /attic/music/A/B/01 C.flac");
                    let music = mapping("/attic/music", "/music", Access::ReadOnly);
                    scene.service("lantern").map.as_mut().unwrap().push(music);
                    let films = scene.service("lantern").libraries[0].clone();
                    let roots = vec![declared("/music")];
                    let music = Library { name: "Music".into(), kind: Kind::Music, roots, ..films };
                    scene.service("lantern").libraries.push(music);
                })
            },
            |scene| {
                scene.tree("granary", "f 0644 0:0 /loft/media/music/A/B/01 C.flac");
                scene.service("lantern").libraries[1].roots = vec![declared("/media/music")];
            },
        ),
        promise(
            "layout/outside-share",
            || local(|scene| scene.layout.shares.push(share("attic", "/attic"))),
            |scene| scene.layout.shares[0] = share("loft", "/loft"),
        ),
        promise(
            "layout/on-system-disk",
            || {
                local(|scene| {
                    scene.facts("granary").mounts = Some(mounts(
                        "1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 8:2 / /tank xfs /dev/sdb1 rw",
                    ));
                })
            },
            |scene| {
                scene.tree(
                    "granary",
                    "f 0664 1101:2100 /tank/films/Low Water (2003)/Low Water (2003).mkv",
                );
                let tank = mapping("/tank", "/media", Access::ReadOnly);
                scene.service("lantern").map = Some(vec![tank]);
            },
        ),
        promise(
            "layout/config-in-media",
            || {
                local(|scene| {
                    scene.layout.shares.push(share("media", "/loft/media"));
                    scene.service("lantern").config = Some(abs("/loft/media/.lantern"));
                    scene.service("lantern").backup = Some("rill".into());
                    scene.tree("granary", "d 0750 840:840 /loft/media/.lantern");
                })
            },
            |scene| {
                scene.tree("granary", "d 0750 840:840 /srv/lantern");
                scene.service("lantern").config = Some(abs("/srv/lantern"));
            },
        ),
        promise(
            "layout/no-backup",
            || local(|scene| scene.service("lantern").config_volume = Some("kept".into())),
            |scene| scene.service("lantern").backup = Some("rill".into()),
        ),
        promise(
            "layout/differs-from-host",
            || local(|scene| scene.facts("granary").groups[1].gid = 7),
            |scene| scene.host("granary").groups[0].gid = 7,
        ),
        promise("dataset/access-times", || Scene::with_dataset(&[], &[("atime", "on")]), nothing),
        promise(
            "dataset/record-size",
            || Scene::with_dataset(&[], &[("recordsize", "128K")]),
            nothing,
        ),
        promise(
            "dataset/acl-lost-on-chmod",
            || Scene::with_dataset(&[("acltype", "nfsv4")], &[("aclmode", "discard")]),
            nothing,
        ),
        promise(
            "dataset/case-insensitive-mix",
            || Scene::with_dataset(&[("casesensitivity", "insensitive")], &[]),
            |scene| scene.host("granary").datasets[0].properties.clear(),
        ),
        promise(
            "dataset/nearly-full",
            || {
                local(|scene| {
                    let (used, available) = (96 << 30, 4 << 30);
                    scene.facts("granary").told.capacities =
                        vec![Capacity { point: abs("/loft"), used, available }];
                })
            },
            |scene| scene.facts("granary").told.capacities[0].available = 96 << 30,
        ),
        promise(
            "path/wrong-translation",
            || {
                intake(|scene| {
                    let (from, to) = (declared("/data/intake/done"), declared("/data/films"));
                    let translation = Translation { service: "drover".into(), from, to };
                    scene.service("joiner").translate.push(translation);
                })
            },
            nothing,
        ),
        promise("path/missing", || local(|scene| done(scene.root("/media/flims"))), nothing),
        promise("path/case", || local(|scene| done(scene.root("/media/Films"))), nothing),
        promise(
            "path/not-a-folder",
            || {
                local(|scene| {
                    done(scene.root("/media/films/Low Water (2003)/Low Water (2003).mkv"))
                })
            },
            nothing,
        ),
        promise("path/uncovered", || local(|scene| done(scene.root("/loft/media/films"))), nothing),
        promise("path/not-absolute", || local(|scene| done(scene.root("media/films"))), nothing),
        promise(
            "path/shadowed",
            || {
                local(|scene| {
                    scene.tree("granary", "f 0644 0:0 /srv/old/A (2001)/A (2001).mkv");
                    let inner = mapping("/srv/old", "/media/films", Access::ReadOnly);
                    scene.service("lantern").map.as_mut().unwrap().push(inner);
                })
            },
            |scene| scene.service("lantern").map.as_mut().unwrap().truncate(1),
        ),
        promise(
            "mount/not-mounted",
            || {
                over(Protocol::Nfs, |scene| {
                    scene.facts("millrace").mounts = Some(mounts("1 0 8:1 / / ext4 /dev/sda1 rw"));
                })
            },
            nothing,
        ),
        promise(
            "mount/wrong-source",
            || {
                over(Protocol::Smb, |scene| {
                    let table = "1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 0:9 / /mnt/media cifs \
                                 //granary.lan/old ro,uid=840";
                    scene.facts("millrace").mounts = Some(mounts(table));
                })
            },
            nothing,
        ),
        promise(
            "mount/boot-hang",
            || {
                over(Protocol::Nfs, |scene| {
                    scene.layout.mounts[0].options = MountOptions::read("ro");
                })
            },
            |scene| {
                scene.layout.mounts[0].options =
                    MountOptions::read("ro,nofail,_netdev,x-systemd.automount")
            },
        ),
        promise(
            "mount/soft-writes",
            || {
                over(Protocol::Nfs, |scene| {
                    scene.layout.mounts[0].options = MountOptions::read("rw,soft,nofail");
                })
            },
            |scene| scene.layout.mounts[0].options = MountOptions::read("rw,hard,nofail"),
        ),
        promise(
            "mount/old-protocol",
            || {
                over(Protocol::Smb, |scene| {
                    scene.layout.mounts[0].options =
                        MountOptions::read("ro,nofail,uid=840,vers=1.0");
                })
            },
            |scene| {
                scene.layout.mounts[0].options = MountOptions::read("ro,nofail,uid=840,vers=3.1.1")
            },
        ),
        promise(
            "mount/wider-than-needed",
            || {
                over(Protocol::Nfs, |scene| {
                    scene.layout.mounts[0].options = MountOptions::read("rw,nofail");
                })
            },
            |scene| scene.layout.mounts[0].options = MountOptions::read("rw,nofail,ro"),
        ),
        promise(
            "mount/inline-password",
            || {
                over(Protocol::Smb, |scene| {
                    scene.layout.mounts[0].options =
                        MountOptions::read("ro,nofail,uid=840,password=hedge");
                })
            },
            |scene| scene.layout.mounts[0].options = MountOptions::read("ro,nofail,uid=840"),
        ),
        promise(
            "mount/by-address",
            || {
                over(Protocol::Nfs, |scene| {
                    scene.layout.mounts[0].from =
                        MountSource::Literal("10.9.9.9:/loft/media".into());
                    scene.facts("millrace").mounts = None;
                })
            },
            |scene| {
                scene.layout.mounts[0].from = MountSource::Literal("granary.lan:/loft/media".into())
            },
        ),
        promise(
            "mount/no-share-named",
            || {
                over(Protocol::Smb, |scene| {
                    scene.layout.mounts[0].from = MountSource::Literal("//granary.lan".into());
                    scene.facts("millrace").mounts = None;
                })
            },
            |scene| scene.layout.mounts[0].from = MountSource::Share("media".into()),
        ),
        promise(
            "mount/open-credentials",
            || {
                over(Protocol::Smb, |scene| {
                    scene.layout.mounts[0].credentials = Some(abs("/etc/granary.cred"));
                    scene.tree("millrace", "f 0644 0:0 /etc/granary.cred");
                })
            },
            nothing,
        ),
        promise(
            "mount/client-ids",
            || {
                over(Protocol::Smb, |scene| {
                    let table = "1 0 8:1 / / ext4 /dev/sda1 rw\n\
                                 2 1 0:9 / /mnt/media cifs //granary.lan/media \
                                 ro,uid=0,gid=0,dir_mode=0700";
                    scene.facts("millrace").mounts = Some(mounts(table));
                })
            },
            |scene| {
                let table = "1 0 8:1 / / ext4 /dev/sda1 rw\n\
                             2 1 0:9 / /mnt/media cifs //granary.lan/media \
                             ro,uid=840,gid=840,dir_mode=0700";
                scene.facts("millrace").mounts = Some(mounts(table));
            },
        ),
        promise(
            "mount/service-before-mount",
            || over(Protocol::Nfs, nothing),
            |scene| {
                scene.service("lantern").map.as_mut().unwrap()[0].propagation =
                    Some("rslave".into());
            },
        ),
        promise(
            "share/not-offered",
            || {
                over(Protocol::Nfs, |scene| {
                    scene.layout.shares[0].nfs[0].clients = "10.99.0.0/16".into()
                })
            },
            |scene| {
                let mut export = scene.layout.shares[0].nfs[0].clone();
                export.clients = "millrace".into();
                scene.layout.shares[0].nfs.push(export);
            },
        ),
        promise(
            "share/recycle-kept",
            || {
                over(Protocol::Smb, |scene| {
                    scene.layout.shares[0].smb.as_mut().unwrap().recycle = true;
                    scene.tree("granary", "f 0644 0:0 /loft/media/.recycle/A (2001).mkv");
                })
            },
            |scene| done(scene.without("granary", "/loft/media/.recycle/A (2001).mkv")),
        ),
        promise(
            "mount/files-beneath",
            || {
                over(Protocol::Nfs, |scene| {
                    scene.facts("millrace").told.beneath = vec![Beneath {
                        point: abs("/mnt/media"),
                        entries: 2,
                        bytes: 1 << 30,
                        more: false,
                    }];
                })
            },
            |scene| scene.facts("millrace").told.beneath.clear(),
        ),
        promise(
            "mount/not-permanent",
            || {
                over(Protocol::Nfs, |scene| {
                    scene.facts("millrace").documents = vec![Document::new("units", b"")];
                })
            },
            |scene| {
                scene.facts("millrace").fstab = vec![FstabEntry {
                    source: "granary.lan:/loft/media".into(),
                    point: abs("/mnt/media"),
                    filesystem: "nfs".into(),
                    options: MountOptions::read("ro,nofail"),
                }];
            },
        ),
        promise(
            "path/link-escapes",
            || {
                local(|scene| {
                    done(scene.tree("granary", "l 0777 0:0 /loft/media/films/Old -> /attic/films"))
                })
            },
            |scene| done(scene.without("granary", "/loft/media/films/Old")),
        ),
        promise(
            "path/dangling-link",
            || {
                local(|scene| {
                    done(scene.tree("granary", "l 0777 0:0 /loft/media/films/Old -> gone"))
                })
            },
            |scene| done(scene.without("granary", "/loft/media/films/Old")),
        ),
        promise(
            "layout/not-applied",
            || {
                local(|scene| {
                    let spot = Spot { file: "/proc/7/status".into(), line: 1 };
                    let service = ServiceFact {
                        name: "lantern".into(),
                        uid: Some(0),
                        gid: Some(0),
                        ..ServiceFact::default()
                    };
                    let map = MappingFact {
                        service: "lantern".into(),
                        from: b"/loft/media".to_vec(),
                        to: b"/media".to_vec(),
                        access: Access::ReadOnly,
                        label: None,
                        propagation: None,
                        idmap: false,
                    };
                    let facts = [Fact::Service(service), Fact::Mapping(map)];
                    let found = facts.map(|fact| Configured { fact, spot: spot.clone() });
                    scene.facts("granary").told.configured.facts = found.to_vec();
                })
            },
            |scene| {
                let Fact::Service(service) =
                    &mut scene.facts("granary").told.configured.facts[0].fact
                else {
                    return;
                };
                (service.uid, service.gid) = (Some(840), Some(840));
            },
        ),
        promise(
            "share/any-client",
            || {
                over(Protocol::Nfs, |scene| {
                    scene.layout.shares[0].nfs[0].access = Access::ReadWrite
                })
            },
            |scene| scene.layout.shares[0].nfs[0].clients = "millrace.lan".into(),
        ),
        promise(
            "share/root-trusted",
            || over(Protocol::Nfs, |scene| scene.layout.shares[0].nfs[0].squash = Squash::None),
            |scene| scene.layout.shares[0].nfs[0].squash = Squash::Root,
        ),
        promise(
            "share/guests-read",
            || {
                over(Protocol::Smb, |scene| {
                    scene.layout.shares[0].smb.as_mut().unwrap().guests = true
                })
            },
            |scene| scene.layout.shares[0].smb.as_mut().unwrap().guests = false,
        ),
        promise(
            "share/everyone-writes",
            || {
                over(Protocol::Smb, |scene| {
                    scene.layout.shares[0].smb.as_mut().unwrap().writable = true
                })
            },
            |scene| {
                let offer = scene.layout.shares[0].smb.as_mut().unwrap();
                offer.writable = false;
                offer.write = vec!["@keepers".into()];
            },
        ),
        promise(
            "share/nested",
            || {
                over(Protocol::Nfs, |scene| {
                    scene.layout.shares.push(share("films", "/loft/media/films"));
                    scene.layout.shares[1].smb = None;
                    scene.layout.shares[1].nfs[0].clients = "10.20.0.0/24".into();
                })
            },
            |scene| scene.layout.shares[1].nfs[0].clients = "*".into(),
        ),
        promise(
            "share/read-only",
            || {
                let mut scene = Scene::over(Protocol::Nfs).with_intake();
                scene.layout.mounts[0].options = MountOptions::read("rw,nofail");
                scene.facts("millrace").mounts = None;
                scene.service("joiner").host = "millrace".into();
                let data = mapping("/mnt/media", "/data", Access::ReadWrite);
                scene.service("joiner").map = Some(vec![data]);
                scene.layout.shares[0].nfs[0].clients = "millrace.lan".into();
                scene
            },
            |scene| scene.layout.shares[0].nfs[0].access = Access::ReadWrite,
        ),
        promise(
            "share/stray-space",
            || {
                over(Protocol::Nfs, |scene| {
                    let export = share("media", "/loft/media").nfs.remove(0);
                    let path = b"/loft/media".to_vec();
                    let fact = ExportFact { path, export, stray_space: Some("millrace".into()) };
                    let spot = Spot { file: "/etc/exports".into(), line: 3 };
                    let found = Configured { fact: Fact::Export(fact), spot };
                    scene.facts("granary").told.configured.facts = vec![found];
                })
            },
            |scene| scene.facts("granary").told.configured.facts.clear(),
        ),
        promise(
            "share/file-refused",
            || {
                local(|scene| {
                    let spot = Spot { file: "/etc/exports".into(), line: 4 };
                    let flaw = Flaw::Refused { by: "exportfs", why: "a stray bracket".into() };
                    scene.facts("granary").told.configured.flaws = vec![(spot, flaw)];
                })
            },
            |scene| scene.facts("granary").told.configured.flaws.clear(),
        ),
        promise(
            "port/taken-twice",
            || {
                intake(|scene| {
                    scene.service("lantern").ports = vec!["7080".into()];
                    scene.service("joiner").ports = vec!["7080".into()];
                })
            },
            |scene| scene.service("joiner").ports = vec!["7081".into()],
        ),
        promise(
            "port/in-use",
            || {
                local(|scene| {
                    scene.service("lantern").ports = vec!["7080".into()];
                    scene.facts("granary").told.listening = vec![Listening {
                        protocol: "tcp".into(),
                        address: None,
                        number: 7080,
                        program: Some("weaver".into()),
                    }];
                })
            },
            |scene| scene.service("lantern").ports = vec!["7081".into()],
        ),
        promise(
            "label/missing",
            || local(|scene| scene.host("granary").selinux = Some(true)),
            |scene| scene.service("lantern").map.as_mut().unwrap()[0].label = Some(Label::Shared),
        ),
        promise(
            "label/private-but-shared",
            || {
                intake(|scene| {
                    scene.service("joiner").map.as_mut().unwrap()[0].label = Some(Label::Private)
                })
            },
            |scene| scene.service("joiner").map.as_mut().unwrap()[0].label = Some(Label::Shared),
        ),
        promise(
            "label/network-mount",
            || {
                over(Protocol::Nfs, |scene| {
                    scene.service("lantern").map.as_mut().unwrap()[0].label = Some(Label::Shared)
                })
            },
            |scene| scene.service("lantern").map.as_mut().unwrap()[0].label = None,
        ),
        promise(
            "share/child-dataset-hidden",
            || {
                over(Protocol::Nfs, |scene| {
                    scene.facts("granary").mounts = Some(mounts(
                        "1 0 0:1 / / zfs root rw\n2 1 0:2 / /loft/media zfs loft/media rw\n\
                         3 2 0:3 / /loft/media/films zfs loft/media/films rw",
                    ));
                })
            },
            |scene| scene.layout.shares[0].nfs[0].crossmnt = true,
        ),
        promise(
            "identity/unknown-account",
            || {
                over(Protocol::Nfs, |scene| {
                    scene.service("lantern").runs_as = RunAs::Numbers(900, Some(901))
                })
            },
            |scene| scene.host("granary").accounts.push(account("lantern2", 900, &[])),
        ),
        promise(
            "identity/number-mismatch",
            || {
                over(Protocol::Nfs, |scene| {
                    scene.facts("millrace").accounts = vec![account("lantern", 999, &[])]
                })
            },
            nothing,
        ),
        promise(
            "identity/runs-as-root",
            || local(|scene| scene.service("lantern").runs_as = RunAs::Numbers(0, Some(0))),
            |scene| scene.service("lantern").runs_as = RunAs::Numbers(840, Some(840)),
        ),
        promise(
            "identity/run-as-unset",
            || local(|scene| scene.service("lantern").runs_as = RunAs::Unset),
            |scene| scene.service("lantern").runs_as = RunAs::Numbers(840, Some(840)),
        ),
        promise(
            "identity/shifted",
            || {
                local(|scene| {
                    scene.tree("granary", "d 0750 840:840 /loft/media/films");
                    scene.service("lantern").userns = Some(shifted());
                })
            },
            |scene| scene.service("lantern").map.as_mut().unwrap()[0].idmap = true,
        ),
        promise(
            "identity/squashed",
            || over(Protocol::Nfs, |scene| scene.layout.shares[0].nfs[0].squash = Squash::All),
            |scene| scene.layout.shares[0].nfs[0].squash = Squash::Root,
        ),
        promise(
            "identity/too-many-groups",
            || {
                over(Protocol::Nfs, |scene| {
                    scene.tree("granary", "d 0750 1101:2100 /loft/media/films");
                    scene.service("lantern").groups =
                        (1..17).chain([2100]).map(GroupRef::Gid).collect();
                })
            },
            |scene| scene.host("granary").manage_gids = true,
        ),
        promise(
            "identity/shared-account",
            || intake(|scene| scene.service("lantern").runs_as = RunAs::Numbers(841, None)),
            |scene| scene.service("lantern").runs_as = RunAs::Numbers(840, Some(840)),
        ),
        promise(
            "access/root-unreadable",
            || local(|scene| done(scene.tree("granary", "d 2770 1101:2100 /loft/media/films"))),
            nothing,
        ),
        promise(
            "access/entries-unreadable",
            || local(|scene| done(scene.tree("granary", &format!("f 0660 1101:2100 {FILM}")))),
            nothing,
        ),
        promise(
            "access/cannot-add",
            || intake(|scene| done(scene.tree("granary", "d 2755 1101:2100 /loft/media/films"))),
            nothing,
        ),
        promise(
            "access/cannot-remove",
            || {
                intake(|scene| {
                    done(scene.tree("granary", "d 3770 1101:2100 /loft/media/intake/done"))
                })
            },
            nothing,
        ),
        promise(
            "access/more-than-needed",
            || {
                local(|scene| {
                    scene.tree("granary", "d 2775 840:2100 /loft/media/films");
                    scene.service("lantern").map.as_mut().unwrap()[0].access = Access::ReadWrite;
                })
            },
            |scene| scene.service("lantern").map.as_mut().unwrap()[0].access = Access::ReadOnly,
        ),
        promise(
            "access/world-writable",
            || {
                local(|scene| {
                    done(scene.tree(
                        "granary",
                        "d 0777 0:0 /loft/media/films/in\nf 0666 0:0 /loft/media/films/in/x",
                    ))
                })
            },
            nothing,
        ),
        promise(
            "access/not-inherited",
            || intake(|scene| scene.service("joiner").umask = Some(0o027)),
            |scene| scene.service("joiner").umask = Some(0o022),
        ),
        promise(
            "access/not-as-declared",
            || {
                local(|scene| {
                    scene.facts("granary").accounts.push(account("guest", 1200, &["keepers"]));
                    scene.layout.folders.push(folder(FILMS, &[("guest", Right::None)]));
                })
            },
            nothing,
        ),
        promise(
            "access/moved-stays-private",
            || intake(|scene| scene.service("drover").umask = Some(0o027)),
            |scene| scene.service("drover").umask = Some(0o022),
        ),
        promise(
            "access/per-user-grants",
            || {
                local(|scene| {
                    let people = [account("oskar", 1102, &[]), account("ines", 1103, &[])];
                    scene.facts("granary").accounts.extend(people);
                    let base =
                        [(Tag::UserObj, 7), (Tag::GroupObj, 5), (Tag::Mask, 7), (Tag::Other, 5)];
                    let users = [1101, 1102, 1103].map(|uid| (Tag::User(uid), 7));
                    let all =
                        base.into_iter().chain(users).map(|(tag, perm)| AclEntry { tag, perm });
                    scene.acl("granary", "/loft/media/films", Acl::new(all.collect()));
                })
            },
            |scene| {
                let facts = scene.facts("granary");
                facts.groups.push(group("club", 3000));
                facts.accounts.retain(|account| {
                    !["mira", "oskar", "ines"].iter().any(|name| account.name == **name)
                });
                let people = [("mira", 1101), ("oskar", 1102), ("ines", 1103)];
                facts
                    .accounts
                    .extend(people.map(|(name, uid)| account(name, uid, &["keepers", "club"])));
                let base = [
                    (Tag::UserObj, 7),
                    (Tag::GroupObj, 5),
                    (Tag::Group(3000), 7),
                    (Tag::Mask, 7),
                    (Tag::Other, 5),
                ];
                let all = base.into_iter().map(|(tag, perm)| AclEntry { tag, perm });
                scene.acl("granary", "/loft/media/films", Acl::new(all.collect()));
            },
        ),
        promise(
            "access/orphaned-owner",
            || local(|scene| done(scene.tree("granary", "f 0644 1004:2100 /loft/media/films/a"))),
            |scene| done(scene.tree("granary", "f 0644 1101:2100 /loft/media/films/a")),
        ),
        promise(
            "link/different-filesystem",
            || {
                intake(|scene| {
                    scene.facts("granary").mounts = Some(mounts(
                        "1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 8:2 / /loft xfs /dev/sdb1 rw\n\
                         3 2 8:3 / /loft/media/intake ext4 /dev/sdc1 rw",
                    ));
                    let fstab = |source: &str, point: &str| FstabEntry {
                        source: source.into(),
                        point: abs(point),
                        filesystem: "ext4".into(),
                        options: MountOptions::read("defaults"),
                    };
                    scene.facts("granary").fstab =
                        vec![fstab("/dev/sdb1", "/loft"), fstab("/dev/sdc1", "/loft/media/intake")];
                })
            },
            |scene| {
                let facts = scene.facts("granary");
                facts.fstab.pop();
                facts.mounts =
                    Some(mounts("1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 8:2 / /loft xfs /dev/sdb1 rw"));
            },
        ),
        promise(
            "link/different-mount",
            || intake(|scene| done(scene.two_mappings())),
            |scene| {
                scene.service("joiner").map.as_mut().unwrap().truncate(1);
            },
        ),
        promise(
            "link/different-quota-tree",
            || {
                intake(|scene| {
                    let project = Project { id: 7, inherits: true };
                    done(scene.project("granary", "/loft/media/films", project))
                })
            },
            nothing,
        ),
        promise(
            "link/unsupported",
            || {
                intake(|scene| {
                    scene.facts("granary").mounts = Some(mounts(
                        "1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 8:2 / /loft exfat /dev/sdb1 rw",
                    ));
                })
            },
            |scene| scene.layout.intakes[0].want = Want::Rename,
        ),
        promise(
            "link/source-protected",
            || {
                intake(|scene| {
                    let on = ("fs.protected_hardlinks".to_owned(), 1);
                    scene.facts("granary").told.sysctls.push(on);
                    scene.service("drover").umask = Some(0o022);
                    scene.tree("granary", "f 0644 841:2100 /loft/media/intake/done/a.mkv");
                })
            },
            |scene| scene.service("drover").umask = Some(0o002),
        ),
        promise(
            "link/target-unwritable",
            || intake(|scene| done(scene.tree("granary", "d 2755 1101:2100 /loft/media/films"))),
            // It is cleared with what brings it about.
            |scene| done(scene.tree("granary", "d 2775 1101:2100 /loft/media/films")),
        ),
        promise(
            "link/partial-elsewhere",
            || {
                intake(|scene| {
                    scene.tree("granary", "d 2770 841:2100 /loft/media/intake/partial");
                    let mut own =
                        mapping("/loft/media/intake/partial", "/partial", Access::ReadWrite);
                    own.origin.line = 12;
                    own.to.origin.line = 12;
                    scene.service("drover").map.as_mut().unwrap().push(own);
                    let fetch = scene.layout.intakes[0].fetch.as_mut().unwrap();
                    fetch.partial.as_mut().unwrap().path = abs("/partial");
                })
            },
            |scene| scene.service("drover").map.as_mut().unwrap().truncate(1),
        ),
        promise(
            "link/path-disagreement",
            || {
                intake(|scene| {
                    scene.service("drover").map =
                        Some(vec![mapping("/loft/media/intake", "/downloads", Access::ReadWrite)]);
                    let fetch = scene.layout.intakes[0].fetch.as_mut().unwrap();
                    fetch.partial = None;
                    fetch.done.path = abs("/downloads/done");
                })
            },
            |scene| {
                let (from, to) = (declared("/downloads/done"), declared("/data/intake/done"));
                let translation = Translation { service: "drover".into(), from, to };
                scene.service("joiner").translate.push(translation);
            },
        ),
        promise(
            "link/category-mismatch",
            || {
                intake(|scene| {
                    let way = &mut scene.layout.intakes[0];
                    way.fetch.as_mut().unwrap().category = Some("Films".to_owned());
                    way.sort.as_mut().unwrap().category = Some("films".to_owned());
                })
            },
            |scene| {
                let sort = scene.layout.intakes[0].sort.as_mut().unwrap();
                sort.category = Some("Films".to_owned());
            },
        ),
        promise(
            "link/copied-imports",
            || {
                intake(|scene| {
                    let waiting = "/loft/media/intake/done/low.water.2003.mkv";
                    scene.tree("granary", &format!("f 0664 841:2100 {waiting}"));
                    for (path, inode) in [(FILM, 10), (waiting, 11)] {
                        scene.change("granary", path, |meta| {
                            (meta.device, meta.inode, meta.size) = (Some(1), Some(inode), 3 << 20);
                        });
                    }
                })
            },
            |scene| {
                let inode = Some(11);
                done(scene.change("granary", FILM, |meta| meta.inode = inode));
            },
        ),
        promise(
            "library/inside-intake",
            || {
                intake(|scene| {
                    scene.root("/media");
                    scene.tree(
                        "granary",
                        "d 2770 841:2100 /loft/new\nd 2770 841:2100 /loft/new/done",
                    );
                    scene.tree("granary", "d 2770 841:2100 /loft/new/partial");
                })
            },
            |scene| {
                scene.without("granary", "/loft/media/intake");
                for name in ["drover", "joiner"] {
                    scene.service(name).map =
                        Some(vec![mapping("/loft", "/data", Access::ReadWrite)]);
                }
                let way = &mut scene.layout.intakes[0];
                let fetch = way.fetch.as_mut().unwrap();
                fetch.partial.as_mut().unwrap().path = abs("/data/new/partial");
                fetch.done.path = abs("/data/new/done");
                let sort = way.sort.as_mut().unwrap();
                sort.reads.path = abs("/data/new/done");
                sort.files_into.path = abs("/data/media/films");
            },
        ),
        promise(
            "library/nothing-found",
            || {
                local(|scene| {
                    done(scene.tree("granary", "d 0755 0:0 /loft/media/attic").root("/media/attic"))
                })
            },
            nothing,
        ),
        promise(
            "library/overlap",
            || {
                local(|scene| {
                    let films = scene.service("lantern").libraries[0].clone();
                    let more = Library { name: "More".into(), ..films };
                    scene.service("lantern").libraries.push(more);
                })
            },
            |scene| drop(scene.service("lantern").libraries.pop()),
        ),
        promise(
            "library/too-deep",
            || local(|scene| done(scene.root("/media/films/Low Water (2003)"))),
            nothing,
        ),
        promise(
            "library/too-high",
            || {
                local(|scene| {
                    scene.tree(
                        "granary",
                        "f 0644 0:0 /loft/media/music/Low Tide Choir/Ebb/01 A.flac",
                    );
                    done(scene.root("/media"))
                })
            },
            nothing,
        ),
        promise(
            "library/mixed-kinds",
            || named("Ferry Nine/Ferry Nine S01E02.mkv"),
            |scene| done(scene.without("granary", "/loft/media/films/Ferry Nine")),
        ),
        promise(
            "library/loose-files",
            || named("Ebb (1999).mkv"),
            |scene| renamed(scene, "Ebb (1999).mkv", "Ebb (1999)/Ebb (1999).mkv"),
        ),
        promise(
            "library/unrecognised-names",
            || named("1080p/VID_0001.mp4"),
            |scene| renamed(scene, "1080p", "Ebb (1999)/Ebb (1999).mp4"),
        ),
        promise(
            "library/same-title-twice",
            || named("low.water.2003/a.mkv"),
            |scene| renamed(scene, "low.water.2003", "Low Water (2003)/a.mkv"),
        ),
        promise(
            "name/case-collision",
            || named("LOW WATER (2003)/Ebb.nfo"),
            |scene| renamed(scene, "LOW WATER (2003)", "Low Water (2003)/Ebb.nfo"),
        ),
        promise(
            "name/unicode-twins",
            || {
                let mut scene = named("\u{d6}l (1999)/a.mkv");
                scene.tree("granary", &format!("d 0755 1101:2100 {FILMS}/O\u{308}l (1999)"));
                scene
            },
            |scene| done(scene.without("granary", &format!("{FILMS}/O\u{308}l (1999)"))),
        ),
        promise(
            "name/not-share-safe",
            || named("Low Water (2003)/Why?.nfo"),
            |scene| renamed(scene, "Low Water (2003)/Why?.nfo", "Low Water (2003)/Why.nfo"),
        ),
        promise(
            "name/too-long",
            || named(&format!("Low Water (2003)/{}/a.nfo", "x".repeat(250))),
            |scene| {
                let long = format!("Low Water (2003)/{}", "x".repeat(250));
                renamed(scene, &long, "Low Water (2003)/x/a.nfo");
            },
        ),
        promise(
            "name/not-utf8",
            || {
                local(|scene| {
                    let folder = "/loft/media/films/Low Water (2003)";
                    done(scene.file_of_bytes("granary", folder, b"Stra\xdfe.nfo"))
                })
            },
            |scene| {
                let old = abs("/loft/media/films/Low Water (2003)").child(b"Stra\xdfe.nfo");
                scene.without_path("granary", &old);
                scene.tree(
                    "granary",
                    "f 0644 0:0 /loft/media/films/Low Water (2003)/Stra\u{df}e.nfo",
                );
            },
        ),
        promise(
            "name/unseen-characters",
            || named("Low Water (2003)/E\u{200b}bb.nfo"),
            |scene| renamed(scene, "Low Water (2003)/E\u{200b}bb.nfo", "Low Water (2003)/Ebb.nfo"),
        ),
        promise(
            "survey/none",
            || {
                over(Protocol::Nfs, |scene| {
                    done(scene.unseen("granary").unread("millrace", "/mnt/media"))
                })
            },
            |scene| done(scene.tree("granary", &format!("f 0664 1101:2100 {FILM}"))),
        ),
        promise("space/copies", || equal_files(COPY), |scene| done(scene.without("granary", COPY))),
        promise(
            "space/unlinked",
            || equal_files("/loft/media/intake/done/low.water.2003.mkv"),
            |scene| {
                for path in [FILM, "/loft/media/intake/done/low.water.2003.mkv"] {
                    scene.change("granary", path, |meta| (meta.inode, meta.links) = (Some(10), 2));
                }
            },
        ),
        promise(
            "space/versions",
            || {
                let smaller = "/loft/media/films/Low Water (2003)/Low Water (2003) 576p.mkv";
                let mut scene = equal_files(smaller);
                let (large, small) = (scene.node("granary", FILM), scene.node("granary", smaller));
                let facts = scene.facts("granary");
                facts.digests.clear();
                for (node, height) in [(large, 1080), (small, 576)] {
                    let (millis, width) = (Some(6_000_000), Some(height * 16 / 9));
                    let (video, height) = (Some("hevc".to_owned()), Some(height));
                    let media =
                        Media { millis, width, height, video, tracks: 1, ..Media::default() };
                    facts.media.insert(node, Some(media));
                }
                scene
            },
            |scene| {
                scene.facts("granary").media.clear();
                let smaller = "/loft/media/films/Low Water (2003)/Low Water (2003) 576p.mkv";
                done(scene.without("granary", smaller));
            },
        ),
        promise(
            "space/leftovers",
            || {
                local(|scene| {
                    let debris = "/loft/media/films/Low Water (2003)/Thumbs.db";
                    done(scene.tree("granary", &format!("f 0664 1101:2100 {debris}")));
                })
            },
            |scene| {
                done(scene.without("granary", "/loft/media/films/Low Water (2003)/Thumbs.db"));
            },
        ),
        promise(
            "space/hollow",
            || {
                local(|scene| {
                    let poster = "/loft/media/films/High Water (2004)/poster.jpg";
                    done(scene.tree("granary", &format!("f 0664 1101:2100 {poster}")));
                })
            },
            |scene| done(scene.without("granary", "/loft/media/films/High Water (2004)")),
        ),
        promise(
            "space/held-by-snapshots",
            || {
                let mut scene = equal_files(COPY);
                let facts = scene.facts("granary");
                facts.mounts = Some(mounts(
                    "1 0 8:1 / / ext4 /dev/sda1 rw\n2 1 0:9 / /loft/media zfs loft/media rw",
                ));
                let (dataset, name) = ("loft/media".into(), "usedbysnapshots".to_owned());
                facts.told.properties.push(Property { dataset, name, value: "12G".into() });
                scene
            },
            |scene| {
                scene.without("granary", COPY);
                scene.facts("granary").told.properties[0].value = "0B".into();
            },
        ),
        promise(
            "survey/not-seen",
            || local(|scene| done(scene.unread("granary", "/loft/media/films/Low Water (2003)"))),
            |scene| done(scene.read("granary")),
        ),
        promise(
            "survey/too-old",
            || local(|scene| scene.facts("granary").taken = -10),
            |scene| scene.facts("granary").taken = 0,
        ),
        promise(
            "survey/partial",
            || local(|scene| scene.facts("granary").complete = false),
            |scene| scene.facts("granary").complete = true,
        ),
        promise(
            "survey/no-acls",
            || {
                local(|scene| {
                    let lacks = ("acl".to_owned(), "there is no getfacl".into());
                    scene.facts("granary").told.lacking.push(lacks);
                })
            },
            |scene| scene.facts("granary").told.lacking.clear(),
        ),
    ]
}

fn findings(scene: &Scene) -> Vec<Finding> {
    let mut site = scene.site();
    // One age is too old; every other survey is of now.
    site.max_age = Some(5);
    let cases = crate::used::used_path::used_paths(&site);
    registry::find(&site, &cases)
}

fn ids(findings: &[Finding]) -> BTreeSet<&'static str> {
    findings.iter().map(|finding| finding.rule.id).collect()
}

/// Who may do what with which entry.
fn rights(scene: &Scene) -> BTreeSet<(String, String, &'static str)> {
    let site = scene.site();
    let mut all = BTreeSet::new();
    for (host, facts) in site.observed() {
        let tree = &facts.tree;
        for node in tree.below(crate::facts::tree::Tree::ROOT) {
            if tree.meta(node).kind == EntryKind::Symlink {
                continue;
            }
            let place = Place::new(host, tree.path(node));
            for party in everyone(&site, &place, true) {
                let needs = [Need::Read, Need::Write];
                for answer in party.may(&site, &needs).unwrap_or_default() {
                    if answer.is_allowed() {
                        all.insert((party.name.clone(), place.to_string(), answer.need.to()));
                    }
                }
            }
        }
    }
    all
}

#[test]
fn every_rule_keeps_what_its_remedy_promises() {
    let promises = promises();
    let known: BTreeSet<&str> = registry::rules().map(|rule| rule.id).collect();
    assert_eq!(promises.iter().map(|promise| promise.rule).collect::<BTreeSet<_>>(), known);
    for Promise { rule, scene, by_hand } in promises {
        let mut scene = scene();
        let before = findings(&scene);
        let told: Vec<Finding> = before.iter().filter(|f| f.rule.id == rule).cloned().collect();
        assert!(!told.is_empty(), "{rule} does not fire: {:?}", ids(&before));
        let had = rights(&scene);
        let mut said: Vec<String> = Vec::new();
        for finding in &told {
            assert!(!finding.remedy.steps.is_empty(), "{rule} offers nothing");
            said.extend(finding.remedy.effects.iter().cloned());
            for step in &finding.remedy.steps {
                match step {
                    Step::Run { on, run } => {
                        let words: Vec<String> = run
                            .words()
                            .iter()
                            .map(|word| String::from_utf8(word.clone()).unwrap())
                            .collect();
                        scene.run(on.raw(), &words.iter().map(String::as_str).collect::<Vec<_>>());
                    }
                    Step::Edit(edit) => {
                        assert!(scene.layout.edit(edit).is_some(), "{rule}: {step}");
                    }
                    Step::Do { .. } => {}
                }
            }
        }
        by_hand(&mut scene);
        let after = findings(&scene);
        let text: Vec<String> = told.iter().map(|finding| finding.remedy.to_string()).collect();
        assert!(
            !ids(&after).contains(rule),
            "{rule} still fires after {text:?}: {:#?}",
            after.iter().filter(|f| f.rule.id == rule).collect::<Vec<_>>()
        );
        let new: Vec<_> = ids(&after).difference(&ids(&before)).copied().collect();
        assert!(new.is_empty(), "{rule}: {text:?} makes {new:?} fire");
        // What is put elsewhere, or is another's from now on, is meant to be.
        let moved = [
            "layout/",
            "path/",
            "mount/",
            "identity/",
            "survey/",
            "share/",
            "label/",
            "name/",
            "library/mixed-kinds",
            "library/loose-files",
            "library/unrecognised-names",
            "library/same-title-twice",
            "library/inside-intake",
            "space/",
        ];
        if moved.iter().any(|family| rule.starts_with(family)) {
            continue;
        }
        for (who, place, what) in had.difference(&rights(&scene)) {
            let name =
                who.rsplit(':').next().unwrap_or_default().split('@').next().unwrap_or_default();
            // What was declared, or is itself what the rule is about, has been said.
            let meant = text.iter().chain(&said).any(|text| text.contains(name))
                || rule == "access/world-writable";
            assert!(meant, "{rule}: {who} can no longer {what} {place}: {text:?}, {said:?}");
        }
    }
}
